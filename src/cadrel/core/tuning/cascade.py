"""Both loops of an axis together: as stiff a velocity loop as what matters most leaves room for.

A motor that is held stiffly holds a load that swings behind its shaft no better: it swings as if the motor were a wall,
with its own damping only, and the position loop must stay slow for it. A softer velocity loop gives way to the load and
takes the swing out.
"""

import math
from dataclasses import replace
from functools import lru_cache

import numpy as np

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, TwoMass, Winding
from cadrel.core.response.estimate import FrequencyResponse
from cadrel.core.tuning.pace import softened
from cadrel.core.tuning.position import SWINGS, tune_position
from cadrel.core.tuning.shape import LEAST_DAMPING
from cadrel.core.tuning.velocity import (
    EARNS,
    MOST_SECTIONS,
    TuningRefused,
    VelocityTuning,
    keeps_what_is_asked,
    tune_velocity,
)

DECAYS = 6.0  # time constants of the position loop in the settling time asked for: what a move leaves is gone then
HALF = 0.5  # of the highest position gain that any softness gives: where less than `DECAYS` is to be had, that will do
SHARES = tuple(float(x) for x in np.geomspace(1.0, 0.01, 13))  # of the stiffest loop's gain, that are looked at
SIMPLER = 1  # sections of a loop made for little gain
HALVINGS = 2  # of the span between two of them
EASED = "the load, which swings behind its shaft: with a stiffer motor the position loop could not settle in time"


def is_quick_enough(gains: Gains, limit: str, *, settling: float) -> bool:
    """Whether a position loop lets what a move leaves decay in the settling time [s], or no softer loop would help.

    `gains` and `limit` are of `tune_position`.
    """
    return gains.position_gain >= DECAYS / settling or limit != SWINGS


def ease_for_settling(
    tuning: VelocityTuning,
    load: TwoMass,
    winding: Winding,
    asked: Robustness,
    *,
    settling: float,
    measured: FrequencyResponse | None = None,
    working: Winding | None = None,
    noise: float = 0.0,
    noise_torque: float = math.inf,
    least_damping: float = LEAST_DAMPING,
) -> VelocityTuning:
    """Return a velocity loop soft enough for a position loop that settles in time; the same where it is.

    Parameters
    ----------
    tuning : VelocityTuning
        The stiffest velocity loop, of `tune_velocity`.
    load, winding, asked, measured, working, noise, noise_torque, least_damping
        As that was tuned on.
    settling : float
        Asked for after a planned move. [s]

    Notes
    -----
    What the end of a move leaves (friction, cogging, a twisted shaft) falls by exp(-Kv t). Where the load's swing keeps
    the position gain below `DECAYS` over the settling time, the velocity gain is lowered, its integral gain with the
    square of that, to the largest at which the position gain is had. Where no softness gives as much, half of the
    highest there is will do: the last of it costs more stiffness than it is worth. Everything that was asked of the
    velocity loop holds with the softer one as well: where its shape does not bear so little gain, a simpler one is
    sought, and in the end one without any section. As soft as it has to be, it is sought once more with all of them.
    """

    def position_gain(gains: Gains) -> tuple[float, str]:
        try:
            around, limit = tune_position(
                load, winding, gains, asked, measured=measured, working=working, settling=settling
            )
        except TuningRefused:
            return 0.0, SWINGS
        return around.position_gain, limit

    def sought(gain: float, sections: int) -> Gains | None:
        """The loop of its own search with so many sections and no more than a gain; None where there is none."""
        try:
            return tune_velocity(
                load, winding, tuning.gains, asked, measured=measured, working=working, noise=noise,
                noise_torque=noise_torque, least_damping=least_damping, most_gain=gain, most_sections=sections,
            ).gains  # fmt: skip
        except TuningRefused:
            return None

    @lru_cache
    def plain(most: float) -> tuple[float, Gains] | None:
        """Position gain and loop without a section, of no more than a gain; None where there is none."""
        gains = sought(most, 0)
        return None if gains is None else (position_gain(gains)[0], gains)

    def plain_at(share: float) -> tuple[float, Gains] | None:
        most = share * tuning.gains.velocity_gain
        stiffest = plain(tuning.gains.velocity_gain)
        return stiffest if stiffest is None or stiffest[1].velocity_gain <= most else plain(most)

    def softer(share: float, wanted: float) -> tuple[float, Gains]:
        """Position gain and loop: the same shape with less gain if that keeps what is asked, or a simpler one."""
        gains = softened(tuning.gains, share)
        if keeps_what_is_asked(gains, load, winding, asked, measured=measured, working=working):
            return position_gain(gains)[0], gains
        simpler = sought(gains.velocity_gain, SIMPLER)
        found = (0.0, gains) if simpler is None else (position_gain(simpler)[0], simpler)
        return found if found[0] >= wanted else max(found, plain_at(share) or found, key=lambda one: one[0])

    stiff, limit = position_gain(tuning.gains)
    if is_quick_enough(tuning.gains.with_(position_gain=stiff), limit, settling=settling):
        return tuning
    # About how soft it has to be follows from the same shape, whatever margins that has, and from none.
    about = [stiff]
    for share in SHARES[1:]:
        without = plain_at(share)
        about.append(max(position_gain(softened(tuning.gains, share))[0], 0.0 if without is None else without[0]))
    wanted = min(DECAYS / settling, HALF * max(about))
    best, stiffer, found = (stiff, tuning.gains), 1.0, stiff >= wanted
    for kv, share in zip(about[1:], SHARES[1:], strict=True):
        if found:
            break
        tried = softer(share, wanted) if kv >= wanted else (0.0, tuning.gains)
        best = max(best, tried, key=lambda one: one[0])
        found = tried[0] >= wanted
        stiffer, softest = (stiffer, share) if found else (share, share)
    if best[1] is tuning.gains:
        return tuning
    for _ in range(HALVINGS if found else 0):
        middle = math.sqrt(stiffer * softest)
        tried = softer(middle, wanted)
        if tried[0] >= wanted:
            best, softest = tried, middle
        else:
            stiffer = middle
    fuller = sought(softest * tuning.gains.velocity_gain, MOST_SECTIONS) if found else None
    if fuller is not None and _stiffness(fuller) > EARNS * _stiffness(best[1]) and position_gain(fuller)[0] >= wanted:
        best = wanted, fuller
    return replace(tuning, gains=best[1], limited_by=EASED)


def _stiffness(gains: Gains) -> float:
    """Integral gain. [N·m/rad]"""
    return gains.velocity_gain / gains.velocity_reset
