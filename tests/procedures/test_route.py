"""The procedures end to end on the simulated drive: what they find, and that they refuse rightly."""

import json
import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from jsonschema import Draft202012Validator
from numpy.typing import NDArray

from cadrel.bench import DriveService
from cadrel.cli.commission import commission, commission_in_process
from cadrel.cli.evidence import score
from cadrel.core.axis import understand
from cadrel.core.control import Gains, feedback_filter
from cadrel.core.identification import IdentifiedPlant, Unrest
from cadrel.core.parameters import Entry
from cadrel.core.response import (
    average_responses,
    estimate_both,
    folded,
    measure_step,
    with_injected_position,
)
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.core.verdict import at_most, decide
from cadrel.exchange import result_schema
from cadrel.link import LinkDown, LinkedDrive, LocalLink
from cadrel.procedures import PROCEDURES, Finding, Outcome, RunRecord, Session, route, run_commutation
from cadrel.procedures.declaration import MOST_RETURNS
from cadrel.procedures.judging import RIPPLE, SWUNG
from cadrel.procedures.route import RouteResult, consent_for, load_project_values
from tests.conftest import DEMO, RIGS, rig_of, values_of


@pytest.fixture(scope="module")
def commanded(tmp_path_factory: pytest.TempPathFactory) -> tuple[int, dict[str, Any], RouteResult]:
    """The command's status and file, and the route that it has gone."""
    out, gone = tmp_path_factory.mktemp("commissioned") / "result.json", []

    def kept(*args: Any, **more: Any) -> tuple[RouteResult, SimulatedDrive]:
        gone.append(commission_in_process(*args, **more))
        return gone[-1]

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("cadrel.cli.commission.commission_in_process", kept)
        status = commission(DEMO / "axes" / "tile-pusher.json", RIGS / "tile-pusher.json", out, seed=4, quiet=True)
    return status, json.loads(out.read_text()), gone[0][0]


@pytest.fixture(scope="module")
def pusher_route(commanded: tuple[int, dict[str, Any], RouteResult]) -> RouteResult:
    return commanded[2]


def test_the_demo_axis_is_proven_within_every_bound(pusher_route: RouteResult) -> None:
    truth = rig_of("tile-pusher")
    found = score(0, truth, pusher_route, drive_time=0)
    assert pusher_route.status == "proven", pusher_route.reason
    assert abs(found.offset_deg) <= 2
    assert abs(found.inertia) <= 0.05
    assert abs(found.coulomb) <= 0.10
    assert abs(found.current_bandwidth) <= 0.10
    assert found.response_db <= 1.5
    assert found.response_deg <= 8
    assert abs(found.gain_margin_db) <= 1
    assert abs(found.phase_margin_deg) <= 4


def test_tuning_keeps_what_was_asked_for(pusher_route: RouteResult) -> None:
    found = pusher_route.outcomes["velocity"].margins["velocity"]["predicted"]
    assert found["phase_margin_deg"] >= 44
    assert found["gain_margin_db"] >= 7.5
    assert found["sensitivity_peak"] <= 1.85


def test_the_twin_moves_as_the_axis_does(pusher_route: RouteResult) -> None:
    """Made of what runs found alone: current and following error of the real move, cogging and noise left aside."""
    run = pusher_route.outcomes["acceptance"].runs[0]
    c, moving = run.channels, run.channels["profile_active"] > 0.5
    assert np.corrcoef(c["i_q"][moving], c["twin_i_q"][moving])[0, 1] > 0.95
    assert np.corrcoef(c["following_error"][moving], c["twin_following_error"][moving])[0, 1] > 0.9
    twin = run.metrics["twin"]
    assert twin["current_rms"] == pytest.approx(run.metrics["current_rms"], rel=0.05)
    assert twin["following_error"] == pytest.approx(run.metrics["following_error"], rel=0.3)


def test_the_tuned_step_is_faster_than_the_careful_one(pusher_route: RouteResult) -> None:
    before, after = [r.metrics for r in pusher_route.outcomes["velocity"].runs if r.kind == "velocity_step"]
    assert after["rise_time"] < 0.5 * before["rise_time"]


def test_the_recorded_current_step_is_the_predicted_one(pusher_route: RouteResult) -> None:
    run = pusher_route.outcomes["current"].runs[0]
    predicted = np.array(run.curves["predicted_step"])
    measured = folded(run.channels, run.excitation["repeat"])["i_d"][: len(predicted)]
    size = run.excitation["size"]
    assert np.abs(measured - predicted).max() < 0.08 * size  # one tick of the rise is a tenth of the step


