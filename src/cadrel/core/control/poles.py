"""Exact closed-loop eigenvalues of the whole cascade over one velocity sample: is it stable at all."""

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import expm

from cadrel.core.control.cascade import Gains, TwoMass, Winding
from cadrel.core.control.filters import TICK, TV, lowpass_pole

FloatArray = NDArray[np.float64]


def spectral_radius(
    loop: Literal["current", "velocity", "position"], load: TwoMass, winding: Winding, gains: Gains
) -> float:
    """Return the largest modulus of the closed loop's eigenvalues; below 1 it is stable.

    Notes
    -----
    The linear cascade is a map of its state over one velocity sample (one tick for the current loop). The map is
    built column by column: mechanics by the matrix exponential over a tick, the drive by its difference equations.
    """
    update = (
        _current_map(winding, gains) if loop == "current" else _cascade_map(loop == "position", load, winding, gains)
    )
    return float(np.abs(np.linalg.eigvals(update)).max())


def _current_map(winding: Winding, gains: Gains) -> FloatArray:
    a = math.exp(-TICK * winding.resistance / winding.inductance)
    g = (1 - a) / winding.resistance
    # state: current, voltage waiting, integral
    return np.array(
        [
            [a, g, 0.0],
            [-gains.current_gain, 0.0, 1.0],
            [-gains.current_gain * TICK / gains.current_reset, 0.0, 1.0],
        ]
    )


def _mechanics_tick(load: TwoMass, winding: Winding) -> tuple[FloatArray, FloatArray]:
    """Return state matrix and voltage column over a tick; states i, w1, th1, w2, twist (Kt = 1)."""
    j1, j2, k = load.inertia_motor, load.inertia_load, load.stiffness
    a = np.zeros((5, 5))
    a[0, 0], a[0, 1] = -winding.resistance / winding.inductance, -winding.emf / winding.inductance
    if k is None:
        a[1, 0], a[1, 1] = 1 / load.inertia, -(load.viscous + load.viscous_load) / load.inertia
    else:
        a[1] = [1 / j1, -(load.damping + load.viscous) / j1, 0, load.damping / j1, -k / j1]
        a[3] = [0, load.damping / j2, 0, -(load.damping + load.viscous_load) / j2, k / j2]
        a[4] = [0, 1, 0, -1, 0]
    a[2, 1] = 1.0
    whole = np.zeros((6, 6))
    whole[:5, :5] = a
    whole[0, 5] = 1 / winding.inductance
    step = expm(whole * TICK)
    keep = slice(0, 5)
    return step[keep, keep], step[keep, 5]


def _cascade_map(position: bool, load: TwoMass, winding: Winding, gains: Gains) -> FloatArray:
    """Map of one velocity sample. State: i w1 th1 w2 twist | v_next int | th_last speed inner lp x1 x2 y1 y2."""
    phi, gamma = _mechanics_tick(load, winding)
    f, q = lowpass_pole(gains.feedback_filter_hz), lowpass_pole(gains.torque_filter_hz)
    n = gains.notch()
    size = 15
    state = np.eye(size)  # every unit vector at once, one a column
    # Without a position loop the absolute angle does not matter: count it from the last sample.
    raw = (state[2] - state[7]) / TV if position else state[2] / TV
    command = -gains.position_gain * state[2] if position else np.zeros(size)
    speed = f * state[8] + (1 - f) * raw
    error = command - speed
    u = gains.velocity_gain * error + state[9]
    inner = state[9] + gains.velocity_gain / gains.velocity_reset * TV * error
    lp = q * state[10] + (1 - q) * u
    torque = n.b0 * lp + n.b1 * state[11] + n.b2 * state[12] - n.a1 * state[13] - n.a2 * state[14]
    plant, v_next, integral = state[:5].copy(), state[5], state[6]
    th_last = state[2]
    if not position:
        plant[2] = 0.0
    for _ in range(round(TV / TICK)):
        e = torque - plant[0]
        v_now, v_next = v_next, gains.current_gain * e + integral + winding.emf * speed
        integral = integral + gains.current_gain / gains.current_reset * TICK * e
        plant = phi @ plant + np.outer(gamma, v_now)
    update = np.vstack([plant, v_next, integral, th_last, speed, inner, lp, lp, state[11], torque, state[13]])
    unused = ([3, 4] if load.stiffness is None else []) + ([] if position else [7])
    return np.delete(np.delete(update, unused, 0), unused, 1)
