"""Both loops of an axis together: as stiff a velocity loop as what matters most leaves room for.

A motor that is held stiffly holds a load that swings behind its shaft no better: it swings as if the motor were a wall,
with its own damping only, and the position loop must stay slow for it. A softer velocity loop gives way to the load and
takes the swing out.
"""

import math
from dataclasses import replace

import numpy as np

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, TwoMass, Winding
from cadrel.core.response.estimate import FrequencyResponse
from cadrel.core.tuning.position import SWINGS, tune_position
from cadrel.core.tuning.velocity import TuningRefused, VelocityTuning, keeps_what_is_asked, softened

DECAYS = 6.0  # time constants of the position loop in the settling time asked for: what a move leaves is gone then
HALF = 0.5  # of the highest position gain that any softness gives: where less than `DECAYS` is to be had, that will do
SHARES = tuple(float(x) for x in np.geomspace(1.0, 0.1, 7))  # of the stiffest loop's gain, that are looked at
HALVINGS = 2  # of the span between two of them
EASED = "the load, which swings behind its shaft: with a stiffer motor the position loop could not settle in time"


def ease_for_settling(
    tuning: VelocityTuning,
    load: TwoMass,
    winding: Winding,
    asked: Robustness,
    *,
    settling: float,
    measured: FrequencyResponse | None = None,
    working: Winding | None = None,
) -> VelocityTuning:
    """Return a velocity loop soft enough for a position loop that settles in time; the same where it is.

    Parameters
    ----------
    tuning : VelocityTuning
        The stiffest velocity loop, of `tune_velocity`.
    load, winding, asked, measured, working
        As that was tuned on.
    settling : float
        Asked for after a planned move. [s]

    Notes
    -----
    What the end of a move leaves (friction, cogging, a twisted shaft) falls by exp(-Kv t). Where the load's swing keeps
    the position gain below `DECAYS` over the settling time, the velocity gain is lowered, its integral gain with the
    square of that, to the largest at which the position gain is had. Where no softness gives as much, half of the
    highest there is will do: the last of it costs more stiffness than it is worth. Everything that was asked of the
    velocity loop holds with the softer one as well.
    """

    def bears(share: float) -> tuple[float, str, Gains]:
        softer = softened(tuning.gains, share)
        if share < 1.0 and not keeps_what_is_asked(softer, load, winding, asked, measured=measured, working=working):
            return 0.0, "", softer
        try:
            around, limit = tune_position(
                load, winding, softer, asked, measured=measured, working=working, settling=settling
            )
        except TuningRefused:
            return 0.0, SWINGS, softer
        return around.position_gain, limit, softer

    stiff = bears(1.0)
    if stiff[0] >= DECAYS / settling or stiff[1] != SWINGS:
        return tuning
    tried = [stiff, *(bears(share) for share in SHARES[1:])]
    wanted = min(DECAYS / settling, HALF * max(kv for kv, _, _ in tried))
    first = next(k for k, (kv, _, _) in enumerate(tried) if kv >= wanted)
    if first == 0:
        return tuning
    best, low, high = tried[first], math.log(SHARES[first]), math.log(SHARES[first - 1])
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        between = bears(math.exp(middle))
        if between[0] >= wanted:
            best, low = between, middle
        else:
            high = middle
    return replace(tuning, gains=best[2], limited_by=EASED)
