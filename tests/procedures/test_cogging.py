"""Cogging mapped at constant speed, against what the stand-in's motor has."""

import math
from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import TransferFunction

from cadrel.core.errors import UnusableInput
from cadrel.core.identification import ChainLoad, IdentifiedPlant, cogging_map
from cadrel.core.identification.cogging import RIPPLE, CoggingMap, Mechanics, together
from cadrel.procedures import cogging
from cadrel.procedures.errors import AxisStopped, NotAllowed, SticksAndSlips
from tests.conftest import rig_of
from tests.procedures.test_stops import Ready

LIFT = rig_of("kiln-car-lift")


def rigid(inertia: float) -> Mechanics:
    """One mass: torque to its speed."""
    return lambda f: 1 / (2j * np.pi * f * inertia)


def test_the_largest_harmonic_is_named_with_its_size() -> None:
    ready = Ready(replace(LIFT, cogging=((24, 0.08, 20), (8, 0.03, 50))))
    outcome, session = ready.run("cogging")
    found = {f.kind: f for f in outcome.findings}
    assert found["cogging_order"].value == 24
    assert found["cogging"].value == pytest.approx(0.08, rel=0.05)
    torque = np.array(outcome.runs[0].curves["torque"])
    assert found["cogging_span"].value == pytest.approx(float(np.ptp(torque)), rel=1e-6)
    # At least that of the largest; the smaller one may or may not stand out of its doubt.
    assert 0.95 * 2 * 0.08 < np.ptp(torque) < 1.1 * 2 * (0.08 + 0.03)
    assert session.drive.status()["mode"] == "off"


def test_a_motor_without_has_none_and_says_how_little_would_have_been_seen() -> None:
    outcome, _ = Ready(LIFT).run("cogging")
    unseen = outcome.runs[0].metrics["unseen"]
    ripple = [k for k in unseen if k % (6 * LIFT.pole_pairs) == 0]  # what hangs makes the motor's own ripple as large
    lowest = len(unseen) - len(ripple) + 1  # behind its load, up to where that lets the motor move
    assert [k for k in unseen if k not in ripple] == list(range(1, lowest)) and 12 < lowest < 24
    assert all(f.label.startswith(f"Cogging in {lowest} to ") for f in outcome.findings)
    assert all(f.label.endswith("to 72 times a turn, at most") for f in outcome.findings)
    assert outcome.summary.endswith("to 72 times a turn")
    assert 0 < outcome.findings[0].value < 0.01


def test_maps_of_several_speeds_are_weighed_and_what_they_differ_by_is_doubt() -> None:
    """Each order drawn many times about a truth: the mean is right within what it says of itself."""
    rng, n = np.random.default_rng(8), 4000
    true = 0.05 * np.exp(1j * rng.uniform(0, 2 * math.pi, n))
    stds = (0.02, 0.004, 0.01)
    maps = [
        CoggingMap(
            orders=np.arange(1, n + 1), std=np.full(n, std),
            value=true + std / math.sqrt(2) * (rng.normal(size=n) + 1j * rng.normal(size=n)),
        )
        for std in stds
    ]  # fmt: skip
    both = together(maps)
    off = both.value - true
    assert np.sqrt(np.mean(np.abs(off) ** 2)) == pytest.approx(1 / math.sqrt(sum(1 / s**2 for s in stds)), rel=0.05)
    assert np.mean(np.abs(off) < 2 * both.std) > 0.95
    assert together(maps[:1]).std == pytest.approx(maps[0].std)
    apart = replace(maps[1], value=maps[1].value + 0.1)  # by 25 of its deviations
    assert np.median(together([maps[0], apart, maps[2]]).std) > 5 * np.median(both.std)
    alone = [replace(m, orders=m.orders[:1], value=m.value[:1] + 0.2, std=m.std[:1]) for m in maps]  # none is as large
    assert together(alone).doubt < together(alone[:1]).doubt < math.inf


def test_where_one_speed_leaves_a_doubt_the_axis_is_turned_at_another(monkeypatch: pytest.MonkeyPatch) -> None:
    rig = replace(LIFT, cogging=((18, 0.05, 20), (8, 0.02, 50)))
    outcome, _ = Ready(rig).run("cogging")
    assert len(outcome.runs) == 2, "nothing to doubt"
    once = {f.kind: f for f in outcome.findings}
    monkeypatch.setattr(cogging, "DOUBTED", 0.5 * once["cogging"].std / once["cogging"].value)
    outcome, session = Ready(rig).run("cogging")
    found = {f.kind: f for f in outcome.findings}
    assert len(outcome.runs) > 2 and "in doubt" in " ".join(session.notes)
    assert found["cogging_order"].value == 18
    assert found["cogging"].value == pytest.approx(0.05, rel=0.03)
    speeds = [abs(float(np.mean(run.channels["velocity"]))) for run in outcome.runs]
    assert speeds[2] == pytest.approx(cogging.AGAIN[0] * speeds[0], rel=0.03)


