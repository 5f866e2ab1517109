"""A position loop on a device on the load: tuned, judged on the true plant by other means, and what lies between."""

import math

import control
import numpy as np
import pytest

from cadrel.cli.commission import commission_in_process
from cadrel.core.axis import understand, unsupported
from cadrel.core.parameters import Entry
from cadrel.core.simulation import SimulatedDrive
from cadrel.procedures.plant.scatter import PRECISE
from cadrel.procedures.route import RouteResult
from tests.conftest import rig_of, values_of

COUNTS = 20_000.0
PLAY_DEG = 0.3
LOOP_RATE = 4000.0  # [Hz] of the velocity loop


def with_second(values: dict[str, Entry], **changes: str) -> dict[str, Entry]:
    return values | {
        "second.kind": {"value": "incremental"},
        "second.resolution": {"value": COUNTS},
        **{key.replace("__", "."): {"value": value} for key, value in changes.items()},  # type: ignore[dict-item]
    }


@pytest.fixture(scope="module")
def route() -> tuple[RouteResult, SimulatedDrive]:
    """The tile pusher with play in its rack, and a scale on what it pushes."""
    truth = rig_of("tile-pusher", second_counts=COUNTS, backlash_deg=PLAY_DEG)
    return commission_in_process(with_second(values_of("tile-pusher")), truth, seed=4)


def test_the_whole_way_is_proven_on_the_load(route: tuple[RouteResult, SimulatedDrive]) -> None:
    result, drive = route
    assert result.status == "proven", result.reason
    assert drive.memory.working["feedback.position_device"] == 1.0
    assert drive.memory.working["feedback.second_counts"] == COUNTS


def test_it_is_the_load_that_stands_where_it_was_told_to(route: tuple[RouteResult, SimulatedDrive]) -> None:
    result, _ = route
    (run,) = result.outcomes["acceptance"].runs
    moving = run.channels["profile_active"] > 0.5
    at_rest = ~moving & (np.arange(len(moving)) > np.argmax(moving))
    error = run.channels["position_ref"] - run.channels["load_position"]
    np.testing.assert_allclose(run.channels["following_error"], error, atol=1e-5)
    motor_away = np.ptp((run.channels["position_ref"] - run.channels["position"])[at_rest])
    rested = np.zeros(len(moving))  # [s] since the command has ended
    for k in range(1, len(moving)):
        rested[k] = 0.0 if moving[k] else rested[k - 1] + run.period
    goal = understand(values_of("tile-pusher")).goal
    settled = at_rest & (rested > goal.settling_time)
    assert np.abs(error[settled]).max() < goal.window
    assert np.abs(error[settled & (rested > 2 * goal.settling_time)]).max() < 0.25 * math.radians(PLAY_DEG)
    assert motor_away > 0.8 * math.radians(PLAY_DEG), "the motor stands on either side of its play"


def test_what_the_load_makes_of_the_motors_motion_is_what_the_true_shaft_does(
    route: tuple[RouteResult, SimulatedDrive],
) -> None:
    result, drive = route
    (run,) = [r for r in result.outcomes["position"].runs if r.kind == "load_answer"]
    t, seen = drive.truth, run.curves["plant_measured"]
    shaft = control.tf([t.damping, t.stiffness], [t.inertia_load, t.damping + t.viscous_load, t.stiffness])
    f = np.array(seen["f"])
    true = np.asarray(control.frequency_response(shaft, 2 * np.pi * f).complex)
    error = np.array(seen["db"]) - 20 * np.log10(np.abs(true))
    below = f < 35.0  # above, the gap makes the shaft softer than it is closed, by what a softer spring would
    assert below.sum() > 8
    # A line may scatter by what a measurement is content with; their mean is off by no more than the gap makes it.
    assert np.sqrt(np.mean(error[below] ** 2)) < 20 * np.log10(1 + PRECISE)
    assert abs(np.mean(error[below])) < 0.3


def test_the_play_is_told_from_the_twist_in_the_move(route: tuple[RouteResult, SimulatedDrive]) -> None:
    result, _ = route
    (found,) = [f for f in result.outcomes["acceptance"].findings if f.kind == "play_in_motion"]
    assert found.std is not None
    assert found.value == pytest.approx(PLAY_DEG, abs=max(2 * found.std, 0.1 * PLAY_DEG))
    assert found.std < 0.2 * PLAY_DEG


