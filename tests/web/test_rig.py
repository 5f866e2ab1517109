"""The rig's actions and pages against a bench over TCP: connect, control, send, store, jog, power, procedures."""

import html
import json
import socket
import threading
import time
from collections.abc import Iterator
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client

from cadrel.core.simulation import SimulatedDrive
from cadrel.link import LinkError, RefusedByDrive
from cadrel.web.changes.values import save_entries
from cadrel.web.jobs.models import Job
from cadrel.web.jobs.recording import run_job
from cadrel.web.projects.models import Axis
from cadrel.web.rig import actions
from cadrel.web.rig.errors import NoControl, NotConnected, NotReady
from cadrel.web.rig.strip import strip_of
from cadrel.web.runs.models import Event
from tests.web.conftest import again, client_of

pytestmark = pytest.mark.django_db(transaction=True)


def test_nothing_goes_out_before_connection_and_control(axis: Axis, engineer: User) -> None:
    with pytest.raises(NotConnected):
        actions.send_values(axis, who=engineer)
    actions.connect(axis, who=engineer)
    with pytest.raises(NoControl):
        actions.send_values(again(axis), who=engineer)


def test_connecting_keeps_the_drives_rating_and_the_log(axis: Axis, engineer: User) -> None:
    actions.connect(axis, who=engineer)
    assert again(axis).rating_peak == 16.0
    assert "firmware" in Event.objects.filter(kind="connected").get().text


def test_a_drive_of_another_protocol_is_refused(axis: Axis, engineer: User, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(actions, "PROTOCOL", 2)
    with pytest.raises(NotReady, match="protocol 1"):
        actions.connect(axis, who=engineer)
    assert not again(axis).connected


def test_sending_makes_project_and_drive_agree_and_storing_keeps_it(
    led: Axis, bench: tuple[int, SimulatedDrive]
) -> None:
    drive = bench[1]
    wanted = actions.wanted_values(led)
    assert actions.differences(wanted, drive.memory.working) == []
    assert drive.memory.not_stored == []
    assert drive.memory.restart_needed == []


def test_sending_again_changes_nothing(led: Axis, engineer: User) -> None:
    assert actions.send_values(led, who=engineer) == []


def test_a_value_of_the_drive_can_be_taken_into_the_project(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]
) -> None:
    bench[1].write({"position.gain": 77.0, "limit.following_error": 1.3})
    assert actions.fetch_values(led, who=engineer, keys=["position.gain", "limit.following_error"]) == 2
    assert led.values["position.gain"]["value"] == pytest.approx(77.0)
    assert actions.differences(actions.wanted_values(again(led)), bench[1].memory.working) == []


def test_the_strip_is_in_the_engineers_units(led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]) -> None:
    actions.set_position(led, who=engineer, user_value=120.0)
    strip = strip_of(led, user_id=engineer.pk)
    assert strip["unit"] == "mm"
    assert strip["position"] == pytest.approx(120.0, abs=0.01)
    assert strip["bus"] == pytest.approx(325, abs=2)
    assert strip["leads"]
    assert [b["step"] for b in strip["blockers"]] == ["commutation"]
    assert json.dumps(strip, allow_nan=False)


def test_the_strip_tells_levels_index_and_a_hall_state_that_cannot_be(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive], monkeypatch: pytest.MonkeyPatch
) -> None:
    strip = strip_of(again(led), user_id=engineer.pk)
    assert strip["levels"] in ("00", "01", "10", "11")
    assert (strip["signal"], strip["index"]) == ("good", "not yet")
    real = bench[1].status
    monkeypatch.setattr(bench[1], "status", lambda: real() | {"hall": 7})
    assert strip_of(again(led), user_id=engineer.pk)["signal"] == "bad: no such Hall state"


def test_the_strip_tells_of_gains_that_the_drive_halved(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive], monkeypatch: pytest.MonkeyPatch
) -> None:
    assert strip_of(again(led), user_id=engineer.pk)["swung"] is None
    real = bench[1].status
    monkeypatch.setattr(bench[1], "status", lambda: real() | {"swings": 1, "swung_hz": 83.0, "swung_at": 2.5})
    assert strip_of(again(led), user_id=engineer.pk)["swung"] == {"hz": 83.0, "time": 2.5}


def test_the_hand_turns_the_shaft_from_the_page(led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]) -> None:
    before = bench[1].status()["counts"]
    client_of(engineer).post(f"/axis/{led.pk}/do/turn/", {"turns": "0.25", "next": "/"})
    deadline = time.monotonic() + 60
    while abs(bench[1].status()["counts"] - before - 2500) > 25:
        assert time.monotonic() < deadline, bench[1].status()["counts"]
        time.sleep(0.05)
    assert Event.objects.filter(axis=led, kind="hand").exists()


