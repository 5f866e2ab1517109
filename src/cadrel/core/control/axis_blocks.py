"""Current loop, motor, load and feedback device as blocks: from torque command to measured speed and position.

Everything that runs at the tick is composed at the tick, then seen once in a velocity sample. The plant is continuous;
it is carried over a tick by the matrix exponential, with the voltage held: nothing is approximated.
"""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from cadrel.core.control.block_kernels import exponential
from cadrel.core.control.blocks import Block, connect
from cadrel.core.control.load import TwoMass, Winding
from cadrel.core.control.sampling import TRACKING_DAMPING, Rates, Sensor

FloatArray = NDArray[np.float64]
ANGLE = "angle"  # the one state that is absolute: nothing depends on it but the position
MOST_LATE = 64  # [ticks] of latency that are modelled


def current_regulator(gain: float, reset: float, emf: float, *, tick: float) -> Block:
    """Return the current PI: its voltage acts a tick later; the back-EMF's feedforward knows the filtered speed."""
    # waiting(k+1) = gain * (torque - current) + integral + emf * known_speed
    return Block(
        np.array([[0.0, 1.0], [0.0, 1.0]]),
        np.array([[gain, -gain, emf], [gain * tick / reset, -gain * tick / reset, 0.0]]),
        np.array([[1.0, 0.0]]),
        np.zeros((1, 3)),
        ("torque", "current", "known_speed"),
        ("voltage",),
        ("voltage waiting", "current integral"),
        tick,
    )


def locked_winding(winding: Winding, *, tick: float) -> Block:
    """Return resistance and inductance of a rotor that does not turn."""
    a = np.exp(-tick * winding.resistance / winding.inductance)
    g = (1 - a) / winding.resistance
    return Block(
        np.array([[a]]), np.array([[g]]), np.eye(1), np.zeros((1, 1)), ("voltage",), ("current",), ("current",), tick
    )


def _continuous(winding: Winding, load: TwoMass) -> tuple[FloatArray, tuple[str, ...]]:
    """Slopes of the states and of the voltage held, torque constant 1. The angle is the last state."""
    r, ind, emf = winding.resistance, winding.inductance, winding.emf
    if load.stiffness is None:
        names: tuple[str, ...] = ("current", "speed", ANGLE)
        rows = [[-r / ind, -emf / ind, 0.0], [1.0, -(load.viscous + load.viscous_load), 0.0], [0.0, 1.0, 0.0]]
        rows[1] = [v / load.inertia for v in rows[1]]
    else:
        names = ("current", "speed", "load speed", "twist", ANGLE)
        j1, j2, k, d = load.inertia_motor, load.inertia_load, load.stiffness, load.damping
        rows = [
            [-r / ind, -emf / ind, 0.0, 0.0, 0.0],
            [1 / j1, -(d + load.viscous) / j1, d / j1, -k / j1, 0.0],
            [0.0, d / j2, -(d + load.viscous_load) / j2, k / j2, 0.0],
            [0.0, 1.0, -1.0, 0.0, 0.0],
            [0.0, 1.0, 0.0, 0.0, 0.0],
        ]
    n = len(names)
    slopes = np.zeros((n + 1, n + 1))
    slopes[:n, :n] = rows
    slopes[0, n] = 1 / ind
    return slopes, names


LOAD_ANGLE = "load angle"


def motor_and_load(winding: Winding, load: TwoMass, *, tick: float, tail: float, shows_load: bool = False) -> Block:
    """Return voltage -> current, angle, how far the shaft moves in the tick, and in the last `tail` seconds of it.

    With `shows_load` the angle of the load is the last output.
    """
    slopes, names = _continuous(winding, load)
    n = len(names)
    step = exponential(slopes * tick)
    stays = np.eye(n)[n - 1]
    moved, driven = step[n - 1, :n] - stays, step[n - 1, n]
    rows, through = [np.eye(n)[0], stays, moved], [0.0, 0.0, driven]
    outputs = ["current", ANGLE, "moved"]
    if tail > 0.0:
        early = exponential(slopes * (tick - tail))
        rows.append(moved - (early[n - 1, :n] - stays))
        through.append(driven - early[n - 1, n])
        outputs.append("moved last")
    if shows_load:
        twisted = np.eye(n)[names.index("twist")] if "twist" in names else np.zeros(n)
        rows.append(stays - twisted)
        through.append(0.0)
        outputs.append(LOAD_ANGLE)
    return Block(
        step[:n, :n],
        step[:n, n:],
        np.array(rows),
        np.array(through)[:, None],
        ("voltage",),
        tuple(outputs),
        names,
        tick,
    )


def _late(latency: float, *, tick: float) -> Block:
    """Return how far the shaft has moved since the angle that arrives now was sampled."""
    whole = min(int(latency / tick + 1e-9), MOST_LATE)
    has_tail = latency - whole * tick > 1e-9
    # states: movement of the last `whole` ticks, newest first; then the tails of the last whole + 1 ticks
    n = whole + (whole + 1 if has_tail else 0)
    a, b, c = np.zeros((n, n)), np.zeros((n, 2)), np.zeros((1, n))
    for k in range(whole):
        c[0, k] = 1.0
        if k == 0:
            b[0, 0] = 1.0
        else:
            a[k, k - 1] = 1.0
    if has_tail:
        b[whole, 1] = 1.0
        for k in range(whole + 1, n):
            a[k, k - 1] = 1.0
        c[0, n - 1] = 1.0
    names = tuple(f"late {k}" for k in range(n))
    inputs: tuple[str, ...] = ("moved", "moved last")
    if not has_tail:
        b, inputs = b[:, :1], ("moved",)
    return Block(a, b, c, np.zeros((1, len(inputs))), inputs, ("lag",), names, tick)


