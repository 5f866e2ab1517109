"""Gains under which the axis stands still: proposed, kicked, looked at, before anything is measured around them.

No margin tells how a loop stands on its axis: a device that shows speed in steps, play and friction make it hunt above
a gain that nobody can compute. To see it takes seconds, to measure around it half a minute: the gain is found first.
"""

import math
from dataclasses import dataclass, replace

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.tuning import (
    LEAST_DAMPING,
    NOISY,
    TuningRefused,
    VelocityTuning,
    noise_behind,
    shaped_as,
    softened,
)
from cadrel.procedures.judging import at_rest_after_a_kick, most_swing
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.around import held_around
from cadrel.procedures.velocity.proposal import bearing_of, proposal
from cadrel.procedures.velocity.reach import within_reach
from cadrel.procedures.velocity.report import velocity_values
from cadrel.procedures.velocity.seen import (
    CALM,
    FAR_BEYOND,
    FIRMLY,
    FREE,
    HEARD,
    LESS,
    MOST_AT_ONCE,
    UNEXPLAINED,
    Bearing,
    Looked,
    Seen,
    borne,
    budget,
    stiffer,
)
from cadrel.procedures.velocity.soft import soft_enough

SLOWER = (1.0, 0.6)  # of the quickest position loop's gain, that an axis is looked at with
KICK = 0.05  # of the speed agreed to
JUST = 1.1  # how much more noise is owed for, where it is mere noise
MOST_LOOKS = 6  # proposals that are looked at before one is measured around
NEAR = 1.3  # gain of a loop that a twin hunts with over that of one that rests, from which on one between is looked at
BESIDE = 1.15  # the same where the axis itself was seen hunting: what is left is so much softer at the most
CALMER = 0.5  # ripple on the twin of what lies between both, of that of the one that hunts
ERRS = 0.3  # ripple that was seen over that of the twin, below which the twin tells nothing
BACK_OFF = 1.15  # gain of a loop that hunts over that of the one left in force, at the least
HUNTING = "hunting at rest: play, friction, or the steps of the device"


def proposed_to_rest(session: Session, before: Gains, seen: Seen, asked: Robustness, *, known: Gains | None) -> Looked:
    """Propose gains, look at the axis at rest, and propose anew until it stands still; the stiffest that does is left.

    One whose ripple noise explains, and which has too much of it, is proposed anew with as much noise as was seen.
    Where one rests and a quicker one hunts, one between them is looked at, as long as they lie far apart and looks are
    left; from the one that hunts some room is kept in the end. Where none rests the last one is returned, in force too.

    Raises
    ------
    TuningRefused
        The first proposal could not be made.
    AxisStopped
        The axis ran away under a proposal.
    """
    looks = _Looks(earlier=seen.hunted)
    bearing: Bearing | None = Bearing(noise=seen.noise, damping=CALM if seen.hunts else LEAST_DAMPING)
    left = MOST_LOOKS
    while bearing is not None and left:
        left -= 1
        try:
            looked = _look(session, before, seen, asked, bearing, known=known)
        except TuningRefused:
            last = looks.found
            if last is None:
                raise
            if looks.rests is not None or bearing.noise < NEAR * last.noise:
                break  # what was looked at is told with what it missed
            # More was owed than any loop bears.
            bearing = replace(bearing, noise=math.sqrt(bearing.noise * max(last.noise, seen.device)))
            continue
        looks.add(looked)
        looks.plain |= bearing.plain
        looks.blunt |= bearing.damping >= CALM and bearing.shape is None and not bearing.plain
        looks.stiffest |= bearing.is_free_of_twin and bearing.noise <= seen.noise
        looks.plainest = max(looks.plainest, looked.plainest)
        bearing, known = _plainest(seen, looks) or _bearing(session, seen, looks, looked), looked.gains
    found, rests, hunting = looks.found, looks.rests, looks.above
    assert found is not None
    beside = 0.0 if hunting is None or rests is None else stiffer(hunting.gains, rests.gains)
    if hunting is not None and rests is not None and beside >= 1.0:  # else one of another shape, which tells nothing
        session.note(
            f"With a velocity gain of {rests.gains.velocity_gain:.3g} the axis rests, with "
            f"{hunting.gains.velocity_gain:.3g} {'its twin' if hunting is rests.beyond else 'it'} hunts."
        )
        if rests.limited_by == NOISY:
            found = replace(found, limited_by=HUNTING)
        if hunting is not rests.beyond and beside < BACK_OFF:
            # What hunts with the quickest position loop around it already is the one that room is kept from.
            nearest = 1.0 if rests.is_eased else beside
            found = replace(found, gains=softened(rests.gains, nearest / BACK_OFF), limited_by=HUNTING)
    session.write(velocity_values(found.gains))
    return found