def test_the_loop_holds_on_the_true_plant_by_textbook_formulas(route: tuple[RouteResult, SimulatedDrive]) -> None:
    """Continuous two-mass transfer functions, delays counted by hand: nothing of the blocks or of the stand-in."""
    _, drive = route
    v, t = drive.memory.working, drive.truth
    f = np.geomspace(1.0, 1200.0, 6000)
    s, z = 2j * np.pi * f, np.exp(2j * np.pi * f / LOOP_RATE)
    shaft = control.tf([t.damping, t.stiffness], [1])
    motor = control.tf([t.inertia_motor, t.viscous_motor, 0], [1]) + shaft
    load = control.tf([t.inertia_load, t.viscous_load, 0], [1]) + shaft
    below = motor * load - shaft * shaft

    def of(system: control.TransferFunction) -> np.ndarray:
        return control.frequency_response(system, np.abs(s)).complex

    motor_place, load_place = of(load) / of(below), of(shaft) / of(below)
    bandwidth = 2 * np.pi * 1000.0  # of the current loop, about; its delay is in the ticks below
    late = np.exp(-s * (0.5 / LOOP_RATE + 1.5 / 16000.0)) / (1 + s / bandwidth)
    speed = motor_place * (1 - 1 / z) * LOOP_RATE * late
    pi = v["velocity.gain"] * (1 + (1 / LOOP_RATE) / v["velocity.reset_time"] / (z - 1))
    for key in ("velocity.torque_filter",):
        pole = math.exp(-2 * math.pi * v[key] / LOOP_RATE)
        pi = pi * (1 - pole) / (1 - pole / z)
    pole = math.exp(-2 * math.pi * v["velocity.feedback_filter"] / LOOP_RATE)
    smooth = (1 - pole) / (1 - pole / z)
    shaped = _sections(v, f)
    velocity = pi * shaped * speed
    position = v["position.gain"] * pi * shaped * load_place * late / (1 + velocity * smooth)
    asked = understand(values_of("tile-pusher")).robustness.sensitivity_peak
    peak = float(np.abs(1 / (1 + position)).max())
    assert peak < 1.1 * asked
    assert float(np.abs(position / (1 + position)).max()) < 10 ** (0.1)  # 2 dB: the load does not swing


def _sections(v: dict[str, float], f: np.ndarray) -> np.ndarray:
    """Notch and sections from their continuous prototypes, each prewarped at its own frequency."""
    found = np.ones(len(f), dtype=complex)

    def over(at: float, damping: float) -> np.ndarray:
        x = 1j * np.tan(np.pi * f / LOOP_RATE) / math.tan(math.pi * at / LOOP_RATE)
        return x * x + 2 * damping * x + 1

    if v["velocity.notch_frequency"] > 0.0 and v["velocity.notch_depth"] < 0.0:
        at, width = v["velocity.notch_frequency"], v["velocity.notch_width"]
        found *= over(at, width * 10 ** (v["velocity.notch_depth"] / 20)) / over(at, width)
    for n in (2, 3, 4):
        name = f"velocity.section{n}_"
        if v[name + "pole"] > 0.0:
            found /= over(v[name + "pole"], v[name + "pole_damping"])
            if v[name + "zero"] > 0.0:
                found *= over(v[name + "zero"], v[name + "zero_damping"])
    return found


def test_velocity_from_the_load_is_refused_with_what_to_choose() -> None:
    axis = understand(with_second(values_of("tile-pusher"), feedback__velocity_from="load"))
    assert "device on the motor" in unsupported(axis)
    assert unsupported(understand(with_second(values_of("tile-pusher")))) == ""


def test_the_status_tells_the_place_that_the_loop_compares(route: tuple[RouteResult, SimulatedDrive]) -> None:
    _, drive = route
    status = drive.status()
    load = float(drive.running.state.theta2 - drive.running.state.theta1) + status["position"]
    assert status["place"] == pytest.approx(load, abs=math.radians(0.1))  # both devices' counts, and where they began
    assert status["place"] != status["position"]
