"""Small-signal step responses of the three loops, from the same difference equations. Numba.

No noise, no limits, no friction beyond viscous: what `cascade.py` is in frequency, this is in time.
"""

import math

import numba
import numpy as np
from numpy.typing import NDArray

from cadrel.core.control.cascade import Gains, TwoMass, Winding
from cadrel.core.control.filters import TICK, TV, lowpass_pole

FloatArray = NDArray[np.float64]
CURRENT_STEP, VELOCITY_STEP, POSITION_STEP = 0, 1, 2
_RIGID = 1e-9
RUNAWAY = 1e6  # of the step: a loop that gets there is unstable


def step_response(
    loop: str, load: TwoMass, winding: Winding, gains: Gains, *, duration: float
) -> tuple[FloatArray, FloatArray]:
    """Return time and unit-step response of "current", "velocity" or "position". [s], [1]

    Current at the tick, the others at the velocity sample.
    """
    kind = {"current": CURRENT_STEP, "velocity": VELOCITY_STEP, "position": POSITION_STEP}[loop]
    ticks = round(duration / TICK)
    n = gains.notch()
    rigid = load.stiffness is None
    out = np.zeros(ticks)
    _simulate(
        kind,
        out,
        winding.resistance,
        winding.inductance,
        winding.emf,
        gains.current_gain,
        gains.current_reset,
        load.inertia if rigid else load.inertia_motor,
        _RIGID if rigid else load.inertia_load,
        0.0 if rigid else float(load.stiffness or 0.0),
        load.damping,
        load.viscous + load.viscous_load if rigid else load.viscous,
        load.viscous_load,
        gains.velocity_gain,
        gains.velocity_reset,
        lowpass_pole(gains.feedback_filter_hz),
        lowpass_pole(gains.torque_filter_hz),
        n.b0,
        n.b1,
        n.b2,
        n.a1,
        n.a2,
        gains.position_gain,
    )
    # An unstable loop runs away beyond all numbers: hold what no screen shows anyway.
    out = np.clip(np.nan_to_num(out, nan=RUNAWAY, posinf=RUNAWAY, neginf=-RUNAWAY), -RUNAWAY, RUNAWAY)
    if kind == CURRENT_STEP:
        return TICK * np.arange(ticks, dtype=np.float64), out
    step = round(TV / TICK)
    return TICK * np.arange(0, ticks, step, dtype=np.float64), out[::step]


@numba.njit(cache=True)
def _simulate(
    kind, out, r, ind, emf, kp, tn, j1, j2, k, d, b, rub, kv_p, kv_tn, fpole, tpole, b0, b1, b2, a1, a2, kpos
):
    """Command current = command torque (Kt = 1). Semi-implicit mechanics in four substeps a tick."""
    a = math.exp(-TICK * r / ind)
    gain = (1.0 - a) / r
    i = integral = v_now = v_next = 0.0
    w1 = w2 = th1 = th2 = th_last = speed = torque = inner = lp = 0.0
    x1 = x2 = y1 = y2 = 0.0
    h = TICK / 4
    for t in range(out.shape[0]):
        if t % 4 == 0 and kind != CURRENT_STEP:
            raw = (th1 - th_last) / TV
            th_last = th1
            speed += (1.0 - fpole) * (raw - speed)
            command = 1.0 if kind == VELOCITY_STEP else kpos * (1.0 - th1)
            error = command - speed
            u = kv_p * error + inner
            inner += kv_p / kv_tn * TV * error
            lp += (1.0 - tpole) * (u - lp)
            y = b0 * lp + b1 * x1 + b2 * x2 - a1 * y1 - a2 * y2
            x2, x1, y2, y1 = x1, lp, y1, y
            torque = y
            out[t] = raw if kind == VELOCITY_STEP else th1
        reference = 1.0 if kind == CURRENT_STEP else torque
        e = reference - i
        if kind == CURRENT_STEP:
            out[t] = i
        v_now = v_next
        v_next = kp * e + integral + emf * speed
        integral += kp / tn * TICK * e
        before = i
        i = a * i + gain * (v_now - emf * w1)
        if kind != CURRENT_STEP:
            for q in range(4):
                te = before + (i - before) * (q + 0.5) / 4
                shaft = k * (th1 - th2) + d * (w1 - w2)
                w1 += h * (te - shaft - b * w1) / j1
                if k > 0.0:
                    w2 += h * (shaft - rub * w2) / j2
                th1 += h * w1
                th2 += h * w2
