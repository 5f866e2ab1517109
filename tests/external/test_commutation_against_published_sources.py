"""Commutation against what is published: six-step Halls, torque over angle error, resolver signals, quadrature fit."""

import math
from collections.abc import Callable

import control
import numpy as np
import pytest
from scipy.optimize import least_squares

from cadrel.core.feedback import SignalCircle, fit_circle
from cadrel.core.identification import learn_halls
from cadrel.core.simulation import SimulatedDrive
from cadrel.link import LinkedDrive
from cadrel.procedures.route import load_project_values
from tests.conftest import rig_of, values_of
from tests.core.simulation.test_devices import drive_with

# Six-step commutation: with Hall elements 120° electrical apart the code H3 H2 H1 runs 1, 3, 2, 6, 4, 5 in one turn,
# each for 60° (common practice; so in Krishnan, "Permanent Magnet Synchronous and Brushless DC Motor Drives", 2010,
# from memory). Each Hall is high for half a turn, 120° after the one before.
SIX_STEP = ((0, 60, 1), (60, 120, 3), (120, 180, 2), (180, 240, 6), (240, 300, 4), (300, 360, 5))


def test_the_six_step_table_is_read_as_published() -> None:
    angle = np.radians(np.arange(0, 1080, 0.1) + 0.05)
    degrees = np.degrees(angle) % 360
    # From the three signals themselves, high for half a turn each, not from the list of codes.
    table = sum(((degrees - start) % 360 < 180).astype(np.int64) << k for k, start in enumerate((300, 60, 180)))
    for low, high, code in SIX_STEP:
        assert set(table[(degrees > low) & (degrees < high)]) == {code}
    found = learn_halls(angle, table, angle[::-1], table[::-1])
    assert found.fault is None
    assert not found.mirrored
    assert math.degrees(abs(found.offset)) < 0.1


@pytest.mark.parametrize(("error_deg", "left"), [(0.0, 1.0), (25.842, 0.9), (60.0, 0.5)])
def test_torque_per_amp_falls_with_the_cosine_of_the_angle_error(
    make_drive: Callable[..., tuple[LinkedDrive, SimulatedDrive]], error_deg: float, left: float
) -> None:
    # T = 3/2 p psi i cos(error): any text on field orientation; cos 25.842° = 0.9, cos 60° = 0.5, exact.
    truth = rig_of("tile-pusher", device="serial", coulomb_motor=0.0, coulomb_load=0.0, signal_noise=0.0,
                   viscous_motor=0.0, viscous_load=0.0, inertia_motor=0.01, stop_low=-1e9, stop_high=1e9)  # fmt: skip
    offset = math.remainder(truth.pole_pairs * truth.index_angle + math.radians(error_deg), 2 * math.pi)
    drive = drive_with(
        truth,
        **{
            "commutation.valid": 1.0, "feedback.halls": 0.0, "commutation.offset": offset, "current.gain": 17.0,
            "current.reset_time": 0.0034, "limit.current": 6.0, "motor.current_peak": 12.0, "limit.velocity": 900.0,
            "motor.speed_max": 900.0, "motor.inductance": 0.0045, "motor.flux_linkage": truth.flux_linkage,
        },
    )  # fmt: skip
    drive.take_control("test")
    drive.write({"power.undervoltage": 100.0})
    drive.check_lease(drive.lease)
    drive.enable("current", guard_low=-1e9, guard_high=1e9, guard_speed=1e9)
    current = 0.3
    drive.motion.excite("current_q", np.full(400, current), divider=1, repeats=1)
    momenta = []
    for seconds in (0.005, 0.010):  # from where the current has risen, while it is still slow
        drive.advance(seconds)
        momenta.append(
            truth.inertia_motor * drive.running.state.omega1 + truth.inertia_load * drive.running.state.omega2
        )
    torque = (momenta[1] - momenta[0]) / 0.010
    full = 1.5 * truth.pole_pairs * truth.flux_linkage * current
    assert torque / full == pytest.approx(left, abs=0.02)  # current noise of 4 % of 0.3 A, averaged


def test_a_resolver_sends_sine_and_cosine_of_its_pole_pairs_times_the_angle() -> None:
    # Resolver equations after demodulation: U1 = U0 cos(p theta), U2 = U0 sin(p theta) (any data sheet).
    truth = rig_of("tile-pusher", device="resolver", resolver_pairs=2, signal_noise=0.0, index_angle=0.0)
    drive = drive_with(truth)
    for _ in range(5):
        drive.turn_by_hand(0.37, 0.3)
        drive.advance(0.5)
        raw, theta = drive.raw(), float(drive.running.state.theta1)
        assert raw["cos"] == pytest.approx(math.cos(2 * theta), abs=1e-9)
        assert raw["sin"] == pytest.approx(math.sin(2 * theta), abs=1e-9)