def test_without_a_load_or_room_for_a_turn_it_is_refused() -> None:
    ready = Ready(LIFT)
    ready.plant = IdentifiedPlant()
    with pytest.raises(NotAllowed, match="not identified"):
        ready.run("cogging")
    short = Ready(LIFT, **{"procedure.travel": {"value": 4.0, "unit": "mm", "source": "typed"}})
    with pytest.raises(NotAllowed, match="turns of the motor"):
        short.run("cogging")


def test_the_map_is_what_drives_a_mass_that_a_perfect_loop_does_not_hold() -> None:
    """Motion computed from a known torque: half of it carried by current, half accelerating the mass."""
    speed, period, inertia, kt = 5.0, 5e-4, 1e-3, 0.5
    t = np.arange(round(3 * 2 * math.pi / speed / period)) * period
    size, order = 0.02, 12
    runs = []
    for way in (1.0, -1.0):
        angle = way * speed * t
        torque = size * np.sin(order * angle + 0.4)
        current = -0.5 * torque / kt + 0.3 * way
        swing = -0.5 * torque / (inertia * (order * speed) ** 2)  # of half the torque, on the mass
        runs.append((angle + swing, current))
    found = cogging_map(runs, torque_constant=kt, mechanics=rigid(inertia), period=period, most=40, pole_pairs=4)
    assert found.named[0] == order
    at = int(np.nonzero(found.orders == order)[0][0])
    assert found.amplitude[at] == pytest.approx(size, rel=0.03)
    angle = np.linspace(0, 2 * math.pi, 50)
    assert np.allclose(found.over(angle), size * np.sin(order * angle + 0.4), atol=0.05 * size)


def rippling(*, torque_forward: float, torque_back: float, ripple: float, noise: float = 0.0) -> CoggingMap:
    """A mass held even against cogging 24 times a turn of 0.02 N·m by a motor whose torque ripples as often."""
    speed, period, kt, order, rng = 5.0, 2.5e-4, 0.5, 24, np.random.default_rng(3)
    t = np.arange(round(3 * 2 * math.pi / speed / period)) * period
    runs = []
    for way, mean in ((1.0, torque_forward), (-1.0, torque_back)):
        angle = way * speed * t
        needed = mean - 0.02 * np.sin(order * angle + 0.4)  # what the motor must make for an even motion
        current = needed / (kt * (1 + ripple * np.sin(order * angle + 1.9)))
        runs.append((angle, current + noise * rng.normal(size=len(t))))
    return cogging_map(runs, torque_constant=kt, mechanics=rigid(1e-3), period=period, most=40, pole_pairs=4)


@pytest.mark.parametrize("ripple", [0.0, 0.01, 0.02])
def test_ripple_of_the_motors_own_torque_under_a_load_that_pulls_is_not_read_as_cogging(ripple: float) -> None:
    """24 times a turn is six times an electrical turn of four pole pairs: 2 % of 0.9 N·m is as much as the cogging."""
    found = rippling(torque_forward=0.9, torque_back=0.3, ripple=ripple, noise=0.01)
    at = 24 - 1
    assert found.named[0] == 24
    assert found.amplitude[at] == pytest.approx(0.02, rel=0.03)
    assert abs(found.amplitude[at] - 0.02) < 2 * found.std[at]


def test_what_ripple_may_be_is_doubt_where_both_ways_make_the_same_torque() -> None:
    found = rippling(torque_forward=0.9, torque_back=0.89, ripple=0.015, noise=0.05)
    at = 24 - 1
    assert abs(found.amplitude[at] / 0.02 - 1) > 0.2, "it cannot be told apart from cogging"
    assert abs(found.amplitude[at] - 0.02) < 2 * found.std[at]
    assert found.std[at] > 0.5 * RIPPLE * 0.9


def test_an_order_is_the_largest_only_where_no_other_is_likely_larger() -> None:
    def of(second: float, doubt: float) -> CoggingMap:
        return CoggingMap(
            orders=np.arange(1, 5), value=np.array([1.0, second, 0.01, 0.01], dtype=complex),
            std=np.array([0.1, doubt, 0.1, 0.1]),
        )  # fmt: skip

    assert of(0.9, 0.3).is_settled, "a smaller one, whatever its doubt"
    assert of(1.4, 0.1).is_settled, "the larger one is itself named"
    assert of(1.4, 0.1).doubt == pytest.approx(0.1 / 1.4)
    assert not of(1.4, 0.37).is_settled
    assert of(1.4, 0.37).doubt == math.inf
    assert of(1.4, 0.37).at_most == pytest.approx(1.4 + 2 * 0.37)
    assert of(1.4, 0.8).is_settled, "larger within its doubt only"
    hidden = of(1.4, 0.5)
    assert not hidden.seen[1] and not hidden.is_settled, "hardly seen, and still as likely the largest"
    assert of(0.95, 0.3).doubt == math.inf, "the smaller one by less than their doubts: more speeds tell"
    assert of(0.4, 0.1).doubt == pytest.approx(0.1)


