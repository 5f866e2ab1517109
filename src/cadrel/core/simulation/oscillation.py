"""A closed loop that swings ever wider, noticed within a few half periods: gains are halved, or power is cut. Numba.

What is looked at is the current that the regulators ask for in proportion to the error, less its slow part: neither
feedforward nor what carries a load is in it. Noise, a step that rings out and a limit cycle that keeps its size are
none of this. Thresholds are common practice.
"""

import math

import numba

from cadrel.core.simulation.layout import TV
from cadrel.core.simulation.plant import FAST

EASES, CUTS, IGNORES = 0.0, 1.0, 2.0  # codes of `velocity.oscillation_reaction`
SLOWEST_HZ = 8.0  # what is slower is motion
SLOWLY = 1.0 - math.exp(-2.0 * math.pi * SLOWEST_HZ * TV)
LONGEST = 120  # [samples] of a half period: 30 ms, 17 Hz
LOUD = 0.4  # of the continuous current: what is smaller is heard, but harms nothing
KEPT = 0.85  # of the half period of the same sign before, that each must reach: samples miss the tip of a quick one
GROWN = (
    1.35  # times the first of them, that the last must reach: more than sampling makes of a swing that keeps its size
)
FULL = 0.95  # of the current limit
EVEN = 0.6  # of the half period before, or that of this one: a period, not noise
HALVES = 4  # half periods in a row
LASTS = (
    60  # [samples], 15 ms, that they take together: filters that answer a step at the limit alternate for a few samples
)
EASED = 0.5  # share of the gains that is kept
MOST_EASED = 3  # times within one enabling; then power is cut


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def forget_swing(s):
    """Begin anew: the loops were not closed, or something else makes them swing."""
    s.swing_mean = s.swing_peak = s.swing_last = s.swing_before = s.swing_first = 0.0
    s.swing_samples = s.swing_length = s.swing_halves = s.swing_lasted = 0


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _swings_wider(s, c, current):
    """Take one velocity sample of the current [A]; whether that was the last of enough half periods, ever wider."""
    s.swing_mean += SLOWLY * (current - s.swing_mean)
    off = current - s.swing_mean
    sign = 1 if off > 0.0 else -1
    if sign == s.swing_sign and s.swing_samples < LONGEST:
        s.swing_samples += 1
        s.swing_peak = max(s.swing_peak, min(abs(off), c.current_limit))
        return False
    shorter, longer = min(s.swing_samples, s.swing_length), max(s.swing_samples, s.swing_length)
    full = FULL * c.current_limit  # no wider swing can be had
    least = max(min(KEPT * s.swing_before, full), LOUD * c.current_continuous)
    if s.swing_peak >= least and shorter >= EVEN * longer:
        if s.swing_halves < 2:
            s.swing_first = max(s.swing_first, s.swing_peak)
        s.swing_halves += 1
        s.swing_lasted += s.swing_samples
    else:
        s.swing_halves, s.swing_lasted, s.swing_first = 0, 0, 0.0
    s.swing_before, s.swing_last, s.swing_peak = s.swing_last, s.swing_peak, min(abs(off), c.current_limit)
    s.swing_length, s.swing_samples, s.swing_sign = s.swing_samples, 1, sign
    wider = max(s.swing_last, s.swing_before) >= min(GROWN * s.swing_first, full)
    return wider and s.swing_halves >= HALVES and s.swing_lasted >= LASTS


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def look_for_swing(s, c, current):
    """Watch one velocity sample, and halve the gains where they swing ever wider; whether power must be cut. [A]"""
    if c.oscillation_reaction == IGNORES or not _swings_wider(s, c, current):
        return False
    s.swung_hz = 0.5 / (TV * s.swing_length)
    s.swung += 1
    forget_swing(s)
    if c.oscillation_reaction == CUTS or s.swung > MOST_EASED:
        return True
    s.gain_share *= EASED
    return False