def test_an_axis_the_drive_cannot_run_is_refused_before_a_run_starts(led: Axis, engineer: User) -> None:
    changes: dict[str, Any] = {"feedback.kind": {"value": "halls", "source": "typed"}}
    save_entries(again(led), changes, author=engineer, cause="another device")
    with pytest.raises(NotReady, match="too coarse"):
        actions.queue_job(again(led), "load", who=engineer, consented=True)
    assert not Job.objects.exists()


def test_another_owner_is_shown_as_such_and_the_old_lease_leads_no_more(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]
) -> None:
    bench[1].take_control("service laptop", force=True)
    strip = strip_of(led, user_id=engineer.pk)
    assert strip["control"] == "service laptop has control"
    assert not strip["leads"]
    with pytest.raises(RefusedByDrive):
        actions.send_values(led, who=engineer, keys=["position.gain"]) or actions.store(led, who=engineer)


def test_giving_control_back_and_disconnecting_leave_no_lease(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]
) -> None:
    actions.give_control(led, who=engineer)
    assert bench[1].owner is None
    assert again(led).lease == ""
    actions.take_control(again(led), who=engineer)
    actions.disconnect(again(led), who=engineer)
    assert bench[1].owner is None
    assert not again(led).connected


def test_cutting_the_supply_takes_control_and_unstored_values(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]
) -> None:
    stored = bench[1].memory.permanent["position.gain"]
    save_entries(led, {"position.gain": {"value": 99.0, "unit": "1/s"}}, author=engineer, cause="by hand")
    assert actions.send_values(led, who=engineer) == ["Position gain"]
    assert strip_of(led, user_id=engineer.pk)["not_stored"] == ["Position gain"]
    actions.power_switch(led, who=engineer, on=False)
    assert again(led).lease == ""
    strip = strip_of(again(led), user_id=engineer.pk)
    assert strip["link"] == "lost"
    assert "no supply" in strip["why"]
    actions.power_switch(again(led), who=engineer, on=True)
    assert bench[1].memory.working["position.gain"] == stored


def test_jog_without_commutation_is_refused_with_the_reason(led: Axis, engineer: User) -> None:
    with pytest.raises(LinkError, match="commutation offset has not been found"):
        actions.enable_jog(led, who=engineer)


def queue(axis: Axis, procedure: str, who: User) -> Job:
    return actions.queue_job(axis, procedure, who=who, consented=True, unattended=True)  # no page is open here


def test_a_procedure_needs_values_in_the_drive_that_are_the_projects(led: Axis, engineer: User) -> None:
    save_entries(led, {"position.gain": {"value": 41.0, "unit": "1/s"}}, author=engineer, cause="by hand")
    with pytest.raises(NotReady, match="1 values in the drive differ"):
        queue(led, "commutation", engineer)
    assert not Job.objects.exists()


def test_the_list_of_what_prevents_enabling_holds_for_procedures_too(led: Axis, engineer: User) -> None:
    with pytest.raises(NotReady, match="commutation offset"):
        queue(led, "load", engineer)
    actions.set_switch(led, who=engineer, name="safe_torque_off", closed=False)
    with pytest.raises(NotReady, match="Safe torque off is open"):
        queue(led, "commutation", engineer)


def test_only_one_run_at_a_time(led: Axis, engineer: User) -> None:
    queue(led, "commutation", engineer)
    with pytest.raises(NotReady, match="in progress already"):
        queue(led, "commutation", engineer)
    with pytest.raises(NotReady, match="in progress"):
        actions.enable_jog(led, who=engineer)


def test_the_task_runs_commutation_and_keeps_run_finding_and_proposal(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]
) -> None:
    job = queue(led, "commutation", engineer)
    run_job(job.pk)
    job.refresh_from_db()
    assert job.state == "done", job.happened
    assert led.runs.count() == 3
    assert led.findings.get(kind="commutation").state == "measured"
    proposal = led.proposals.get(state="open")
    assert {c["key"] for c in proposal.changes} >= {"commutation.offset", "commutation.valid"}
    assert bench[1].status()["mode"] == "off"
    client = Client()
    client.force_login(engineer, backend="django.contrib.auth.backends.ModelBackend")
    answer: Any = client.post(
        f"/axis/{led.pk}/proposal/{proposal.pk}/", {"take": "1", "key": [c["key"] for c in proposal.changes]}
    )
    assert answer.status_code == 302
    assert led.findings.get(kind="commutation").state == "proven"
    assert actions.differences(actions.wanted_values(again(led)), bench[1].memory.working) == []
    page = client.get(f"/axis/{led.pk}/run/1/")
    assert b"Vector turned both ways" in page.content
    assert client.get(f"/axis/{led.pk}/run/1/csv/").content.startswith(b"time [s],vector_angle [rad]")
    actions.enable_jog(again(led), who=engineer)
    deadline = time.monotonic() + 60
    while bench[1].status()["velocity"] < 1:  # held as the page holds it; the stand-in may have much else to do
        assert time.monotonic() < deadline, "the axis did not jog"
        actions.jog(again(led), who=engineer, share=0.05)
    actions.jog(again(led), who=engineer, share=0)
    actions.disable(again(led), who=engineer)
    assert bench[1].status()["mode"] == "off"