def test_steps_keep_every_repeat_and_their_figures_follow_from_it(pusher_route: RouteResult) -> None:
    for step, channel in (("velocity", "velocity"), ("position", "position")):
        for run in (r for r in pusher_route.outcomes[step].runs if r.kind == f"{step}_step"):
            repeat = run.excitation["repeat"]
            half = repeat // 2
            assert len(run.channels[channel]) >= 2 * repeat
            assert len(run.channels[channel]) % repeat == 0
            mean = folded(run.channels, repeat)
            command = with_injected_position(mean)["position_ref"] if step == "position" else mean["velocity_ref"]
            again = measure_step(
                run.period * np.arange(half), mean[channel][:half], start=float(command[half:].mean()),
                target=float(command[:half].mean()), band=0.05,
            )  # fmt: skip
            assert again.as_dict()["rise_time"] == pytest.approx(run.metrics["rise_time"], rel=0.02)


def test_a_frequency_response_is_worked_out_again_from_all_that_was_recorded(pusher_route: RouteResult) -> None:
    """Lines of the tuned loop from its own recording; those it hardly answers, or beyond, from the ones before."""
    runs = {r.title: r for r in pusher_route.outcomes["velocity"].runs if "pass" in r.excitation}
    tuned, first, higher = (
        runs[f"Velocity {what}"] for what in ("loop, frequency response", "plant, before", "plant, beyond its lines")
    )
    curves = tuned.curves
    plant, gains = curves["plant_measured"], Gains.from_drive(pusher_route.parameters)
    kept = 10 ** (np.array(plant["db"]) / 20) * np.exp(1j * np.radians(plant["deg"]))
    before = np.isin(plant["f"], np.round(curves["measured_before"], 6)) | np.isin(
        plant["f"], curves["measured_before"]
    )
    beyond = before & (np.array(plant["f"]) > 990.0)
    started = Gains.from_drive({**pusher_route.parameters, **first.in_force})
    for run, own, at in ((tuned, ~before, gains), (first, before & ~beyond, started), (higher, beyond, started)):
        f = np.array(plant["f"])[own]
        if f.size:
            off = [np.abs(again / kept[own] - 1) for again in responses_again(run, f, at)]
            assert np.min(off, axis=0).max() < 1e-3, "each line as it is, or through the window"
    assert np.count_nonzero(~before) > 20 and np.count_nonzero(beyond) > 40


def responses_again(run: RunRecord, f: NDArray[np.float64], gains: Gains) -> list[NDArray[np.complex128]]:
    """The plant on some of the lines of a recording of passes in motion, plain and windowed, the filter taken out."""
    repeat, length = run.excitation["repeat"], run.excitation["pass"]
    assert length % repeat == 0 and len(run.channels["velocity"]) % length == 0
    lines = np.unique(np.round(f * repeat * run.period).astype(int))
    parts = [
        estimate_both(
            *(run.channels[k][at : at + length] for k in ("excitation", "torque_cmd", "velocity")),
            lines=lines, period=repeat, rate_hz=1 / run.period,
        )
        for at in range(0, len(run.channels["velocity"]), length)
    ]  # fmt: skip
    plain, windowed = ([part[k] for part in parts] for k in (0, 1))
    means = (average_responses(plain).value, average_responses(windowed).value, np.mean([w.value for w in windowed], 0))
    return [np.asarray(mean / feedback_filter(gains, f)) for mean in means]


def test_resonances_state_their_doubt(pusher_route: RouteResult) -> None:
    truth = rig_of("tile-pusher")
    true = {
        "resonance": math.sqrt(truth.stiffness * (1 / truth.inertia_motor + 1 / truth.inertia_load)) / math.tau,
        "antiresonance": math.sqrt(truth.stiffness / truth.inertia_load) / math.tau,
    }
    found = {f.kind: f for f in pusher_route.outcomes["velocity"].findings if f.kind in true}
    assert set(found) == set(true)
    for kind, f in found.items():
        assert f.std is not None
        assert 0 < f.std < 0.02 * f.value
        assert abs(f.value - true[kind]) < max(3 * f.std, 0.01 * true[kind])


