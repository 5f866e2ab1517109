"""The loops on the true plant, by a second way: the exact sampled system, written anew from the rig's own figures.

Nothing here is shared with `core.control.cascade` but the filters' coefficients: plant and winding are discretised by
SciPy at the tick, the drive's difference equations are added by hand, and frequency responses are read from the state
space of one velocity sample. Coulomb friction, dead time and limits are left out: this is the plant at the working
current.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy.signal import bilinear, cont2discrete

from cadrel.core.control import Margins, read_margins
from cadrel.core.control.filters import lowpass_pole, notch
from cadrel.core.parameters import SECTIONS
from cadrel.core.simulation import RigTruth
from cadrel.core.simulation.layout import TICK, TV

FloatArray = NDArray[np.float64]
DAMPING = 0.9  # of the stand-in's tracking converter, as docs/control-structure.md has it
LOOPS = ("velocity", "position")
COARSE, DENSE = 6000, 4000  # points of the grid, and across each resonance


@dataclass(frozen=True, slots=True)
class TrueLoop:
    """One loop on the true plant."""

    margins: Margins
    is_stable: bool
    # It crosses the negative axis beyond -1, which its plant does not need: where a limit takes gain from it, it runs
    # away.
    is_conditional: bool = False


def true_loops(
    truth: RigTruth, values: Mapping[str, float], *, speed_of_run: float | None = None, names: tuple[str, ...] = LOOPS
) -> dict[str, TrueLoop]:
    """Return velocity and position loop of a rig with the drive values in force, or those named. SI, by registry key.

    At rest, or with the age that edges have at the `speed_of_run`. [rad/s]
    """
    a, b, speed, angle = _velocity_sample(truth, values)
    f = _grid(truth)
    z = np.exp(2j * np.pi * f * TV)
    to_speed = _response(a, b, speed, z)
    if speed_of_run is not None:
        to_speed = to_speed * _age(truth, values, f, speed_of_run)
    controller = _controller(values, z)
    velocity = controller * to_speed
    found = {}
    needed = unstable_pairs_by_itself(truth, values) > 0
    for name in names:
        loop = velocity
        if name == "position":
            loop = values["position.gain"] * controller * _response(a, b, angle, z) / (1 + velocity)
        beyond = np.maximum(loop.real[1:], loop.real[:-1]) < -1.0
        crosses = bool(np.any(beyond & ((loop.imag[1:] > 0) != (loop.imag[:-1] > 0))))
        stable = _is_stable(name, a, b, speed, angle, values)
        found[name] = TrueLoop(read_margins(loop, f), stable, crosses and not needed)
    return found


def at_small_currents(truth: RigTruth, i_q: FloatArray) -> RigTruth:
    """Return a rig as the currents of a recording meet it: dead time acts on them like resistance. [A]

    Statistical linearisation (R. C. Booton, 1954, from memory): the voltage that a phase loses, as the rig's own law
    has it, against the current that flows in it, over all currents recorded and all angles of the rotor.
    """
    angle = np.linspace(0.0, math.pi, 90, endpoint=False)[:, None]
    share = np.sin(angle)
    steps = i_q[:: max(1, len(i_q) // 2000)]
    steps = (steps - steps.mean())[None, :]
    around = share * (i_q.mean() + steps)
    lost = truth.dead_voltage * share_lost(around, truth)
    slope = float(np.mean(lost * share * steps) / np.mean((share * steps) ** 2))
    # Of three phases each takes sin² of the current, two thirds of the sum is q: the mean over the angle is one slope.
    return replace(truth, resistance=truth.resistance + slope)


def share_lost(current: FloatArray, truth: RigTruth) -> FloatArray:
    """Return the share of the dead-time voltage lost at a phase current, by the law of docs/formats/rig.md."""
    x = current / truth.dead_current
    return {
        "hyperbola": lambda: x / (1 + np.abs(x)),
        "tanh": lambda: np.tanh(x),
        "atan": lambda: 2 / math.pi * np.arctan(x),
        "exponential": lambda: np.sign(x) * (1 - np.exp(-np.abs(x))),
        "clipped": lambda: np.clip(x, -1.0, 1.0),
    }[truth.dead_law]()


def true_velocity_closed(
    truth: RigTruth, values: Mapping[str, float], frequency: FloatArray, *, speed_of_run: float
) -> NDArray[np.complex128]:
    """Return commanded to measured, unfiltered speed of a rig, its velocity loop closed. [Hz], [rad/s]"""
    z = np.exp(2j * np.pi * frequency * TV)
    forward = _controller(values, z) * true_velocity_plant(truth, values, frequency, speed_of_run=speed_of_run)
    return forward / (1 + forward * _filter(values, z))


def true_velocity_bandwidth(truth: RigTruth, values: Mapping[str, float], *, speed_of_run: float) -> float:
    """Return where the motor's speed first falls 3 dB behind the commanded one, its velocity loop closed. [Hz]

    Where a load's anti-resonance takes the motor's speed away before that, that is where.
    """
    f = _grid(truth)
    fallen = np.abs(true_velocity_closed(truth, values, f, speed_of_run=speed_of_run)) < math.sqrt(0.5)
    return float(f[np.argmax(fallen)] if fallen.any() else f[-1])


def true_position_closed(truth: RigTruth, values: Mapping[str, float], frequency: FloatArray) -> NDArray[np.complex128]:
    """Return commanded position to the position that is fed back, of a rig at rest, its position loop closed. [Hz]"""
    a, b, speed, angle = _velocity_sample(truth, values)
    z = np.exp(2j * np.pi * frequency * TV)
    controller = _controller(values, z)
    inner = 1 + controller * _response(a, b, speed, z)
    forward = values["position.gain"] * controller * _response(a, b, angle, z) / inner
    return np.asarray(forward / (1 + forward), dtype=np.complex128)


def true_velocity_plant(
    truth: RigTruth, values: Mapping[str, float], frequency: FloatArray, *, speed_of_run: float
) -> NDArray[np.complex128]:
    """Return torque command to measured, unfiltered speed of a rig, its velocity loop open. [Hz], [rad/s]"""
    a, b, speed, _ = _velocity_sample(truth, values)
    z = np.exp(2j * np.pi * frequency * TV)
    seen = _response(a, b, speed, z) * _age(truth, values, frequency, speed_of_run)
    return seen / _filter(values, z)


def unstable_pairs_by_itself(truth: RigTruth, values: Mapping[str, float]) -> int:
    """Return how many pairs of poles outside the unit circle a rig has with its velocity loop open.

    Back-EMF that is fed forward late drives a resonance that hardly damps itself.
    """
    a, *_ = _velocity_sample(truth, values)
    return int(np.count_nonzero(np.abs(np.linalg.eigvals(a)) > 1.0 + 1e-6)) // 2


def _filter(values: Mapping[str, float], z: NDArray[np.complex128]) -> NDArray[np.complex128]:
    """The low-pass of the measured speed."""
    pole = lowpass_pole(values["velocity.feedback_filter"], period=TV)
    return np.asarray((1 - pole) / (1 - pole / z), dtype=np.complex128)


def resonances(truth: RigTruth) -> tuple[float, ...]:
    """Return the frequencies at which the free masses of a rig ring against each other, rising. [Hz]"""
    masses, stiffness = _masses_and_springs(truth)
    return _rings(masses, stiffness)[1:]


def antiresonances(truth: RigTruth) -> tuple[float, ...]:
    """Return the frequencies at which what a rig's motor turns rings while the motor is held, rising. [Hz]"""
    masses, stiffness = _masses_and_springs(truth)
    return _rings(masses[1:], stiffness[1:, 1:])


