"""What the drive itself sees to: consent with an end, pages that watch, STOP by hand, the first of two holders."""

from collections.abc import Callable

import pytest

from cadrel.core.simulation import SimulatedDrive
from cadrel.core.simulation.drive import WATCH_TICKS
from cadrel.core.simulation.layout import TICK
from cadrel.link import LinkedDrive, RefusedByDrive
from tests.conftest import rig_of
from tests.core.simulation.test_drive import enable, ready, wait

__all__ = ["ready"]
Make = Callable[..., tuple[LinkedDrive, SimulatedDrive]]


@pytest.fixture
def consented(ready: tuple[LinkedDrive, SimulatedDrive]) -> tuple[LinkedDrive, SimulatedDrive]:
    """A drive that was told of a consent, and its worker, who shows it."""
    drive, simulated = ready
    drive.consent = drive.give_consent("run", until=drive.status()["time"] + 20.0)
    return drive, simulated


def test_tokens_of_the_lease_differ_from_one_start_to_the_next() -> None:
    tokens = {SimulatedDrive("axis", rig_of("tile-pusher"), seed=1).take_control("a") for _ in range(4)}
    assert len(tokens) == 4  # with one seed they were equal: whoever knew the program knew the token


def test_a_consent_not_used_within_20_s_is_none_any_more(consented: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = consented
    simulated.advance(61.0)  # its worker was frozen
    with pytest.raises(RefusedByDrive, match=r"no longer in force: nothing was heard of the run for 6\d s"):
        enable(drive)
    assert simulated.status()["mode"] == "off"


def test_a_consent_lives_as_long_as_its_run_is_heard(consented: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = consented
    for _ in range(60):
        drive.beat()
        simulated.advance(1.0)
    enable(drive)
    assert simulated.status()["consent"]["label"] == "run"


def test_the_consents_end_is_counted_from_the_tick_not_from_its_arrival(
    ready: tuple[LinkedDrive, SimulatedDrive],
) -> None:
    drive, simulated = ready
    simulated.advance(30.0)
    with pytest.raises(RefusedByDrive, match=r"the consent is \d+ s old"):
        drive.give_consent("late", until=simulated.time - 5.0)
    with pytest.raises(RefusedByDrive, match="after the consent had expired"):
        drive.enable("position", guard_low=-10, guard_high=10, guard_speed=10, not_after=simulated.time - 5.0)


def test_stop_by_hand_ends_the_consent_even_with_power_off(consented: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = consented
    LinkedDrive(drive.link, "axis").stop("vera (observer) pressed STOP", press="p1", by="vera (observer)")
    with pytest.raises(RefusedByDrive, match=r"vera \(observer\) pressed STOP"):
        enable(drive)
    assert simulated.status()["last_stop"]["by"] == "vera (observer)"


def test_one_press_that_arrives_on_two_ways_counts_once(consented: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = consented
    before = len(simulated.events)
    for _ in range(2):
        LinkedDrive(drive.link, "axis").stop("", press="p1", by="enno")
    assert [e["kind"] for e in simulated.events[before:]] == ["consent_ended", "stop"]


def test_a_stop_without_a_press_leaves_the_consent_to_the_run(consented: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, _ = consented
    enable(drive)
    drive.stop("the run tries again with less")
    wait(drive, 0.3)
    enable(drive)  # not refused


def test_motion_that_nobody_watches_stops_in_time(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = ready
    drive.unattended = False
    enable(drive)
    drive.run_at(40.0)
    begun = simulated.time
    while simulated.status()["mode"] != "off":
        drive.beat()  # its worker lives on
        drive.link.wait(0.02)
        assert simulated.time - begun < 3.0
    assert "unwatched" in [e["kind"] for e in simulated.events]


def test_a_run_that_enables_again_and_again_does_not_outlive_its_watchers(
    ready: tuple[LinkedDrive, SimulatedDrive],
) -> None:
    drive, simulated = ready
    drive.unattended = False
    drive.consent = drive.give_consent("run", until=simulated.time + 20)
    begun = simulated.time
    with pytest.raises(RefusedByDrive, match="pages of the one who leads were closed"):
        for _ in range(20):  # each time for less than the drive would wait
            enable(drive)
            wait(drive, 0.6)
            drive.disable()
            wait(drive, 0.1)
    assert simulated.time - begun < 3.0


def test_pages_of_the_leader_keep_it_and_the_page_that_enabled_keeps_its_own(
    ready: tuple[LinkedDrive, SimulatedDrive],
) -> None:
    drive, simulated = ready
    drive.unattended = False
    for watcher, pages, stays in (("", ["any"], True), ("tab", ["tab", "other"], True), ("tab", ["other"], False)):
        drive.enable("position", guard_low=-10, guard_high=10, guard_speed=10, watcher=watcher)
        for _ in range(round(1.5 * WATCH_TICKS * TICK / 0.05)):
            drive.link.call("drive.status", {"axis": "axis", "lease": drive.lease, "watch": pages})
            drive.link.wait(0.05)
        assert (simulated.status()["mode"] == "position") is stays, (watcher, pages)
        if stays:
            drive.disable()


def test_an_unattended_run_was_agreed_to_and_goes_on(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = ready
    drive.unattended = False
    drive.consent = drive.give_consent("run", until=simulated.time + 20, unattended=True)
    enable(drive)
    for _ in range(100):
        drive.beat()
        simulated.advance(0.1)
    assert simulated.status()["mode"] == "position"


def test_pages_do_not_keep_alive_what_a_lost_worker_commanded(consented: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = consented
    enable(drive)
    drive.run_at(40.0)
    wait(drive, 0.3)
    page = LinkedDrive(drive.link, "axis")
    page.lease = drive.lease  # the same engineer's page, without the run's consent
    begun = simulated.time
    while abs(simulated.status()["velocity"]) > 1.0:
        page.status()
        page.link.wait(0.02)
        assert simulated.time - begun < 1.0
    page.link.wait(0.5)
    assert simulated.status()["mode"] == "off"


def test_the_first_button_held_wins_until_it_is_let_go(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = ready
    enable(drive)
    drive.jog(20.0, holder="left")
    drive.link.wait(0.05)
    for velocity in (-20.0, 0.0):
        with pytest.raises(RefusedByDrive, match="another button is being held"):
            drive.jog(velocity, holder="right")
    drive.link.wait(0.03)
    assert simulated.status()["velocity"] > 0
    drive.jog(0.0, holder="left")
    drive.jog(-20.0, holder="right")  # let go: now the other may


def test_a_hold_that_went_silent_is_nobody_elses_for_a_second(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    """A busy machine delays a beat: the axis stops, and the other button does not get it meanwhile."""
    drive, simulated = ready
    enable(drive)
    drive.jog(20.0, holder="left")
    wait(drive, 0.4)
    assert simulated.status()["velocity"] == pytest.approx(0.0, abs=0.5)
    with pytest.raises(RefusedByDrive, match="another button is being held"):
        drive.jog(-20.0, holder="right")
    drive.jog(20.0, holder="left")  # the same hand goes on
    wait(drive, 1.2)
    drive.jog(-20.0, holder="right")  # silent for longer: whoever it was is gone


def test_a_beat_that_its_own_release_overtook_moves_nothing(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = ready
    enable(drive)
    drive.jog(20.0, holder="press 1")
    drive.jog(0.0, holder="press 1")
    with pytest.raises(RefusedByDrive, match="was let go"):
        drive.jog(20.0, holder="press 1")
    drive.jog(20.0, holder="press 2")
    assert simulated.status()["moving"] or simulated.status()["mode"] == "position"


def test_taking_control_by_force_is_in_the_drives_log(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = ready
    LinkedDrive(drive.link, "axis").take_control("somebody", force=True)
    facts = [e["facts"] for e in simulated.events if e["kind"] == "control_taken"][-1]
    assert facts == {"owner": "somebody", "before": "test", "forced": True}
