"""The plant on its own: energy, friction, resonance, bus."""

import math
from collections.abc import Callable

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from cadrel.core.simulation import RigTruth, layout, plant_of
from cadrel.core.simulation.plant import plant_tick, turned
from tests.conftest import rig_of


def prepared(truth: RigTruth, *, mode: int = layout.CURRENT) -> tuple[np.record, layout.Plant]:
    rig = plant_of(truth, rng=np.random.default_rng(0))
    state = layout.fresh_state(supply_voltage=truth.supply_voltage, theta=0.0, seed=1)
    state.mode = mode
    state.cos_rotor, state.sin_rotor = 1.0, 0.0
    return state, rig.plant


def run(
    state: np.record,
    plant: layout.Plant,
    ticks: int,
    volts: tuple[float, float],
    tick: Callable[..., None] = plant_tick,
) -> None:
    for _ in range(ticks):
        angle = plant.pole_pairs * state.theta1
        state.cos_rotor, state.sin_rotor = math.cos(angle), math.sin(angle)
        vd, vq = volts
        state.v_alpha = vd * state.cos_rotor - vq * state.sin_rotor
        state.v_beta = vd * state.sin_rotor + vq * state.cos_rotor
        tick(state, plant)
        state.tick += 1


def test_energy_balance_closes_within_a_percent_over_a_move() -> None:
    state, plant = prepared(rig_of("tile-pusher", dead_voltage=0.0))
    stored_before = 0.0
    run(state, plant, 4000, (0.0, 40.0))
    run(state, plant, 3000, (0.0, -10.0))
    magnetic = 0.75 * (plant.inductance_d * state.i_d**2 + plant.inductance_q * state.i_q**2)
    kinetic = 0.5 * (plant.inertia_motor * state.omega1**2 + plant.inertia_load * state.omega2**2)
    spring = 0.5 * plant.stiffness * (state.theta1 - state.theta2) ** 2
    spent = state.energy_copper + state.energy_friction + state.energy_spring_loss
    stored = magnetic + kinetic + spring - stored_before
    throughput = state.energy_copper + abs(state.energy_in)
    assert abs(state.energy_in - spent - stored) < 0.01 * throughput
    assert state.energy_friction > 0


def test_a_run_is_what_scipy_integrates_from_the_same_equations() -> None:
    truth = rig_of("tile-pusher", dead_voltage=0.0, coulomb_motor=0.0, coulomb_load=0.0)
    state, p = prepared(truth)

    def slopes(_: float, y: np.ndarray) -> list[float]:
        i_d, i_q, w1, w2, th1, th2 = y
        we = p.pole_pairs * w1
        te = 1.5 * p.pole_pairs * (p.flux_linkage * i_q + (p.inductance_d - p.inductance_q) * i_d * i_q)
        shaft = p.stiffness * (th1 - th2) + p.damping * (w1 - w2)
        # Held stator voltage: the drive's ticks turn it, so in the rotor frame it lags within the tick.
        return [
            (0.0 - p.resistance * i_d + we * p.inductance_q * i_q) / p.inductance_d,
            (5.0 - p.resistance * i_q - we * (p.inductance_d * i_d + p.flux_linkage)) / p.inductance_q,
            (te - shaft - p.viscous_motor * w1) / p.inertia_motor,
            (shaft - p.viscous_load * w2) / p.inertia_load,
            w1,
            w2,
        ]

    ticks = 400
    reference = solve_ivp(slopes, (0, ticks * layout.TICK), [0.0] * 6, rtol=1e-9, atol=1e-12)
    run(state, p, ticks, (0.0, 5.0))
    assert state.i_q == pytest.approx(reference.y[1, -1], rel=2e-3)
    assert state.omega1 == pytest.approx(reference.y[2, -1], rel=2e-3)
    assert state.theta2 == pytest.approx(reference.y[5, -1], rel=2e-3)


def test_below_breakaway_nothing_moves_and_above_it_something_does() -> None:
    truth = rig_of("tile-pusher", dead_voltage=0.0, coulomb_load=0.0)
    torque_constant = 1.5 * truth.pole_pairs * truth.flux_linkage
    breakaway = truth.coulomb_motor * truth.breakaway_ratio / torque_constant * truth.resistance
    state, plant = prepared(truth)
    run(state, plant, 3000, (0.0, 0.9 * breakaway))
    assert state.omega1 == 0.0
    assert state.theta1 == 0.0
    run(state, plant, 3000, (0.0, 1.3 * breakaway))
    assert state.theta1 > 0


def test_sliding_friction_takes_its_torque_from_a_coasting_rotor() -> None:
    truth = rig_of(
        "tile-pusher",
        coulomb_load=0.0,
        viscous_motor=0.0,
        viscous_load=0.0,
        inertia_load=1e-9,
        stiffness=1e-4,
        damping=0.0,
    )
    state, plant = prepared(truth, mode=layout.OFF)
    state.omega1 = state.omega2 = 100.0
    state.stuck1 = state.stuck2 = 0
    run(state, plant, 1600, (0.0, 0.0))
    assert state.omega1 == pytest.approx(100.0 - truth.coulomb_motor / truth.inertia_motor * 0.1, rel=0.01)


def test_braking_raises_the_bus_and_the_chopper_holds_it() -> None:
    held = rig_of("tile-pusher")
    free = rig_of("tile-pusher", brake_resistor=0.0)
    peaks = []
    for truth in (held, free):
        state, plant = prepared(truth)
        state.omega1 = state.omega2 = 400.0
        state.stuck1 = state.stuck2 = 0
        peak = 0.0
        for _ in range(40):
            back_emf = plant.pole_pairs * state.omega1 * plant.flux_linkage
            run(state, plant, 40, (0.0, back_emf - 12.0))  # a steady braking current
            peak = max(peak, float(state.v_bus))
        peaks.append(peak)
    assert peaks[0] < truth.chopper_on + 3
    assert peaks[1] > peaks[0] + 5


def test_small_turns_are_sine_and_cosine() -> None:
    for x in np.linspace(-0.6, 0.6, 25):
        c, s = turned.py_func(math.cos(0.3), math.sin(0.3), x)
        assert c == pytest.approx(math.cos(0.3 + x), abs=5e-7)
        assert s == pytest.approx(math.sin(0.3 + x), abs=5e-7)