@dataclass(slots=True, eq=False)
class _Looks:
    """The stiffest that rests, and the last that hunts, or trembles with noise alone by more than was asked."""

    earlier: Looked | None = None  # what hunted before these looks
    rests: Looked | None = None
    hunting: Looked | None = None
    loud: Looked | None = None
    hunted: int = 0
    plain: bool = False  # one with filters alone is among them
    blunt: bool = False  # one whose sections swing little
    stiffest: bool = False  # and the stiffest of all, whatever its twin does
    plainest: float = 0.0  # [N·m/rad], integral gain of the stiffest of these that was proposed

    @property
    def found(self) -> Looked | None:
        return self.rests or self.hunting or self.loud

    @property
    def above(self) -> Looked | None:
        """One that hunts: as it was seen, else, where stiffer than what rests, one before these looks, or its twin."""
        if self.hunting is not None or self.rests is None:
            return self.hunting
        rests = self.rests.gains
        return next((one for one in (self.earlier, self.rests.beyond) if one and stiffer(one.gains, rests) > 1.0), None)

    def add(self, looked: Looked) -> None:
        if looked.hunts:
            self.hunting, self.hunted = looked, self.hunted + 1
        elif looked.loud:
            self.loud = looked
        elif self.rests is None or stiffer(looked.gains, self.rests.gains) > 1.0:
            beyond = looked.beyond or (None if self.rests is None else self.rests.beyond)
            self.rests = replace(looked, beyond=beyond)


def _bearing(session: Session, seen: Seen, looks: _Looks, looked: Looked) -> Bearing | None:
    """Return what the next proposal must bear; None where none is made."""
    rests, hunting = looks.rests, looks.above
    if rests is None:
        does = "hunts at rest" if looked.hunts else "trembles at rest with the device's noise"
        session.note(
            f"With a velocity gain of {looked.gains.velocity_gain:.3g} the axis {does} ({told(session, looked)}): "
            "less is tried."
        )
        told_by_twin = looked.hunts and not looked.swings and HEARD * budget(session) < looked.on_twin < math.inf
        again = looks.hunted > 1 and not told_by_twin
        # A twin that hunts as well tells with what it does so less: from a little less gain on it is asked.
        less = LESS * borne(session, looked.noise, looked.gains) if told_by_twin else looked.owed
        if looked.hunts and again and not looks.blunt and _sharpest(looked.gains) < CALM:
            # Of this shape it hunts with less gain as well: what swings less between steps of a device may not.
            return Bearing(noise=seen.noise, damping=CALM)
        softer = _softer(session, looked) if looked.hunts and not told_by_twin else None
        if softer is not None and not looks.plain and looks.plainest >= _integral(softer):
            # Nothing tells what would rest: the plainest is the likeliest to.
            return Bearing(noise=seen.noise, damping=LEAST_DAMPING, plain=True)
        calm = max(looked.on_twin / budget(session) * _share_left(session, looked), HEARD)
        return Bearing(
            noise=max(looked.noise, less),
            on_twin=(calm, calm) if told_by_twin else (FAR_BEYOND, math.inf),
            # What binds is not its own damping alone: sections that swing little are calmer between steps of a device.
            damping=CALM if hunting is not None or seen.hunts else LEAST_DAMPING,
            # A limit cycle is no noise: what is asked to bear more of that may have no less gain.
            most_gain=looked.gains.velocity_gain / FIRMLY if again else math.inf,
            shape=looked.gains if told_by_twin else softer,
            until_calm=told_by_twin,
            least=looks.plainest if told_by_twin else 0.0,
        )
    if looked is looks.loud or not (looked.hunts or looked.gains is rests.gains):
        return None  # no stiffer than what rests already
    if rests.beyond is not None and (hunting is None or hunting is rests.beyond):
        return _further(session, seen, looks, rests)
    if hunting is None:
        return None
    return _between(session, rests, hunting)


