"""A velocity loop that is worth a look: the stiffest with which the twin does not hunt by far too much."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.tuning import TuningRefused, VelocityTuning, noise_behind
from cadrel.procedures.rest_foreseen import RestForeseen
from cadrel.procedures.session import Session
from cadrel.procedures.velocity_around import positioned_around
from cadrel.procedures.velocity_seen import CALM, FIRMLY, MOST_AT_ONCE, Bearing, Looked, Seen, borne, budget

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
        ripple = _on_twin(session, seen, asked, rest, tuning.gains)
        if all(seen <= most * budget(session) for seen, most in zip(ripple, must.on_twin, strict=True)):
            reached = Reached(tuning, bears, ripple[1], beyond)
        else:
            beyond = _foreseen(session, tuning, bears, ripple[1], must)
        if beyond is None or not left:
            break
        least = borne(session, beyond.noise, beyond.gains)
        if reached is not None and reached.noise < CLOSE * least:
            break
        bears = owes = beyond.owed if reached is None else math.sqrt(least * reached.noise)
        try:
            tuning = session.computed(lambda: proposed(owes, CALM))  # noqa: B023 - it is called at once
        except TuningRefused:
            break
    return Reached(tuning, bears, ripple[1], beyond) if reached is None else replace(reached, beyond=beyond)


@dataclass(frozen=True, slots=True)
class Reached:
    """A proposal worth a look."""

    tuning: VelocityTuning
    noise: float  # [rad/s] that it bears
    ripple: float = 0.0  # [N·m] at rest on its twin
    beyond: Looked | None = None  # the softest found with which the twin hunts by too much


def _on_twin(session: Session, seen: Seen, asked: Robustness, rest: RestForeseen, gains: Gains) -> tuple[float, float]:
    """Return the least and most ripple of torque at rest on the twin; 0 where no position loop can be around it."""
    positioned = positioned_around(session, seen, gains, asked)
    if positioned is None:
        return 0.0, 0.0  # the axis is looked at
    around, _ = positioned
    return session.computed(lambda: rest.ripple(around))


def _foreseen(session: Session, tuning: VelocityTuning, noise: float, ripple: float, must: Bearing) -> Looked:
    """Return a look at the twin, which hunts."""
    owed = noise_behind(min(ripple, MOST_AT_ONCE * budget(session)), tuning.gains)
    return Looked(
        gains=tuning.gains, limited_by=tuning.limited_by, noise=noise, ripple=ripple, swings=0, hunts=True, loud=True,
        owed=FIRMLY * owed, most_gain=must.most_gain, on_twin=ripple,
    )  # fmt: skip