def test_a_refused_proposal_puts_the_old_values_back_into_the_drive(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]
) -> None:
    before = dict(bench[1].memory.working)
    proposal = led.proposals.create(
        step="position",
        changes=[{"key": "position.gain", "before": before["position.gain"], "after": 88.0}],
        who=engineer,
    )
    bench[1].write({"position.gain": 88.0})
    client = Client()
    client.force_login(engineer, backend="django.contrib.auth.backends.ModelBackend")
    client.post(f"/axis/{led.pk}/proposal/{proposal.pk}/", {"take": "0"})
    assert bench[1].memory.working == before
    proposal.refresh_from_db()
    assert proposal.state == "refused"


def test_a_drive_that_loses_its_supply_interrupts_the_run(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]
) -> None:
    job = queue(led, "commutation", engineer)
    threading.Timer(1.5, lambda: bench[1].power_switch(False)).start()
    run_job(job.pk)
    job.refresh_from_db()
    assert job.state == "interrupted"
    assert "no supply" in job.happened
    assert not led.findings.exists()


class Relay(threading.Thread):
    """Between page and bench: passes lines on until told to answer rubbish."""

    def __init__(self, port: int) -> None:
        super().__init__(daemon=True)
        self.bench, self.rubbish = port, b""
        self.server = socket.create_server(("127.0.0.1", 0))
        self.port = self.server.getsockname()[1]

    def run(self) -> None:
        while True:
            try:
                client, _ = self.server.accept()
            except OSError:
                return
            threading.Thread(target=self._serve, args=(client,), daemon=True).start()

    def _serve(self, client: socket.socket) -> None:
        with client, socket.create_connection(("127.0.0.1", self.bench)) as bench:
            ours, theirs = client.makefile("rb"), bench.makefile("rb")
            for line in ours:
                if self.rubbish:
                    client.sendall(self.rubbish)
                    continue
                bench.sendall(line)
                client.sendall(theirs.readline())


@pytest.fixture
def relay(bench: tuple[int, SimulatedDrive]) -> Iterator[Relay]:
    made = Relay(bench[0])
    made.start()
    yield made
    made.server.close()


RUBBISH = [b"\xff\x00 nothing like a message\n", b"{}\n", b'{"jsonrpc": "2.0", "id": 1, "result": NaN}\n', b"\n"]


@pytest.mark.parametrize("rubbish", RUBBISH)
def test_a_bench_that_answers_rubbish_interrupts_the_run_and_a_retry_works(
    led: Axis, engineer: User, relay: Relay, rubbish: bytes
) -> None:
    led.drive.port = relay.port
    led.drive.save()
    job = queue(again(led), "commutation", engineer)
    threading.Timer(1.5, lambda: setattr(relay, "rubbish", rubbish)).start()
    run_job(job.pk)
    job.refresh_from_db()
    assert job.state == "interrupted", (job.state, job.happened)
    assert job.happened and job.remedy
    assert not led.findings.exclude(state="stale").exists()
    page = client_of(engineer).get(f"/axis/{led.pk}/commutation/")
    assert page.status_code == 200  # the page says so, and does not fail with it
    assert job.happened in html.unescape(page.content.decode())
    assert "No contact" in page.content.decode()
    relay.rubbish = b""
    deadline = time.monotonic() + 60
    while strip_of(again(led), user_id=engineer.pk)["link"] != "up":
        assert time.monotonic() < deadline, "contact did not come back"
        time.sleep(0.05)
    if rubbish != RUBBISH[0]:
        return  # that a retry works is shown once; it is fifteen seconds of turning
    actions.take_control(again(led), who=engineer)
    retry = queue(again(led), "commutation", engineer)
    run_job(retry.pk)
    retry.refresh_from_db()
    assert retry.state == "done", retry.happened