def _plainest(seen: Seen, looks: _Looks) -> Bearing | None:
    """Return a bearing for filters alone, where these are stiffer than what rests and were not looked at.

    A twin that hunts with them may err, and what is shaped may hunt look after look: nobody is to be left with less
    than the plainest gives. What rests may be that itself, and another search's a hair stiffer.
    """
    rests = looks.rests
    if rests is None or not rests.gains.sections or looks.plain or looks.plainest <= _integral(rests.gains):
        return None
    return Bearing(noise=seen.noise, damping=LEAST_DAMPING, on_twin=FREE, plain=True)


def _softer(session: Session, hunting: Looked) -> Gains:
    """Return gains of the same shape, so much less as the axis hunted too much: a half at the least."""
    share = min(_share_left(session, hunting), 1 / NEAR)
    return softened(hunting.gains, 1 / FIRMLY if hunting.swings else max(share, 1 / FIRMLY))


def _sharpest(gains: Gains) -> float:
    """Return the least damping of a section's poles; 1 without sections."""
    return min((one.pole_damping for one in gains.sections), default=1.0)


def _integral(gains: Gains) -> float:
    """[N·m/rad]."""
    return gains.velocity_gain / gains.velocity_reset


def _between(session: Session, rests: Looked, hunting: Looked, *, near: float = BESIDE) -> Bearing | None:
    """Return a bearing for one between both, of the shape of the stiffer; None where they lie near each other."""
    apart = stiffer(hunting.gains, rests.gains)
    if apart < near:
        return None
    bears = borne(session, hunting.noise, hunting.gains)
    calm = max(CALMER * hunting.on_twin / budget(session), HEARD)
    return Bearing(
        noise=math.sqrt(bears * max(rests.noise, bears)), damping=LEAST_DAMPING, on_twin=(calm, calm),
        shape=softened(hunting.gains, 1 / math.sqrt(apart)),
        least=math.sqrt(apart) * _integral(rests.gains),
    )  # fmt: skip


def _share_left(session: Session, looked: Looked) -> float:
    """Return what must be left of the hunting that was seen, at the most."""
    shares = [1.0]
    if looked.ripple > 0.0:
        shares.append(HEARD * budget(session) / looked.ripple)
    if looked.sways > 0.0:
        shares.append(most_swing(session) / looked.sways)
    return min(shares)


def _further(session: Session, seen: Seen, looks: _Looks, rests: Looked) -> Bearing | None:
    """Return what a stiffer proposal must bear, on an axis of which only its twin hunts: that may err.

    One between both where they lie apart, else one beyond what the twin still bears. A twin that hunts with what the
    axis rests with errs, and tells nothing: the stiffest of all then, once.
    """
    above = looks.above
    if HEARD * budget(session) < rests.on_twin and rests.ripple < ERRS * rests.on_twin:
        stiffest = Bearing(noise=seen.noise, damping=LEAST_DAMPING, on_twin=FREE)
        return None if looks.stiffest else stiffest
    between = None if above is None else _between(session, rests, above, near=NEAR)
    least = rests.noise if above is None else borne(session, above.noise, above.gains)
    return between or Bearing(noise=least / FIRMLY, damping=LEAST_DAMPING, on_twin=FREE)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Standing:
    """How an axis stands with gains."""

    ripple: float  # [N·m] of torque, rms
    sways: float = 0.0  # [rad] to either side, where that is more than an axis at rest may
    swings: int = 0  # how often the drive halved them
    hunts: bool = False
    is_eased: bool = False  # it hunted with the quickest position loop around it, and not with a slower one


