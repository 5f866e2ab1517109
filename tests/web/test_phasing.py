"""Phasing by hand, the stand-in's page, and the angle at power-up, over TCP and through the pages."""

import math
import time

import pytest
from django.contrib.auth.models import User

from cadrel.core.identification import Contradiction
from cadrel.core.simulation import SimulatedDrive
from cadrel.link import RefusedByDrive
from cadrel.web.changes.values import save_entries
from cadrel.web.jobs.models import Job
from cadrel.web.jobs.recording import run_job
from cadrel.web.projects.models import Axis
from cadrel.web.rig import actions, phasing
from cadrel.web.runs.models import Finding, Run
from tests.web.conftest import again, client_of, text_of

pytestmark = pytest.mark.django_db(transaction=True)


def settle(drive: SimulatedDrive, seconds: float) -> None:
    """Let the stand-in's clock go on."""
    end = drive.time + seconds
    while drive.time < end:
        time.sleep(0.01)


def hold(
    axis_: Axis, who: User, drive: SimulatedDrive, *, by_deg: float, seconds: float, least_current: float = 0.0
) -> None:
    """Hold a step button as the page does, and until so much current flows: a busy machine lets go of it meanwhile."""
    target, end = None, drive.time + seconds
    while drive.time < end or drive.running.state.vec_current < least_current:
        assert drive.time < end + 60.0, "there is no current, however long it is held"
        drive.watched(["a page"])
        by = None if target is not None else math.radians(by_deg)
        target = phasing.hold_vector(axis_, who=who, way=0, by=by, target=target, share=0.8, speed=1.0)
        time.sleep(0.02)


def test_the_vector_turns_only_while_it_is_held(led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]) -> None:
    drive = bench[1]
    phasing.enable_vector(again(led), who=engineer)
    hold(again(led), engineer, drive, by_deg=30, seconds=0.6, least_current=0.5)
    settle(drive, 0.3)  # nobody renews it
    assert drive.running.state.vec_current == 0.0
    angle = drive.running.state.vec_angle
    settle(drive, 0.2)
    assert drive.running.state.vec_angle == angle


def test_an_offset_by_hand_is_taken_from_readings_of_both_sides(
    led: Axis,
    engineer: User,
    bench: tuple[int, SimulatedDrive],
) -> None:
    drive = bench[1]
    with pytest.raises(Contradiction, match="Too few"):
        phasing.take_offset(again(led), [], who=engineer)
    notes = []
    phasing.enable_vector(again(led), who=engineer)
    for by in (360.0, 90.0, 90.0, -90.0, -90.0):
        hold(again(led), engineer, drive, by_deg=by, seconds=abs(by) / 360 + 0.8)
        notes.append(phasing.reading(again(led)))
    text = phasing.take_offset(again(led), notes[1:], who=engineer)
    assert "4 readings" in text
    truth = drive.truth
    found = drive.memory.working["commutation.offset"]
    true = truth.pole_pairs * truth.index_angle
    assert abs(math.degrees(math.remainder(found - true, math.tau))) < 12  # by hand, with friction
    finding = again(led).findings.get(kind="commutation")
    assert finding.state == "measured"  # not proven: nothing confirmed it
    assert drive.memory.working["commutation.valid"] == 0.0  # and nothing is closed on it
    page = text_of(client_of(engineer).get(f"/axis/{led.pk}/commutation/"))
    assert "The offset is not confirmed here" in page


def test_inverting_the_direction_says_so_and_reaches_the_drive(
    led: Axis,
    engineer: User,
    bench: tuple[int, SimulatedDrive],
) -> None:
    assert "inverted" in phasing.invert_direction(again(led), who=engineer)
    assert bench[1].memory.working["feedback.direction"] == 1.0


def test_an_emptied_end_stop_is_none_and_reads_so(led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]) -> None:
    client = client_of(engineer)
    client.post(f"/axis/{led.pk}/do/rewire/", {"stop_low": "-40", "stop_high": ""})
    assert (bench[1].truth.stop_low, bench[1].truth.stop_high) == (-40, 1e9)
    page = text_of(client.get(f"/axis/{led.pk}/stand-in/"))
    assert 'name="stop_low" value="-40"' in page
    assert 'name="stop_high" value="" inputmode="decimal" autocomplete="off" placeholder="none"' in page


def test_the_stand_ins_page_rewires_and_refuses_what_cannot_be(
    led: Axis,
    engineer: User,
    bench: tuple[int, SimulatedDrive],
) -> None:
    client = client_of(engineer)
    page = text_of(client.get(f"/axis/{led.pk}/stand-in/"))
    assert "Two motor phases swapped" in page
    assert "Sine and cosine swapped" not in page  # it has none
    client.post(f"/axis/{led.pk}/do/rewire/", {"fault": ["hall_dead"], "coulomb_load": "0.2"})
    assert bench[1].rig.faults == ("hall_dead",)
    assert bench[1].truth.coulomb_load == 0.2
    client.post(f"/axis/{led.pk}/do/rewire/", {"coulomb_load": "-5"})
    assert bench[1].truth.coulomb_load == 0.2