def test_a_load_on_a_soft_shaft_is_not_taken_to_move_with_the_motor() -> None:
    """Both ways of a two-mass axis solved by SciPy's transfer function: no current at all, the motor swings freely."""
    speed, period, size, order = 5.0, 2.5e-4, 0.02, 12
    j1, j2, stiffness, loss = 3e-4, 4e-3, 12.0, 2e-3  # the load swings on the held motor at 8.7 Hz, cogging at 9.5 Hz
    plant = TransferFunction([j2, loss, stiffness], [j1 * j2, (j1 + j2) * loss, (j1 + j2) * stiffness, 0])
    t = np.arange(round(3 * 2 * math.pi / speed / period)) * period
    _, (answer,) = plant.freqresp([order * speed])
    runs = []
    for way in (1.0, -1.0):
        angle = way * speed * t
        # torque = size sin(order angle) over time is size sin(way w t); the motor's speed answers it, and swings.
        swing = size * np.abs(answer) * np.sin(way * order * speed * t + way * np.angle(answer) - way * np.pi / 2)
        runs.append((angle + swing / (order * speed), np.full(len(t), 0.3 * way)))
    chain = ChainLoad(inertias=(j1, j2), springs=(stiffness,), losses=(loss,), rubs=(0.0,), own=0.0)

    def found(mechanics: Mechanics) -> float:
        seen = cogging_map(runs, torque_constant=0.5, mechanics=mechanics, period=period, most=40, pole_pairs=4)
        return float(seen.amplitude[seen.orders == order][0])

    assert found(chain.response) == pytest.approx(size, rel=0.02)
    assert found(IdentifiedPlant(chain=chain).mechanics) == found(chain.response)
    assert abs(found(rigid(j1 + j2)) / size - 1) > 0.5, "as one mass it would be far off"


@pytest.mark.parametrize("size", [0.0, 0.002])
def test_noise_where_the_load_stands_against_the_motor_is_no_cogging_and_what_is_hidden_is_within_the_bound(
    size: float,
) -> None:
    speed, period, order, rng = 5.0, 2.5e-4, 8, np.random.default_rng(5)
    j1, j2, stiffness = 3e-4, 4e-3, 900.0  # the load stands against the motor at 75 Hz: 95 times a turn at one speed
    chain = ChainLoad(inertias=(j1, j2), springs=(stiffness,), losses=(0.004,), rubs=(0.0,), own=0.0)
    t = np.arange(round(3 * 2 * math.pi / speed / period)) * period
    runs = []
    for way in (1.0, -1.0):
        angle = way * speed * t
        noise = np.convolve(rng.normal(size=len(t)), np.ones(40) / 40, mode="same")  # a device's, below some 50 Hz
        current = 0.3 * way - size * np.sin(order * angle) / 0.5  # all of the cogging carried by current
        runs.append((angle + 4e-4 * noise, current + 0.05 * rng.normal(size=len(t))))
    found = cogging_map(runs, torque_constant=0.5, mechanics=chain.response, period=period, most=120, pole_pairs=4)
    assert list(found.named) in ([], [order])
    assert found.at_most > max(size, 1e-4)
    assert found.seen.sum() > 60


def test_an_axis_that_sticks_at_first_is_turned_faster_and_says_so() -> None:
    ready = Ready(replace(
        LIFT, cogging=((24, 0.08, 20),), coulomb_load=0.5, breakaway_ratio=1.9, stribeck_speed=6.0,
    ))  # fmt: skip
    ready.client.write({"velocity.gain": 0.05, "velocity.reset_time": 0.5})
    outcome, session = ready.run("cogging")
    assert any("stuck and slipped; turned" in note for note in session.notes)
    found = {f.kind: f for f in outcome.findings}
    if "cogging_order" in found:
        assert found["cogging_order"].value == 24
        assert found["cogging"].value == pytest.approx(0.08, rel=0.2)  # what is asked for of every axis
    else:
        assert found["cogging"].value > 0.08  # told as a bound, and the bound holds


def test_less_than_a_turn_is_no_map() -> None:
    x = np.linspace(0, 3.0, 500)
    with pytest.raises(UnusableInput, match="whole turn"):
        cogging_map([(x, np.zeros(500))], torque_constant=1.0, mechanics=rigid(1.0), period=1e-3, most=10, pole_pairs=4)


def test_an_axis_that_sticks_is_refused_and_told_what_carries_it_over() -> None:
    ready = Ready(replace(LIFT, coulomb_load=1.2, breakaway_ratio=2.5, stribeck_speed=8.0))
    ready.client.write({"velocity.gain": 0.002, "velocity.reset_time": 1.0})  # a loop far too soft for it
    with pytest.raises((SticksAndSlips, AxisStopped)) as refusal:
        ready.run("cogging")
    assert refusal.value.parts[2]
