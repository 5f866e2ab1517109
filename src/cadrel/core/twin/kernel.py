"""Numba kernel of the twin: the drive's cascade around winding, motor and load, with what makes them not linear."""

import math
from typing import NamedTuple

import numba
import numpy as np

SUBSTEPS = 4  # of a tick, for mechanics: 64 kHz at the usual tick, far above any shaft


class Figures(NamedTuple):
    """What the kernel computes with. SI, at the motor shaft."""

    # the drive
    tick: float
    ticks: int  # to a velocity sample
    position_gain: float
    velocity_feedforward: float
    acceleration_torque: float  # [N·m·s²/rad]
    friction_torque: float  # added the way the command moves
    friction_blend: float  # [rad/s] of the command within which it turns round
    velocity_limit: float
    velocity_gain: float
    velocity_integral: float  # [N·m/rad]
    speed_pole: float
    torque_pole: float
    current_gain: float
    current_integral: float
    current_limit: float
    voltage_limit: float  # [V] of a phase
    torque_constant: float
    pole_pairs: float
    # the winding
    resistance: float
    inductance: float
    emf: float  # [V·s/rad]
    # the mechanics
    inertia_motor: float
    inertia_load: float  # 0: one mass
    stiffness: float
    damping: float
    viscous_motor: float
    viscous_load: float
    coulomb: float  # of all that moves: with two masses half of it on each
    sticks: float  # [N·m] that breakaway is more; it fades with speed
    stribeck_speed: float
    constant: float  # that the motor must hold at rest
    half_play: float
    # the device
    resolution: float  # [rad] of a count; 0: none
    late: int  # [ticks] until an angle arrives
    tracking: float  # [rad/s]; 0: no tracking converter
    tracking_lead: float
    on_load: int  # 1: the position loop compares with a device on the load
    load_resolution: float  # [rad] of its count
    counted: int  # 1: speed is that between edges (M/T method), 0: of the angle's difference or the converter's


@numba.njit(cache=True)
def _through_shaft(twist, rate, f):
    """Torque of the shaft; within its play it carries none, and its damper never pulls."""
    beyond = abs(twist) - f.half_play
    if f.half_play > 0.0 and beyond <= 0.0:
        return 0.0
    sign = math.copysign(1.0, twist)
    torque = sign * f.stiffness * beyond + f.damping * rate
    if f.half_play > 0.0 and torque * sign < 0.0:
        return 0.0
    return torque


@numba.njit(cache=True)
def _rubbed(speed, before, share, f):
    """Speed after friction took of it: what it would turn round stands still. `share`: time over inertia.

    How much of breakaway is left follows the speed `before` the step.
    """
    level = f.coulomb
    if f.sticks > 0.0:
        level += f.sticks * math.exp(-((before / f.stribeck_speed) ** 2))
    return math.copysign(max(abs(speed) - share * level, 0.0), speed)


# What a tick changes, in one array.
CURRENT, WAITING, WOUND, ANGLE, SPEED, LOAD_ANGLE, LOAD_SPEED, FOLLOWS, FOLLOW_RATE, TOLD = range(10)
# The last edge of a counted device, and the last before the sample in which one came: which, and when. [ticks]
EDGE, EDGE_TIME, LAST_EDGE, LAST_TIME, WAY, RAW, TIME = range(10, 17)
STATES = 17
STANDSTILL = 0.02  # [s] without an edge


@numba.njit(cache=True)
def _at_rest(f):
    """The state in which the motor holds what hangs."""
    s = np.zeros(STATES)
    s[CURRENT] = f.constant / f.torque_constant
    s[WAITING] = s[WOUND] = f.resistance * s[CURRENT]
    if f.inertia_load > 0.0 and f.constant != 0.0:  # the shaft is wound up
        s[LOAD_ANGLE] = -math.copysign(f.half_play, f.constant) - f.constant / f.stiffness
    return s