def tracking_converter(natural: float, *, tick: float, ticks: int) -> Block:
    """Return a resolver's tracking converter: it follows the angle with an error, and tells its own speed.

    The speed told is the mean of the last `ticks`. e: how far the shaft is ahead of it; e' = e + moved;
    w += T w_t² e'; e = e' - T (w + 2 D w_t e').
    """
    gain, lead = tick * natural * natural, 2 * TRACKING_DAMPING * natural
    ahead, speed, moved = np.array([1.0, 0.0, 1.0]), np.array([0.0, 1.0, 0.0]), slice(2, 3)
    speed = speed + gain * ahead
    lag = ahead - tick * (speed + lead * ahead)
    rows = np.array([lag, speed])
    n = 1 + ticks  # the lag, the speed, and the speeds of the ticks before
    a, b, c = np.eye(n, k=-1), np.zeros((n, 1)), np.zeros((2, n))
    a[:2], b[:2] = 0.0, rows[:, moved]
    a[:2, :2] = rows[:, :2]
    c[0, 0], c[1, 1:] = 1.0, 1 / ticks
    before = tuple(f"tracked speed {k} ticks before" for k in range(1, ticks))
    names = ("tracking lag", "tracked speed", *before)
    return Block(a, b, c, np.zeros((2, 1)), ("moved",), ("lag", "mean tracked speed"), names, tick)


@lru_cache(maxsize=512)
def sampled_axis(
    load: TwoMass,
    winding: Winding,
    sensor: Sensor,
    rates: Rates,
    current_gain: float,
    current_reset: float,
    *,
    absolute: bool,
    on_load: bool = False,
) -> Block:
    """Return torque command and known speed -> "raw speed" and "position" as measured, over a velocity sample.

    With `on_load` the position is that of a device on the load, which tells it without delay; the speed is the motor's.
    Without `absolute` there is no "position", and no state that only integrates: the velocity loop needs none.

    Notes
    -----
    Where a speed is the difference of two measured positions, its state is that difference: with a position of its own
    as state, the velocity loop would carry an eigenvalue of exactly 1 that says nothing.
    """
    tick = rates.current
    tail = sensor.latency - min(int(sensor.latency / tick + 1e-9), MOST_LATE) * tick
    parts = [
        motor_and_load(winding, load, tick=tick, tail=tail if 1e-9 < tail < tick else 0.0, shows_load=on_load),
        current_regulator(current_gain, current_reset, winding.emf, tick=tick),
    ]
    if sensor.tracking > 0.0:
        parts.append(tracking_converter(sensor.tracking, tick=tick, ticks=rates.ticks))
    elif sensor.latency > 1e-9:
        parts.append(_late(sensor.latency, tick=tick))
    late = len(parts) > 2
    outputs = [ANGLE, *(["lag"] if late else []), *(["mean tracked speed"] if sensor.tracking > 0.0 else [])]
    outputs += [LOAD_ANGLE] if on_load else []
    fast = connect(parts, inputs=("torque", "known_speed"), outputs=outputs).held(rates.ticks)
    place = fast.c[0] - (fast.c[1] if late else 0.0)  # what the device shows
    if sensor.tracking > 0.0:
        whole, speed, fed = fast, fast.c[outputs.index("mean tracked speed")], np.zeros((1, 2))
    else:
        whole, speed, fed = _with_difference(fast, place)
    rows, names = [speed], ["raw speed"]
    if absolute:
        if on_load:
            place = fast.c[outputs.index(LOAD_ANGLE)]
        rows.append(np.concatenate([place, np.zeros(len(whole.a) - len(place))]))
        names.append("position")
        fed = np.vstack([fed, np.zeros((1, 2))])
    found = Block(whole.a, whole.b, np.array(rows), fed, whole.inputs, tuple(names), whole.states, whole.period)
    return found if absolute else found.without(ANGLE)


def _with_difference(fast: Block, place: FloatArray) -> tuple[Block, FloatArray, FloatArray]:
    """Add the movement of the place over a sample as a state; return the block and the row of the speed it gives."""
    n = len(fast.a)
    a, b = np.zeros((n + 1, n + 1)), np.zeros((n + 1, len(fast.inputs)))
    a[:n, :n], b[:n] = fast.a, fast.b
    a[n, :n] = place @ (fast.a - np.eye(n))
    b[n] = place @ fast.b
    row = np.zeros(n + 1)
    row[n] = 1 / fast.period
    states = (*fast.states, "moved in the sample")
    none = np.zeros((0, n + 1))
    whole = Block(a, b, none, np.zeros((0, b.shape[1])), fast.inputs, (), states, fast.period)
    return whole, row, np.zeros((1, len(fast.inputs)))