def _standing(session: Session, seen: Seen, asked: Robustness, gains: Gains) -> _Standing:
    """Write gains and look at the axis at rest.

    A loop that stands by itself and hunts with the quickest position loop around it is looked at with a slower one.
    """
    session.write(velocity_values(gains))
    session.enter("looking how it stands", 0.5)
    swings = session.swings
    by_itself, _ = at_rest_after_a_kick(
        session, "velocity", KICK * session.consent.speed, load_swings_hz=seen.fit.load.antiresonance_hz
    )
    found = _Standing(ripple=by_itself)
    for share in SLOWER:
        held = held_around(session, seen, gains, asked, share=share)
        ripple, sways = (by_itself, 0.0) if held is None else (max(by_itself, held[0]), held[1])
        swung = session.swings - swings
        hunts = _hunts(session, seen, gains, ripple, sways, swung)
        found = _Standing(
            ripple=ripple, sways=sways, swings=swung, hunts=hunts, is_eased=found.hunts and not hunts
        )  # fmt: skip
        if not hunts or swung or _hunts(session, seen, gains, by_itself, 0.0, 0):
            break
    return found


def _hunts(session: Session, seen: Seen, gains: Gains, ripple: float, sways: float, swings: int) -> bool:
    """Whether ripple [N·m] and swaying [rad] are none of the device's noise, and more than an axis at rest may have.

    A device's noise shows as swaying too, of a shaft that stands: what its torque explains is none.
    """
    unexplained = ripple > UNEXPLAINED * seen.device / noise_behind(1.0, gains)
    return swings > 0 or (unexplained and (sways > 0.0 or ripple > HEARD * budget(session)))


def told(session: Session, looked: Looked) -> str:
    """Return in words what was seen of a loop that does not rest: the worst of it."""
    continuous = session.axis.motor.torque_constant * session.current_continuous
    if looked.swings:
        return "swinging ever wider until the drive halves its gains"
    if looked.sways:
        mechanism = session.axis.mechanism
        return f"swaying by {looked.sways * mechanism.unit_per_rad:.2g} {mechanism.unit} to either side"
    return f"{100 * looked.ripple / continuous:.3g} % of the continuous current"


def _look(
    session: Session, before: Gains, seen: Seen, asked: Robustness, must: Bearing, *, known: Gains | None
) -> Looked:
    """Propose gains that bear so much, write them, and look how the axis stands with them."""
    session.enter("computing the proposal", 0.45)
    fit, settling = seen.fit, session.axis.goal.settling_time
    bearing = bearing_of(session, seen)

    def proposed(noise: float, damping: float) -> VelocityTuning:
        return proposal(
            session, before, seen, asked, noise=noise, known=known, damping=damping, most_gain=must.most_gain,
            plain=seen.plain or must.plain,
        )  # fmt: skip

    def shaped(shape: Gains) -> VelocityTuning | None:
        return shaped_as(shape, fit.load, fit.winding, asked, noise=seen.noise, **bearing)

    reached = within_reach(session, seen, asked, must, proposed, shaped)
    tuning = reached.tuning
    bearing.update(noise=reached.noise, least_damping=must.damping)
    standing = _Standing(ripple=0.0)
    doubtful = HEARD * budget(session) < reached.ripple < math.inf
    if doubtful:  # of a move with a loop that hunts nothing tells how the load settles
        standing = _standing(session, seen, asked, tuning.gains)
    if asked.matters != "disturbance" and settling and not standing.hunts:
        tuning = soft_enough(session, seen, asked, tuning, bearing, settling=settling)
    if not doubtful or tuning is not reached.tuning:
        standing = _standing(session, seen, asked, tuning.gains)
    hunts, sways, swings = standing.hunts, standing.sways if standing.hunts else 0.0, standing.swings
    ripple = standing.ripple
    # Of a loop that had to be halved the ripple was read at half the gains, and of one that sways it is not what is too
    # much: they owe the whole budget at least.
    trembles = max(ripple, budget(session)) if swings or sways > 0.0 else ripple
    owed = noise_behind(min(trembles, MOST_AT_ONCE * budget(session)), tuning.gains)
    return Looked(
        gains=tuning.gains, limited_by=tuning.limited_by, noise=reached.noise, ripple=ripple, swings=swings,
        hunts=hunts, loud=ripple > budget(session), owed=(FIRMLY if hunts else JUST) * owed, sways=sways,
        most_gain=must.most_gain, beyond=reached.beyond, on_twin=reached.ripple,
        plainest=reached.plainest, is_eased=standing.is_eased,
    )  # fmt: skip
