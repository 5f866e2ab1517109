"""A velocity loop that is worth a look: the stiffest with which the twin does not hunt by far too much."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial

from cadrel.core.axis.understanding import Robustness
from cadrel.core.tuning import TuningRefused, VelocityTuning, noise_behind
from cadrel.procedures.rest_foreseen import RestForeseen
from cadrel.procedures.session import Session
from cadrel.procedures.velocity_around import positioned_around
from cadrel.procedures.velocity_seen import CALM, LESS, MOST_AT_ONCE, Bearing, Looked, Seen, borne, budget

MOST_SEARCHES = 5  # for a proposal that is worth a look
CLOSE = 2.0  # noise borne by one that its twin rests with over that of one it hunts with, down to which is sought


def within_reach(
    session: Session, seen: Seen, asked: Robustness, must: Bearing, proposed: Callable[[float, float], VelocityTuning]
) -> "Reached":  # fmt: skip
    """Return a proposal worth a look: the stiffest found with which the twin does not hunt by too much.

    More noise than there is is borne until the twin nearly rests, then as much less as it does with. `proposed` makes
    one that bears a noise [rad/s], its sections' poles damped so much at the least.
    """
    bears, tuning = must.noise, session.computed(lambda: proposed(must.noise, must.damping))
    rest = RestForeseen.of(session, session.plant.with_part(seen.springy))
    if rest is None:
        return Reached(tuning, bears)
    reached: Reached | None = None
    beyond: Looked | None = None
    for left in reversed(range(MOST_SEARCHES)):
        rest_with, hunt_with = _on_twin(session, seen, asked, rest, tuning, must)
        if rest_with:
            # The proposal itself where it rests: others may be a little stiffer, and are less simple.
            stiffest, ripple = max(rest_with, key=lambda one: (one[0] is tuning, one[0].integral))
            bears_it = bears if stiffest is tuning else borne(session, bears, stiffest.gains)
            reached = Reached(stiffest, bears_it, ripple)
        if hunt_with:
            softest, ripple = min(hunt_with, key=lambda one: one[0].integral)
            if reached is None or softest.integral > reached.tuning.integral:
                beyond = _foreseen(session, softest, bears, ripple, must)
        if beyond is None or not left:
            break
        least = borne(session, beyond.noise, beyond.gains)
        if reached is not None and reached.noise < CLOSE * least:
            break
        owes = beyond.owed if reached is None else math.sqrt(least * reached.noise)
        try:
            tuning, bears = session.computed(partial(proposed, owes, CALM)), owes
        except TuningRefused:
            break
    return Reached(tuning, bears, math.inf, beyond) if reached is None else replace(reached, beyond=beyond)


@dataclass(frozen=True, slots=True)
class Reached:
    """A proposal worth a look."""

    tuning: VelocityTuning
    noise: float  # [rad/s] that it bears
    ripple: float = 0.0  # [N·m] at rest on its twin
    beyond: Looked | None = None  # the softest found with which the twin hunts by too much


OnTwin = tuple[VelocityTuning, float]  # a proposal, and the most ripple of torque at rest on its twin [N·m]


def _on_twin(
    session: Session, seen: Seen, asked: Robustness, rest: RestForeseen, tuning: VelocityTuning, must: Bearing
) -> tuple[list[OnTwin], list[OnTwin]]:
    """Return of a proposal and its others what the twin rests with, and what it hunts with by too much.

    Where no position loop can be around one, nothing tells: the axis is looked at.
    """
    rests: list[OnTwin] = []
    hunts: list[OnTwin] = []
    for one in (tuning, *tuning.others):
        positioned = positioned_around(session, seen, one.gains, asked)
        around = None if positioned is None else positioned[0]
        calmest, worst = (0.0, 0.0) if around is None else session.computed(partial(rest.ripple, around))
        is_calm = all(r <= m * budget(session) for r, m in zip((calmest, worst), must.on_twin, strict=True))
        (rests if is_calm else hunts).append((one, worst))
    return rests, hunts


def _foreseen(session: Session, tuning: VelocityTuning, noise: float, ripple: float, must: Bearing) -> Looked:
    """Return a look at the twin, which hunts."""
    owed = noise_behind(min(ripple, MOST_AT_ONCE * budget(session)), tuning.gains)
    return Looked(
        gains=tuning.gains, limited_by=tuning.limited_by, noise=noise, ripple=ripple, swings=0, hunts=True, loud=True,
        owed=LESS * owed, most_gain=must.most_gain, on_twin=ripple,
    )  # fmt: skip