def _masses_and_springs(truth: RigTruth) -> tuple[FloatArray, FloatArray]:
    springs = [truth.stiffness]
    masses = [truth.inertia_motor, truth.inertia_load]
    if truth.inertia_third > 0.0:
        springs.append(truth.stiffness_third)
        masses.append(truth.inertia_third)
    stiffness = np.zeros((len(masses), len(masses)))
    for k, spring in enumerate(springs):
        stiffness[k : k + 2, k : k + 2] += spring * np.array([[1.0, -1.0], [-1.0, 1.0]])
    return np.array(masses), stiffness


def _rings(masses: FloatArray, stiffness: FloatArray) -> tuple[float, ...]:
    squared = np.sort(np.linalg.eigvals(np.diag(1 / masses) @ stiffness).real)
    return tuple(float(w) / (2 * math.pi) for w in np.sqrt(np.maximum(squared, 0.0)))


def _age(
    truth: RigTruth, values: Mapping[str, float], frequency: FloatArray, speed_of_run: float
) -> NDArray[np.complex128]:
    """A speed counted from edges is as old as the last one: at the speed of a run half a count's time on average."""
    if not truth.device_kind.counts_lines:
        return np.ones(len(frequency), dtype=np.complex128)
    age = math.pi / values["feedback.counts"] / abs(speed_of_run)
    return np.asarray(np.exp(-2j * np.pi * frequency * age), dtype=np.complex128)


