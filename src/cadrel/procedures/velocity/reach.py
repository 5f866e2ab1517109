"""A velocity loop that is worth a look: the stiffest with which the twin does not hunt by far too much."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.tuning import TuningRefused, VelocityTuning, noise_behind, softened
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.around import positioned_around
from cadrel.procedures.velocity.rest_foreseen import RestForeseen
from cadrel.procedures.velocity.seen import CALM, LESS, MOST_AT_ONCE, Bearing, Looked, Seen, borne, budget

MOST_SEARCHES = 5  # for a proposal that is worth a look
HALVINGS = 4  # of what one that its twin hunts with is softened by
LEAST_OF_IT = 0.1  # of its gain


def within_reach(
    session: Session, seen: Seen, asked: Robustness, must: Bearing, proposed: Callable[[float, float], VelocityTuning],
    shaped: Callable[[Gains], VelocityTuning | None],
) -> "Reached":  # fmt: skip
    """Return a proposal worth a look: the stiffest found with which the twin does not hunt by too much.

    What its twin hunts with is given less and less gain until it does not. Where nothing rests so, more noise than
    there is is borne. `proposed` makes one that bears a noise [rad/s], its sections' poles damped so much at the least;
    `shaped` one of a shape, None where that does not keep what is asked.
    """
    rest = RestForeseen.of(session, session.plant.with_part(seen.springy))
    on = None if rest is None else _OnTwin(session, seen, asked, rest, must)
    known = None if must.shape is None else session.computed(partial(shaped, must.shape))
    if known is not None and known.integral > must.least:
        calm = [(known, 0.0)]
        if must.until_calm and on is not None:
            calm = on.softened_until_calm([known], shaped, least=must.least)
        for one, ripple in calm:
            return Reached(one, borne(session, seen.noise, one.gains), ripple)
    bears, tuning = must.noise, session.computed(lambda: proposed(must.noise, must.damping))
    plainest = max((one.integral for one in (tuning, *tuning.others) if not one.gains.sections), default=0.0)
    if on is None:
        return Reached(tuning, bears, plainest=plainest)
    for left in reversed(range(MOST_SEARCHES)):
        rest_with, hunt_with = on.sorted_out(tuning)
        if tuning not in (one for one, _ in rest_with):  # else itself: others may be a little stiffer, and less simple
            least = max((one.integral for one, _ in rest_with), default=0.0)
            rest_with += on.softened_until_calm([one for one, _ in hunt_with], shaped, least=least)
        reached: Reached | None = None
        if rest_with:
            stiffest, ripple = max(rest_with, key=lambda one: (one[0] is tuning, one[0].integral))
            bears_it = bears if stiffest is tuning else borne(session, bears, stiffest.gains)
            reached = Reached(stiffest, bears_it, ripple)
            hunt_with = [one for one in hunt_with if one[0].integral > stiffest.integral]
        beyond: Looked | None = None
        if hunt_with:
            softest, ripple = min(hunt_with, key=lambda one: one[0].integral)
            beyond = _foreseen(session, softest, bears, ripple, must)
        if reached is not None:
            return replace(reached, beyond=beyond, plainest=plainest)
        assert beyond is not None
        if not left:
            break
        try:
            tuning, bears = session.computed(partial(proposed, beyond.owed, CALM)), beyond.owed
        except TuningRefused:
            break
    return Reached(tuning, bears, math.inf, beyond, plainest)


@dataclass(frozen=True, slots=True)
class Reached:
    """A proposal worth a look."""

    tuning: VelocityTuning
    noise: float  # [rad/s] that it bears
    ripple: float = 0.0  # [N·m] at rest on its twin
    beyond: Looked | None = None  # the softest found with which the twin hunts by too much
    plainest: float = 0.0  # [N·m/rad], integral gain of the stiffest with filters alone


OnTwin = tuple[VelocityTuning, float]  # a proposal, and the most ripple of torque at rest on its twin [N·m]


@dataclass(frozen=True, slots=True, eq=False)
class _OnTwin:
    """Proposals held against the twin at rest."""

    session: Session
    seen: Seen
    asked: Robustness
    rest: RestForeseen
    must: Bearing

    def calm_with(self, one: VelocityTuning) -> tuple[bool, float]:
        """Return whether the twin is calm enough with a proposal, and the most ripple of torque at rest then. [N·m]

        Where no position loop can be around one, nothing tells: the axis is looked at.
        """
        positioned = positioned_around(self.session, self.seen, one.gains, self.asked)
        if positioned is None:
            return True, 0.0
        found = self.session.computed(partial(self.rest.ripple, positioned[0]))
        most = budget(self.session)
        return all(ripple <= m * most for ripple, m in zip(found, self.must.on_twin, strict=True)), found[1]

    def sorted_out(self, tuning: VelocityTuning) -> tuple[list[OnTwin], list[OnTwin]]:
        """Return of a proposal and its others what the twin rests with, and what it hunts with by too much."""
        rests: list[OnTwin] = []
        hunts: list[OnTwin] = []
        for one in (tuning, *tuning.others):
            is_calm, worst = self.calm_with(one)
            (rests if is_calm else hunts).append((one, worst))
        return rests, hunts

    def softened_until_calm(
        self, hunting: list[VelocityTuning], shaped: Callable[[Gains], VelocityTuning | None], *, least: float
    ) -> list[OnTwin]:
        """Return loops that hunt with as much less gain as the twin rests with, one if any: stiffer than `least`.

        `least` is an integral gain. [N·m/rad]
        """
        found: list[OnTwin] = []
        for one in sorted(hunting, key=lambda one: -one.integral):
            low, high = max(math.sqrt(least / one.integral), LEAST_OF_IT), 1.0
            if low >= high:
                continue
            for _ in range(HALVINGS):
                middle = math.sqrt(low * high)
                softer = self.session.computed(partial(shaped, softened(one.gains, middle)))
                if softer is None or softer.integral <= least:  # more was taken back than it was softened by
                    high = middle
                    continue
                is_calm, worst = self.calm_with(softer)
                if is_calm:
                    found, least, low = [(softer, worst)], softer.integral, middle
                else:
                    high = middle
        return found


def _foreseen(session: Session, tuning: VelocityTuning, noise: float, ripple: float, must: Bearing) -> Looked:
    """Return a look at the twin, which hunts."""
    owed = noise_behind(min(ripple, MOST_AT_ONCE * budget(session)), tuning.gains)
    return Looked(
        gains=tuning.gains, limited_by=tuning.limited_by, noise=noise, ripple=ripple, swings=0, hunts=True, loud=True,
        owed=LESS * owed, most_gain=must.most_gain, on_twin=ripple,
    )  # fmt: skip