def test_no_channel_of_any_run_is_the_plants_truth(pusher_route: RouteResult) -> None:
    # Procedures see what a drive records: counts are whole numbers, currents are sensor steps.
    forward = pusher_route.outcomes["commutation"].runs[0].channels
    assert np.array_equal(forward["counts"], np.round(forward["counts"]))


@pytest.mark.parametrize(
    ("changes", "says"),
    [
        ({"phases_swapped": True}, "counts fell"),
        ({"encoder_inverted": True}, "counts fell"),
        ({"pole_pairs": 5}, "5 pole pairs would fit"),
        ({"encoder_lines": 2000}, "8000 counts"),
        ({"coulomb_load": 9.0, "coulomb_motor": 9.0}, "the shaft 0.0°"),
    ],
)
def test_a_wiring_or_data_fault_is_refused_by_name(changes: dict[str, object], says: str) -> None:
    result, drive = commission_in_process(values_of("tile-pusher"), rig_of("tile-pusher", **changes), seed=2)
    assert result.status == "refused"
    assert says in result.reason
    assert drive.memory.working["commutation.valid"] == 0.0
    assert drive.status()["mode"] == "off"


def test_a_drive_that_dies_ends_the_run_powers_off_and_a_retry_works(
    make_drive: Callable[..., tuple[LinkedDrive, object]],
) -> None:
    values = values_of("tile-pusher")
    drive, simulated = make_drive()
    axis = understand(values)
    sent = load_project_values(drive, values, owner="test")
    session = Session(drive=drive, axis=axis, consent=consent_for("commutation", axis, sent))
    looks = 0
    original = drive.link.call

    def dies(method: str, params: dict[str, object]) -> object:
        nonlocal looks
        looks += 1
        if looks > 120:
            raise LinkDown(address="test", why="it died")
        return original(method, params)

    drive.link.call = dies  # type: ignore[method-assign]
    with pytest.raises(LinkDown):
        run_commutation(session)
    simulated.advance(1.0)  # type: ignore[attr-defined]
    assert simulated.status()["mode"] == "off"  # type: ignore[attr-defined]
    drive.link.call = original  # type: ignore[method-assign]
    drive.take_control("test")
    again = run_commutation(Session(drive=drive, axis=axis, consent=session.consent))
    assert again.verdict is not None and again.verdict.is_proven


def test_the_abort_button_ends_it_and_powers_off(make_drive: Callable[..., tuple[LinkedDrive, object]]) -> None:
    from cadrel.procedures import Aborted

    values = values_of("tile-pusher")
    drive, simulated = make_drive()
    axis = understand(values)
    sent = load_project_values(drive, values, owner="test")
    session = Session(
        drive=drive,
        axis=axis,
        consent=consent_for("commutation", axis, sent),
        is_aborted=lambda: drive.status()["time"] > 1.0,
    )
    with pytest.raises(Aborted):
        run_commutation(session)
    assert simulated.status()["mode"] == "off"  # type: ignore[attr-defined]


def test_travel_and_speed_stay_within_what_was_announced() -> None:
    truth = rig_of("tile-pusher", stop_low=-1e9, stop_high=1e9)
    values = values_of("tile-pusher")
    simulated = SimulatedDrive("axis", truth, seed=3)
    service = DriveService({"axis": simulated})
    seen: list[tuple[float, float]] = []

    def advance(seconds: float) -> None:
        service.advance(seconds)
        seen.append((float(simulated.running.state.theta1), float(simulated.running.state.omega1)))

    drive, axis = LinkedDrive(LocalLink(service.answer, advance), "axis"), understand(values)
    sent = load_project_values(drive, values, owner="test")
    consent = consent_for("commutation", axis, sent)
    start = float(simulated.running.state.theta1)
    run_commutation(Session(drive=drive, axis=axis, consent=consent))
    travel = max(abs(x - start) for x, _ in seen)
    assert travel <= consent.travel
    assert max(abs(w) for _, w in seen) <= consent.speed


def test_the_command_writes_a_result_that_its_schema_accepts(
    commanded: tuple[int, dict[str, Any], RouteResult],
) -> None:
    status, body, route = commanded
    assert status == 0
    Draft202012Validator(result_schema()).validate(body)
    assert body["status"] == "proven"
    assert body["parameters"] == route.parameters
    load = next(f for f in route.outcomes["load"].findings if f.kind == "load")
    inertia = body["identified"]["inertia"]
    assert (inertia["value"], inertia["std"]) == (load.value, load.std) and inertia["std"] > 0
    assert set(body["margins"]) == {"current", "velocity", "position"}
    assert body["cost"]["drive_time_s"] > 30


