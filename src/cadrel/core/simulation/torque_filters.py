"""What the drive does to the torque command between regulator and current: low-pass, notch, second-order sections."""

import numba

from cadrel.core.simulation.plant import FAST


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def filtered(s, c, raw):
    """Return the torque command filtered, one velocity sample on. [N·m]"""
    s.torque_lp += (1.0 - c.torque_pole) * (raw - s.torque_lp)
    x = s.torque_lp
    y = c.notch_b0 * x + c.notch_b1 * s.notch_x1 + c.notch_b2 * s.notch_x2 - c.notch_a1 * s.notch_y1
    y -= c.notch_a2 * s.notch_y2
    s.notch_x2, s.notch_x1, s.notch_y2, s.notch_y1 = s.notch_x1, x, s.notch_y1, y
    # The sections keep two states each: the transposed form.
    if c.sections > 0.0:
        x = y
        y = c.section2_b0 * x + s.section2_1
        s.section2_1 = c.section2_b1 * x - c.section2_a1 * y + s.section2_2
        s.section2_2 = c.section2_b2 * x - c.section2_a2 * y
    if c.sections > 1.0:
        x = y
        y = c.section3_b0 * x + s.section3_1
        s.section3_1 = c.section3_b1 * x - c.section3_a1 * y + s.section3_2
        s.section3_2 = c.section3_b2 * x - c.section3_a2 * y
    if c.sections > 2.0:
        x = y
        y = c.section4_b0 * x + s.section4_1
        s.section4_1 = c.section4_b1 * x - c.section4_a1 * y + s.section4_2
        s.section4_2 = c.section4_b2 * x - c.section4_a2 * y
    return y


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def states(s):
    """Return what the filters hold, as `conditioned` takes it."""
    return (
        s.torque_lp, s.notch_x1, s.notch_x2, s.notch_y1, s.notch_y2, s.section2_1, s.section2_2, s.section3_1,
        s.section3_2, s.section4_1, s.section4_2,
    )  # fmt: skip


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def backward(b0, b1, b2, a1, a2, one, two, y):
    """Return the input that makes a section in transposed form put out y, and its two states after that.

    One whose zeros do not decay, as a low-pass has them at half the rate, is set to where y leaves it at rest.
    """
    if abs(b2) >= (1.0 - 1e-9) * b0:
        return y, y * (1.0 - b0), y * (b2 - a2)
    x = (y - one) / b0
    return x, b1 * x - a1 * y + two, b2 * x - a2 * y


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def conditioned(s, c, before, torque):
    """Let the filters have put out the torque that the limit left, from the states of `before` on. [N·m]

    What they would put out beyond is not kept in them: a slow pair of poles that filled up at the limit would give it
    back for long after, and a position loop around it would swing ever wider.

    References
    ----------
    .. [1] R. Hanus, M. Kinnaert, J.-L. Henrotte, Conditioning technique, a general anti-windup and bumpless transfer
       method, Automatica 23 (1987) (from memory).
    """
    y = torque
    if c.sections > 2.0:
        y, s.section4_1, s.section4_2 = backward(
            c.section4_b0, c.section4_b1, c.section4_b2, c.section4_a1, c.section4_a2, before[9], before[10], y
        )
    if c.sections > 1.0:
        y, s.section3_1, s.section3_2 = backward(
            c.section3_b0, c.section3_b1, c.section3_b2, c.section3_a1, c.section3_a2, before[7], before[8], y
        )
    if c.sections > 0.0:
        y, s.section2_1, s.section2_2 = backward(
            c.section2_b0, c.section2_b1, c.section2_b2, c.section2_a1, c.section2_a2, before[5], before[6], y
        )
    kept = c.notch_b1 * before[1] + c.notch_b2 * before[2] - c.notch_a1 * before[3] - c.notch_a2 * before[4]
    s.torque_lp = (y - kept) / c.notch_b0
    s.notch_x2, s.notch_x1, s.notch_y2, s.notch_y1 = before[1], s.torque_lp, before[3], y


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def settle(s, c, torque):
    """Set every filter to where a constant torque leaves it: each has a gain of 1 at rest. [N·m]"""
    s.torque_lp = s.notch_x1 = s.notch_x2 = s.notch_y1 = s.notch_y2 = torque
    s.section2_1, s.section2_2 = torque * (1.0 - c.section2_b0), torque * (c.section2_b2 - c.section2_a2)
    s.section3_1, s.section3_2 = torque * (1.0 - c.section3_b0), torque * (c.section3_b2 - c.section3_a2)
    s.section4_1, s.section4_2 = torque * (1.0 - c.section4_b0), torque * (c.section4_b2 - c.section4_a2)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def empty(s):
    """Forget what the filters hold."""
    s.torque_lp = s.notch_x1 = s.notch_x2 = s.notch_y1 = s.notch_y2 = 0.0
    s.section2_1 = s.section2_2 = s.section3_1 = s.section3_2 = s.section4_1 = s.section4_2 = 0.0
