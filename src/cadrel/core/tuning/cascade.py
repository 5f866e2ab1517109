"""Both loops of an axis together: as stiff a velocity loop as what matters most leaves room for.

A motor that is held stiffly holds a load that swings behind its shaft no better: it swings as if the motor were a wall,
with its own damping only, and the position loop must stay slow for it. A softer velocity loop gives way to the load and
takes the swing out.
"""

import math
from collections.abc import Callable
from dataclasses import replace

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
HARDLY = 1.25  # times the soonest settling that any softness gives: for less nothing more is given up
# Of the stiffest loop's gain, that are looked at: a tenth less of it may leave a position loop three times as quick.
SHARES = (1.0, 0.9, 0.8, *(float(x) for x in np.geomspace(0.68, 0.01, 12)))
SIMPLER = 1  # sections of a loop made for little gain, at the most
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
    settles: Callable[[Gains], float],
    within: float,
    settling: float,
    measured: FrequencyResponse | None = None,
    working: Winding | None = None,
    noise: float = 0.0,
    noise_torque: float = math.inf,
    moving_noise: float = 0.0,
    most_change: float = math.inf,
    least_damping: float = LEAST_DAMPING,
    edge_age: float = 0.0,
) -> VelocityTuning:
    """Return the stiffest velocity loop with which a planned move is foreseen to settle; the same where it does.

    Parameters
    ----------
    tuning : VelocityTuning
        The stiffest velocity loop, of `tune_velocity`.
    load, winding, asked, measured, working, noise, noise_torque, moving_noise, most_change, least_damping, edge_age
        As that was tuned on.
    settles : callable
        When a planned move is foreseen to have settled with the gains of all loops [s]; infinite where it does not.
    within : float
        By when it should. [s]
    settling : float
        Asked for after a planned move: a notch in the command may take some of it. [s]

    Notes
    -----
    What the end of a move leaves falls with the position gain, which the load's swing may keep low; how much is left
    falls with the stiffness. So neither tells by itself when a move has settled. The velocity gain is lowered step by
    step, each with the quickest position loop around it: the same shape, its integral gain with the square of the
    share, where that keeps what was asked of the velocity loop; the best simpler ones of no more gain. It ends where
    one that settles is as stiff as that shape would be with less. Where no softness settles in time, the stiffest is
    left that takes hardly longer than the soonest. As soft as it has to be, it is sought once more with all sections.
    """

    def foreseen(gains: Gains) -> float:
        try:
            around, _ = tune_position(
                load, winding, gains, asked, measured=measured, working=working, settling=settling
            )
        except TuningRefused:
            return math.inf
        return settles(around)

    def sought(gain: float, sections: int) -> Gains | None:
        """The loop of its own search with so many sections and no more than a gain; None where there is none."""
        try:
            return tune_velocity(
                load, winding, tuning.gains, asked, measured=measured, working=working, noise=noise,
                noise_torque=noise_torque, moving_noise=moving_noise, most_change=most_change,
                least_damping=least_damping, most_gain=gain, most_sections=sections, edge_age=edge_age,
            ).gains  # fmt: skip
        except TuningRefused:
            return None

    def keeps(gains: Gains) -> bool:
        return keeps_what_is_asked(
            gains, load, winding, asked, measured=measured, working=working, edge_age=edge_age
        )  # fmt: skip

    stiff = tuning.gains
    tried = [(foreseen(stiff), stiff)]
    if tried[0][0] <= within:
        return tuning
    simpler: dict[int, Gains | None] = {}
    for share in SHARES:
        in_time = [_stiffness(gains) for after, gains in tried if after <= within]
        if in_time and max(in_time) >= share**2 * _stiffness(stiff):
            break
        most = share * stiff.velocity_gain
        softer = [softened(stiff, share)] if share < 1.0 else []
        found = [g for g in softer if keeps(g)]
        for sections in range(SIMPLER + 1):
            before = simpler.get(sections, stiff)
            if before is not None and before.velocity_gain >= most:
                simpler[sections] = sought(most, sections)
                found += [g for g in (simpler[sections],) if g is not None]
        tried += [(foreseen(gains), gains) for gains in found]
    chosen = _stiffest_in_time(tried, within)
    if chosen is stiff:
        return tuning
    fuller = sought(chosen.velocity_gain, MOST_SECTIONS)
    if fuller is not None and _stiffness(fuller) > EARNS * _stiffness(chosen):
        chosen = _stiffest_in_time([*tried, (foreseen(fuller), fuller)], within)
    return replace(tuning, gains=chosen, limited_by=EASED)


def _stiffest_in_time(tried: list[tuple[float, Gains]], within: float) -> Gains:
    """Return the stiffest of the gains that settle in time, or hardly later than the soonest of all."""
    latest = max(within, HARDLY * min(after for after, _ in tried))
    return max((gains for after, gains in tried if after <= latest), key=_stiffness)


def _stiffness(gains: Gains) -> float:
    """Integral gain. [N·m/rad]"""
    return gains.velocity_gain / gains.velocity_reset