@numba.njit(cache=True)
def _electrics(f, s, command, known):
    """One tick of current loop and winding; whether the voltage was limited. What is computed now acts a tick later."""
    gap = command - s[CURRENT]
    voltage = f.current_gain * gap + s[WOUND] + f.emf * known
    across = f.pole_pairs * known * f.inductance * s[CURRENT]
    room = math.sqrt(max(f.voltage_limit**2 - across**2, 0.0))
    held = min(max(voltage, -room), room)
    s[WOUND] += f.current_integral * f.tick * (gap + (held - voltage) / f.current_gain)
    decay = math.exp(-f.tick * f.resistance / f.inductance)
    s[CURRENT] = decay * s[CURRENT] + (1.0 - decay) / f.resistance * (s[WAITING] - f.emf * s[SPEED])
    s[WAITING] = held
    return held != voltage


@numba.njit(cache=True)
def _mechanics(f, s, before):
    """One tick of motor and load; the current went from `before` to what it is."""
    h = f.tick / SUBSTEPS
    for k in range(SUBSTEPS):
        along = before + (s[CURRENT] - before) * (k + 0.5) / SUBSTEPS
        push = f.torque_constant * along - f.viscous_motor * s[SPEED]
        if f.inertia_load > 0.0:
            shaft = _through_shaft(s[ANGLE] - s[LOAD_ANGLE], s[SPEED] - s[LOAD_SPEED], f)
            pulled = shaft - f.constant - f.viscous_load * s[LOAD_SPEED]
            was = s[SPEED]
            s[SPEED] = _rubbed(was + h * (push - shaft) / f.inertia_motor, was, 0.5 * h / f.inertia_motor, f)
            was = s[LOAD_SPEED]
            s[LOAD_SPEED] = _rubbed(was + h * pulled / f.inertia_load, was, 0.5 * h / f.inertia_load, f)
            s[LOAD_ANGLE] += h * s[LOAD_SPEED]
            s[ANGLE] += h * s[SPEED]
        else:
            was = s[SPEED]
            s[SPEED] = _rubbed(was + h * (push - f.constant) / f.inertia_motor, was, h / f.inertia_motor, f)
            s[ANGLE] += h * s[SPEED]
            s[LOAD_ANGLE] = s[ANGLE]


@numba.njit(cache=True)
def _tracked(f, s):
    """One tick of a resolver's tracking converter."""
    ahead = s[ANGLE] - s[FOLLOWS]
    s[FOLLOW_RATE] += f.tick * f.tracking * f.tracking * ahead
    s[FOLLOWS] += f.tick * (s[FOLLOW_RATE] + f.tracking_lead * ahead)
    s[TOLD] += s[FOLLOW_RATE]


@numba.njit(cache=True)
def _count(f, s, before):
    """One tick of a counted device: the last edge between the angle `before` and now, and its time."""
    n0, n1 = before / f.resolution + 0.5, s[ANGLE] / f.resolution + 0.5
    if math.floor(n0) != math.floor(n1):
        s[EDGE] = math.floor(n1) if n1 > n0 else math.floor(n1) + 1.0
        s[EDGE_TIME] = s[TIME] + (s[EDGE] - n0) / (n1 - n0)
    s[TIME] += 1.0


@numba.njit(cache=True)
def _between_edges(f, s):
    """Speed of a counted device: counts between last edges over the time between them. docs/control-structure.md, 2."""
    if s[EDGE_TIME] != s[LAST_TIME]:
        dt, edges = (s[EDGE_TIME] - s[LAST_TIME]) * f.tick, s[EDGE] - s[LAST_EDGE]
        if edges * s[WAY] < 0.0 and abs(edges) == 1.0:
            s[RAW] = 0.0
        else:
            s[RAW] = f.resolution * edges / dt
        s[WAY], s[LAST_EDGE], s[LAST_TIME] = edges, s[EDGE], s[EDGE_TIME]
        return s[RAW]
    since = (s[TIME] - s[EDGE_TIME]) * f.tick
    bound = f.resolution / max(since, f.tick * f.ticks)
    if since > STANDSTILL:
        s[RAW] = 0.0
    elif abs(s[RAW]) > bound:
        s[RAW] = math.copysign(bound, s[RAW])
    return s[RAW]