def test_the_same_seed_gives_the_same_run_to_the_last_bit() -> None:
    steps = ("commutation", "current", "load")
    values, truth = values_of("tile-pusher"), rig_of("tile-pusher")
    first, again, other = (partly(values, truth, steps, seed=seed) for seed in (5, 5, 6))
    assert {f.kind: f.value for f in first} == {f.kind: f.value for f in again}
    assert {f.kind: f.value for f in first} != {f.kind: f.value for f in other}


def partly(values: dict[str, Entry], truth: RigTruth, steps: tuple[str, ...], *, seed: int) -> list[Finding]:
    """What some steps of the route find, one after the other."""
    service = DriveService({"axis": SimulatedDrive("axis", truth, seed=seed)})
    drive, axis = LinkedDrive(LocalLink(service.answer, service.advance), "axis"), understand(values)
    sent = load_project_values(drive, values, owner="test")
    plant, found = IdentifiedPlant(), []
    for key in steps:
        outcome = PROCEDURES[key].run(
            Session(drive=drive, axis=axis, consent=consent_for(key, axis, sent), plant=plant)
        )
        plant = plant.with_part(outcome.plant)
        found += outcome.findings
    return found


def test_hall_faults_are_named_and_no_offset_is_kept() -> None:
    truth: RigTruth = rig_of("tile-pusher", hall_dead=[2])
    result, drive = commission_in_process(values_of("tile-pusher"), truth, seed=2)
    assert result.status == "refused"
    assert "Hall" in result.reason
    assert math.isclose(drive.memory.working["commutation.valid"], 0.0)


def test_halls_alone_are_refused_for_what_they_are_before_a_loop_is_tried_on_them() -> None:
    """Their edges were called noise of the device, or a loose coupling, when the loops were tried all the same."""
    values = values_of("tile-pusher") | {"feedback.kind": {"value": "halls", "source": "typed"}}
    result, drive = commission_in_process(values, rig_of("tile-pusher", device="halls"), seed=4)
    assert result.status == "refused"
    assert "Halls alone are too coarse" in result.reason
    assert "“Device on the motor” (Feedback)" in result.reason
    assert list(result.outcomes) == ["commutation", "current"]
    assert drive.running.state.mode == 0


@pytest.mark.parametrize("what", [RIPPLE, SWUNG])
def test_a_move_that_wakes_what_rested_begins_the_route_again_at_the_velocity_loop_and_not_for_ever(
    what: str, monkeypatch: pytest.MonkeyPatch, make_drive: Callable[..., tuple[LinkedDrive, object]]
) -> None:
    """Procedures that only say how they ended: what the acceptance has learned reaches those gone through again."""
    ended: list[tuple[str, Unrest | None]] = []

    def ran(key: str, missed: list[float]) -> Callable[[Session], Outcome]:
        def run(session: Session) -> Outcome:
            ended.append((key, session.plant.unrest))
            row = at_most(what, 10.0, missed.pop(0) if missed else 1.0, unit="%")
            learned = None if row.passed else Unrest(noise=1.0)
            return Outcome(verdict=decide(key, [row], run=0), plant=learned)

        return run

    def gone(*ripples: float) -> RouteResult:
        ended.clear()
        left = {"velocity": [], "position": [], "acceptance": list(ripples)}
        acting = [replace(PROCEDURES[key], run=ran(key, told)) for key, told in left.items()]
        monkeypatch.setattr(
            route, "in_order", lambda first="": acting[[p.key for p in acting].index(first) if first else 0 :]
        )
        drive, _ = make_drive()
        values = values_of("tile-pusher")
        return route.run_route(drive, understand(values), values, report=lambda phase, share: None)

    assert gone(1.0).status == "proven" and len(ended) == 3
    assert gone(22.0, 1.0).status == "proven"
    assert [key for key, _ in ended] == ["velocity", "position", "acceptance"] * 2
    assert [unrest for _, unrest in ended] == [None] * 3 + [Unrest(noise=1.0)] * 3
    assert gone(22.0, 21.0, 1.0).status == "proven" and len(ended) == 9
    ever = gone(22.0, 21.0, 20.0)
    assert len(ended) == 3 * (1 + MOST_RETURNS) and ever.status == "failed" and "20 %" in ever.reason