def _velocity_sample(
    truth: RigTruth, values: Mapping[str, float]
) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    """State, input (torque command) and the rows of filtered speed and measured angle, over one velocity sample.

    States: i, w1, th1, w2, th2, with a third mass w3, th3, then voltage in force, voltage next, integral, measured
    angle at the last sample, filtered speed, and of a resolver's tracking converter the angle, the speed it holds and
    the mean of that over the last ticks.
    """
    t = truth
    m = 7 if t.inertia_third > 0.0 else 5
    n = m + 8
    kt, ke = 1.5 * t.pole_pairs * t.flux_linkage, t.pole_pairs * t.flux_linkage
    r, ind = t.phase_resistance, t.inductance_q
    plant = np.zeros((m, m))
    plant[0, :2] = -r / ind, -ke / ind
    plant[1, :5] = np.array([kt, -(t.damping + t.viscous_motor), -t.stiffness, t.damping, t.stiffness])
    plant[1] /= t.inertia_motor
    plant[2, 1] = 1.0
    plant[3, :5] = np.array([0.0, t.damping, t.stiffness, -(t.damping + t.viscous_load), -t.stiffness])
    plant[4, 3] = 1.0
    if m == 7:
        beyond = np.array([t.damping_third, t.stiffness_third])
        plant[3, 3:5] -= beyond
        plant[3, 5:7] += beyond
        plant[5, 3:5], plant[5, 5:7] = beyond / t.inertia_third, -beyond / t.inertia_third
        plant[6, 5] = 1.0
    plant[3] /= t.inertia_load
    inlet = np.zeros((m, 1))
    inlet[0, 0] = 1 / ind
    phi, gamma, *_ = cont2discrete((plant, inlet, np.eye(m), np.zeros((m, 1))), TICK, method="zoh")
    kp, tn = values["current.gain"], values["current.reset_time"]
    kt_drive = 1.5 * values["motor.pole_pairs"] * values["motor.flux_linkage"]
    ke_drive = values["motor.pole_pairs"] * values["motor.flux_linkage"]
    pole = lowpass_pole(values["velocity.feedback_filter"], period=TV)
    x, u = np.eye(n, n + 1), np.zeros(n + 1)  # every state and the input at once, one a column
    u[n] = 1.0
    follows = 2 * math.pi * values["feedback.resolver_bandwidth"] if t.device_kind.converts_signals else 0.0
    seen_angle = x[2] - (t.word_latency * x[1] if t.device_kind.has_words else 0.0)
    if follows:
        seen_angle = x[m + 5].copy()
    raw = x[m + 7].copy() if follows else (seen_angle - x[m + 3]) / TV
    speed = pole * x[m + 4] + (1 - pole) * raw
    tracked, tracked_speed = (x[m + 5].copy(), x[m + 6].copy()) if follows else (np.zeros(n + 1), np.zeros(n + 1))
    mean = np.zeros(n + 1)
    body, now, integral = x[:m].copy(), x[m + 1].copy(), x[m + 2].copy()
    for _ in range(round(TV / TICK)):
        error = u / kt_drive - body[0]
        following = kp * error + integral + ke_drive * speed
        integral = integral + kp / tn * TICK * error
        body = phi @ body + gamma @ now[None, :]
        now = following
        if follows:
            ahead = body[2] - tracked
            tracked_speed = tracked_speed + TICK * follows**2 * ahead
            tracked = tracked + TICK * (tracked_speed + 2 * DAMPING * follows * ahead)
            mean = mean + TICK / TV * tracked_speed
    update = np.vstack([body, np.zeros(n + 1), now, integral, seen_angle, speed, tracked, tracked_speed, mean])
    # A device on the load tells where that is at once.
    return update[:, :n], update[:, n], speed[:n], (x[4] if _is_on_load(values) else seen_angle)[:n]


def _is_on_load(values: Mapping[str, float]) -> bool:
    return values.get("feedback.position_device", 0.0) != 0.0 and values.get("feedback.second_counts", 0.0) != 0.0


def _response(a: FloatArray, b: FloatArray, row: FloatArray, z: NDArray[np.complex128]) -> NDArray[np.complex128]:
    values, vectors = np.linalg.eig(a)
    left = row @ vectors
    right = np.linalg.solve(vectors, b.astype(complex))
    return (left * right / (z[:, None] - values[None, :])).sum(1)


