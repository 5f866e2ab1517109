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