@numba.njit(cache=True)
def _smoothed(torque, sections, first, second):
    """Torque through the second-order sections, one velocity sample on; they keep two states each."""
    for k in range(sections.shape[0]):
        entry = torque
        torque = sections[k, 0] * entry + first[k]
        first[k] = sections[k, 1] * entry - sections[k, 3] * torque + second[k]
        second[k] = sections[k, 2] * entry - sections[k, 4] * torque
    return torque


@numba.njit(cache=True)
def _held_back(torque, sections, first, second):
    """Give the sections the states they had if they had put out a torque; return what went in for it.

    docs/control-structure.md, 4. The states given are those before the sample.
    """
    for k in range(sections.shape[0] - 1, -1, -1):
        b0, b1, b2, a1, a2 = sections[k]
        entry = torque if abs(b2) >= (1.0 - 1e-9) * b0 else (torque - first[k]) / b0
        if abs(b2) >= (1.0 - 1e-9) * b0:
            first[k], second[k] = torque * (1.0 - b0), torque * (b2 - a2)
        else:
            first[k], second[k] = b1 * entry - a1 * torque + second[k], b2 * entry - a2 * torque
        torque = entry
    return torque


@numba.njit(cache=True)
def run_twin(f, sections, place, speed_of, acceleration, out):
    """Run a move from rest. Set-points of shape (n,), one a velocity sample; `sections` (m, 5) of b0 b1 b2 a1 a2.

    Fills `out`, shape (7, n): position as the position loop's device shows it, speed as the drive knows it, current,
    position of the load, position of the motor, voltage limited, current limited.
    """
    s, period = _at_rest(f), f.tick * f.ticks
    # Filters stand where a constant torque leaves them: each has a gain of 1 at rest.
    integral, low = f.constant, f.constant
    first = f.constant * (1.0 - sections[:, 0])
    second = f.constant * (sections[:, 2] - sections[:, 4])
    past, at = np.zeros(f.late + 1), 0
    known = before = 0.0
    hung = s[LOAD_ANGLE]
    for n in range(place.shape[0]):
        shown = s[FOLLOWS] if f.tracking > 0.0 else past[(at + 1) % (f.late + 1)]
        if f.resolution > 0.0:
            shown = math.floor(shown / f.resolution + 0.5) * f.resolution  # it begins amid a count
        if f.counted == 1:
            raw = _between_edges(f, s)
        else:
            raw = s[TOLD] / f.ticks if f.tracking > 0.0 else (shown - before) / period
        before, s[TOLD] = shown, 0.0
        known += (1.0 - f.speed_pole) * (raw - known)
        reached = shown
        if f.on_load == 1:
            reached = math.floor((s[LOAD_ANGLE] - hung) / f.load_resolution + 0.5) * f.load_resolution
        wanted = f.position_gain * (place[n] - reached) + f.velocity_feedforward * speed_of[n]
        error = min(max(wanted, -1.1 * f.velocity_limit), 1.1 * f.velocity_limit) - known
        low += (1.0 - f.torque_pole) * (f.velocity_gain * error + integral - low)
        one, two = first.copy(), second.copy()
        through = _smoothed(low, sections, first, second)
        torque = through + f.acceleration_torque * acceleration[n]
        torque += f.friction_torque * min(max(speed_of[n] / f.friction_blend, -1.0), 1.0)
        asked = torque / f.torque_constant
        command = min(max(asked, -f.current_limit), f.current_limit)
        if command != asked:
            first[:], second[:] = one, two
            low = _held_back(through - torque + f.torque_constant * command, sections, first, second)
        if command == asked or error * asked < 0.0:  # integrate unless it would push further into the limit
            integral += f.velocity_integral * period * error
        out[0, n], out[1, n], out[2, n], out[3, n], out[4, n] = reached, known, s[CURRENT], s[LOAD_ANGLE], s[ANGLE]
        out[5, n], out[6, n] = 0.0, 0.0 if command == asked else 1.0
        for _ in range(f.ticks):
            driven, was = s[CURRENT], s[ANGLE]
            if _electrics(f, s, command, known):
                out[5, n] = 1.0
            _mechanics(f, s, driven)
            if f.counted == 1:
                _count(f, s, was)
            if f.tracking > 0.0:
                _tracked(f, s)
            at = (at + 1) % (f.late + 1)
            past[at] = s[ANGLE]