def test_the_tracking_converter_follows_like_a_second_order_loop() -> None:
    # A type II loop with natural frequency w and damping d answers a step with the step response of
    # (2 d w s + w²) / (s² + 2 d w s + w²) (Boyes (ed.), "Synchro and Resolver Conversion", 1980, from memory).
    from cadrel.core.simulation.device import DAMPING

    bandwidth = 300.0
    drive = drive_with(
        rig_of("tile-pusher", device="resolver", signal_noise=0.0), **{"feedback.resolver_bandwidth": bandwidth}
    )
    drive.advance(0.1)
    start, step = float(drive.running.state.sig_total), 0.05
    drive.running.state.theta1 += step
    drive.running.state.theta2 += step
    seen = []
    for _ in range(80):
        drive._advance_kernel(1)
        seen.append(float(drive.running.state.sig_total) - start)
    w = 2 * math.pi * bandwidth
    t = np.arange(1, 81) * 62.5e-6
    loop = control.tf([2 * DAMPING * w, w * w], [1, 2 * DAMPING * w, w * w])
    expected = step * control.step_response(loop, np.concatenate([[0.0], t])).outputs[1:]
    np.testing.assert_allclose(seen, expected, atol=0.09 * step)


def test_the_quadrature_fit_agrees_with_a_direct_search_for_the_ellipse() -> None:
    # P. L. M. Heydemann, Appl. Opt. 20 (1981) 3382: errors of offset, gain and quadrature are taken out by a least
    # squares fit of the ellipse (from memory). The judge is SciPy's solver on the signals' own equations.
    rng = np.random.default_rng(11)
    true = SignalCircle(amplitude=0.8, offset_cos=0.04, offset_sin=-0.06, gain=1.12, quadrature=math.radians(-4))
    phi = rng.uniform(0, 2 * math.pi, 800)
    cos, sin = (s + rng.normal(0, 1e-3, 800) for s in true.signals(phi))

    def distance(p: np.ndarray) -> np.ndarray:
        circle = SignalCircle(amplitude=p[0], offset_cos=p[1], offset_sin=p[2], gain=p[3], quadrature=p[4])
        u, v = circle.signals(circle.phase(cos, sin))
        return np.concatenate([u - cos, v - sin])

    judged = least_squares(distance, [1, 0, 0, 1, 0]).x
    found = fit_circle(cos, sin)
    mine = [found.amplitude, found.offset_cos, found.offset_sin, found.gain, found.quadrature]
    np.testing.assert_allclose(mine, judged, atol=3e-4)


@pytest.mark.parametrize("current", [2.0, 6.0])
def test_a_shaft_held_by_a_vector_swings_at_the_natural_frequency_of_a_stepping_motor(
    make_drive: Callable[..., tuple[LinkedDrive, SimulatedDrive]], current: float
) -> None:
    # Natural frequency of a rotor held by its field: w = sqrt(p T_h / J), T_h the holding torque, for small swings
    # (Kenjo and Sugawara, "Stepping Motors and their Microprocessor Controls", 1994, from memory).
    truth = rig_of("tile-pusher", coulomb_motor=0.0, coulomb_load=0.0, viscous_load=0.001, stiffness=1e5, damping=5.0)
    drive, simulated = make_drive(truth)
    load_project_values(drive, values_of("tile-pusher"), owner="test")
    drive.enable("vector", guard_low=-1e4, guard_high=1e4, guard_speed=1e4)
    drive.vector(angle=0.0, rate=1e6, current=current, rise=5.0)
    for _ in range(100):  # until the pull to the vector has died out
        drive.link.wait(0.05)
        drive.beat()
    drive.vector(angle=0.2, rate=1e6, current=current, rise=5.0)  # a small jump
    swing, times = [], []
    for _ in range(200):
        drive.link.wait(0.002)
        drive.beat()  # takes its time as well
        swing.append(truth.pole_pairs * float(simulated.running.state.theta1))
        times.append(simulated.time)
    crossings = np.nonzero(np.diff(np.sign(np.array(swing) - np.mean(swing))))[0]
    period = 2 * (times[crossings[-1]] - times[crossings[0]]) / (len(crossings) - 1)
    holding = 1.5 * truth.pole_pairs * truth.flux_linkage * current
    # Their current source is ideal. A PI current loop lets the back-EMF drive a current through kp (1 + 1 / jwTi);
    # well below 1 / Ti that current is in phase with acceleration and acts as inertia, 1.5 p² psi² Ti / kp.
    loop = simulated.memory.working
    soft = 1.5 * (truth.pole_pairs * truth.flux_linkage) ** 2 * loop["current.reset_time"] / loop["current.gain"]
    natural = math.sqrt(truth.pole_pairs * holding / (truth.inertia_motor + truth.inertia_load + soft))
    assert 2 * math.pi / period == pytest.approx(natural, rel=0.03)