def _controller(values: Mapping[str, float], z: NDArray[np.complex128]) -> NDArray[np.complex128]:
    w = 1 / z
    pi = values["velocity.gain"] * (1 + TV / values["velocity.reset_time"] * w / (1 - w))
    pole = lowpass_pole(values["velocity.torque_filter"], period=TV)
    q = notch(
        values["velocity.notch_frequency"],
        width=values["velocity.notch_width"],
        depth_db=values["velocity.notch_depth"],
        period=TV,
    )
    whole = pi * (1 - pole) / (1 - pole * w) * (q.b0 + q.b1 * w + q.b2 * w * w) / (1 + q.a1 * w + q.a2 * w * w)
    for top, below in _sections(values):
        whole = whole * np.polyval(top, z) / np.polyval(below, z)
    return np.asarray(whole, dtype=np.complex128)


def _sections(values: Mapping[str, float]) -> list[tuple[FloatArray, FloatArray]]:
    """Numerator and denominator in z of every section that is on, by SciPy's bilinear transform."""
    found = []
    for n in SECTIONS:
        pole, zero = (values[f"velocity.section{n}_{key}"] for key in ("pole", "zero"))
        if pole <= 0.0:
            continue
        dampings = [values[f"velocity.section{n}_{key}_damping"] for key in ("zero", "pole")]
        found.append(_section(zero, dampings[0], pole, dampings[1]))
    return found


@lru_cache(maxsize=64)  # a loop is looked at on many rigs
def _section(zero: float, zero_damping: float, pole: float, pole_damping: float) -> tuple[FloatArray, FloatArray]:
    """Numerator and denominator in z of one section; frequencies in Hz, a zero of 0 is none."""
    warped = [2 / TV * math.tan(math.pi * f * TV) for f in (zero, pole)]
    top = [1 / warped[0] ** 2, 2 * zero_damping / warped[0], 1.0] if zero > 0.0 else [1.0]
    numerator, denominator = bilinear(top, [1 / warped[1] ** 2, 2 * pole_damping / warped[1], 1.0], fs=1 / TV)
    return numerator, denominator


def _is_stable(
    name: str, a: FloatArray, b: FloatArray, speed: FloatArray, angle: FloatArray, values: Mapping[str, float]
) -> bool:
    """Whether every eigenvalue of the closed loop lies inside the unit circle."""
    pole = lowpass_pole(values["velocity.torque_filter"], period=TV)
    q = notch(
        values["velocity.notch_frequency"],
        width=values["velocity.notch_width"],
        depth_db=values["velocity.notch_depth"],
        period=TV,
    )
    kp, tn = values["velocity.gain"], values["velocity.reset_time"]
    n, sections = len(a), _sections(values)
    # Plant, then integral, low-pass, the notch's two inputs and two outputs before, and those of every section.
    x = np.eye(n + 6 + 4 * len(sections))
    plant, inner, lp, x1, x2, y1, y2 = x[:n], x[n], x[n + 1], x[n + 2], x[n + 3], x[n + 4], x[n + 5]
    command = -values["position.gain"] * (angle @ plant) if name == "position" else np.zeros(len(x))
    error = command - speed @ plant
    filtered = pole * lp + (1 - pole) * (kp * error + inner)
    torque = q.b0 * filtered + q.b1 * x1 + q.b2 * x2 - q.a1 * y1 - q.a2 * y2
    kept = [inner + kp / tn * TV * error, filtered, filtered, x1, torque, y1]
    for k, (top, below) in enumerate(sections):
        before = x[n + 6 + 4 * k : n + 10 + 4 * k]
        entry, torque = torque, top[0] * torque + top[1:] @ before[:2] - below[1:] @ before[2:]
        kept += [entry, before[0], torque, before[2]]
    update = np.vstack([a @ plant + np.outer(b, torque), *kept])
    moduli = np.sort(np.abs(np.linalg.eigvals(update)))[::-1]
    # Without a position loop nothing holds the absolute angle: one eigenvalue of exactly 1 belongs to it.
    free = 0 if name == "position" else 1
    return bool(moduli[free] < 1.0 - 1e-9 and (not free or moduli[0] < 1.0 + 1e-6))


def _grid(truth: RigTruth) -> FloatArray:
    top = 0.49 / TV
    parts = [np.geomspace(0.3, top, COARSE)]
    together = truth.inertia_motor * truth.inertia_load / (truth.inertia_motor + truth.inertia_load)
    for inertia in (together, truth.inertia_load):
        centre = math.sqrt(truth.stiffness / inertia) / (2 * math.pi)
        if centre < top:
            parts.append(centre * (1 + 0.2 * np.linspace(-1, 1, DENSE) ** 3))
    grid = np.unique(np.concatenate(parts))
    return grid[grid < top]