def test_a_fault_ends_the_check_with_its_name_and_nothing_is_valid(
    led: Axis,
    engineer: User,
    bench: tuple[int, SimulatedDrive],
) -> None:
    bench[1].rewire({}, ["phases_swapped"])
    actions.take_control(again(led), who=engineer)
    job = actions.queue_job(again(led), "commutation", who=engineer, consented=True, unattended=True)
    run_job(job.pk)
    job.refresh_from_db()
    assert (job.state, "counts fell" in job.happened) == ("refused", True), job.happened
    assert bench[1].memory.working["commutation.valid"] == 0.0
    kept = again(led).runs.get(kind="refused")  # what was measured stays, with the reason
    assert (kept.metrics["codes"], "counts fell" in kept.notes) == (["direction"], True)
    assert "vector_angle" in kept.channels
    sheet = text_of(client_of(engineer).get(f"/axis/{led.pk}/commutation/"))
    assert f"What was recorded, run {kept.number}" in sheet
    text = text_of(client_of(engineer).get(f"/axis/{led.pk}/run/{kept.number}/"))
    assert "Refused: turning the vector" in text


def test_exchanging_phases_undoes_a_swap_of_wires_and_takes_validity_back(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]
) -> None:
    save_entries(led, {"commutation.valid": {"value": "1", "source": "typed"}}, author=engineer, cause="test")
    bench[1].rewire({}, ["phases_swapped"])
    actions.take_control(again(led), who=engineer)
    assert "exchanged" in phasing.exchange_phases(again(led), who=engineer)
    working = bench[1].memory.working
    assert (working["motor.phase_order"], working["commutation.valid"]) == (1.0, 0.0)
    assert again(led).values["commutation.valid"]["value"] == "0"
    job = actions.queue_job(again(led), "commutation", who=engineer, consented=True, unattended=True)
    run_job(job.pk)
    job.refresh_from_db()
    assert job.state == "done", job.happened


def test_halls_that_show_no_state_do_not_keep_the_check_from_naming_them(
    led: Axis,
    engineer: User,
    bench: tuple[int, SimulatedDrive],
) -> None:
    bench[1].rewire({}, ["hall_inverted"])
    actions.take_control(again(led), who=engineer)
    job = actions.queue_job(again(led), "commutation", who=engineer, consented=True, unattended=True)
    run_job(job.pk)
    job.refresh_from_db()
    assert "Hall 3 is inverted" in job.happened


def test_the_angle_at_power_up_is_not_searched_where_the_device_tells_it(led: Axis, engineer: User) -> None:
    job = actions.queue_job(again(led), "power_up", who=engineer, consented=True, unattended=True)
    run_job(job.pk)
    job.refresh_from_db()
    assert job.state == "refused"
    assert "tells the angle" in job.happened


def test_changed_feedback_data_makes_the_offset_stale(led: Axis, engineer: User) -> None:
    job = actions.queue_job(again(led), "commutation", who=engineer, consented=True, unattended=True)
    run_job(job.pk)
    assert again(led).findings.filter(step="commutation").exclude(state="stale").count() >= 3
    save_entries(
        again(led), {"feedback.lines": {"value": 2048, "source": "typed"}}, author=engineer, cause="another encoder"
    )
    assert not again(led).findings.filter(step="commutation").exclude(state="stale").exists()


def test_a_vector_by_hand_needs_control_and_no_run(led: Axis, engineer: User) -> None:
    observer = User.objects.create_user("vera", password="a-long-password")
    client = client_of(observer)
    assert client.post(f"/axis/{led.pk}/vector/", {"way": "1"}).status_code == 403
    client = client_of(engineer)
    assert client.post(f"/axis/{led.pk}/vector/", {"way": "1", "share": "0.5"}).status_code == 409  # not enabled
    assert client.post(f"/axis/{led.pk}/vector/", {"way": "x"}).status_code == 422
    with pytest.raises(RefusedByDrive):
        phasing.hold_vector(again(led), who=engineer, way=1, share=1, speed=1)


def test_current_and_power_up_are_set_on_the_sheet_and_rubbish_is_refused(led: Axis, engineer: User) -> None:
    client, before = client_of(engineer), again(led).latest_set().number
    run = Run.objects.create(
        axis=led, number=1, kind="x", step="commutation", title="x", value_set=again(led).latest_set(),
        drive_values={}, period=1.0, channels=[], data=b"", who=engineer,
    )  # fmt: skip
    Finding.objects.create(
        axis=led, step="commutation", kind="commutation", label="Offset", value=1.0, unit="rad", state="measured",
        value_set=again(led).latest_set(), run=run,
    )  # fmt: skip
    client.post(f"/axis/{led.pk}/do/set_phasing/", {"current": "75", "power_up": "search"})
    assert again(led).understood.phasing_share == 0.75
    assert again(led).understood.power_up == "search"
    for wrong in ({"current": "many"}, {"current": "900"}, {"current": "50", "power_up": "guess"}):
        client.post(f"/axis/{led.pk}/do/set_phasing/", wrong)
    assert again(led).understood.phasing_share == 0.75
    assert again(led).latest_set().number == before + 1
    assert again(led).findings.get().state == "measured"  # how a run begins does not touch what it found


def test_a_search_belongs_to_the_commutation_step_and_its_abort_leads_there(led: Axis, engineer: User) -> None:
    job = Job.objects.create(axis=led, procedure="power_up", who=engineer, state="running")
    page = text_of(client_of(engineer).get(f"/axis/{led.pk}/job/{job.pk}/"))
    assert (job.step, job.recorded) == ("commutation", None)
    assert f'value="/axis/{led.pk}/commutation/"' in page


def test_enabling_by_hand_says_beforehand_that_it_opens_a_brake(led: Axis, engineer: User) -> None:
    page, said = client_of(engineer), "Enabling opens the brake for a moment"
    assert said not in text_of(page.get(f"/axis/{led.pk}/commutation/"))
    save_entries(again(led), {"brake.fitted": {"value": "drive", "source": "typed"}}, author=engineer, cause="a brake")
    assert said in text_of(page.get(f"/axis/{led.pk}/commutation/"))
