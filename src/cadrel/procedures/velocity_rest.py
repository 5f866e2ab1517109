"""Gains under which the axis stands still: proposed, kicked, looked at, before anything is measured around them.

No margin tells how a loop stands on its axis: a device that shows speed in steps, play and friction make it hunt above
a gain that nobody can compute. To see it takes seconds, to measure around it half a minute: the gain is found first.
"""

import math
from dataclasses import dataclass, replace
from typing import Any

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, Winding
from cadrel.core.identification import PlantFit, Play, SpringyLoad
from cadrel.core.response import FrequencyResponse
from cadrel.core.tuning import (
    LEAST_DAMPING,
    MOST_SECTIONS,
    NOISY,
    TuningRefused,
    VelocityTuning,
    ease_for_settling,
    is_quick_enough,
    noise_behind,
    softened,
    tune_position,
    tune_velocity,
)
from cadrel.procedures.judging import (
    at_rest_after_a_kick,
    at_rest_after_a_stroke,
    kick_size,
    most_swing,
    position_values,
)
from cadrel.procedures.planned import settling_foreseen, settling_when_moved
from cadrel.procedures.plant_in_motion import PRECISE
from cadrel.procedures.play import Closed, damping_of, rise_of
from cadrel.procedures.session import Session
from cadrel.procedures.velocity_report import velocity_values

KICK = 0.05  # of the speed agreed to
FIRMLY = 2.0  # a limit cycle does not fall with the gain as noise does: more is taken back than noise would ask
# Times the ripple that noise explains, and of the budget: beyond both it hunts, and scatters more than noise does.
UNEXPLAINED, HEARD = 2.5, 0.8
CALM = 0.3  # damping of a section's poles at the least, for an axis that hunts
WITHIN = 0.92  # of the ripple asked for, that a proposal may use: a look of a quarter second scatters by as much
JUST = 1.1  # how much more noise is owed for, where it is mere noise
MOST_AT_ONCE = 6.0  # times the budget: a loop that hunts gets so much less gain in the next proposal
MOST_LOOKS = 5  # proposals that are looked at before one is measured around
NEAR = 1.3  # gain of a loop that hunts over that of one that rests, from which on one between them is looked at
BACK_OFF = 1.15  # gain of a loop that hunts over that of the one left in force, at the least
SURELY = 0.6  # of the settling time asked for: the next move is another one
HUNTING = "hunting at rest: play, friction, or the steps of the device"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Seen:
    """What a proposal rests on."""

    measured: FrequencyResponse
    fit: PlantFit
    closed: Closed | None  # the resonance swung strongly
    moved: float  # share by which the resonance moves with amplitude, beside its play
    noise: float  # [rad/s] of the raw speed that a proposal must bear: the device's, or what hunting is owed for
    device: float  # [rad/s] of it the device's own, as it stood under the loop from before
    hunts: bool = False  # it trembles at rest by more than the noise explains
    plain: bool = False  # whatever had sections ran away

    @property
    def play(self) -> Play | None:
        """The gap between motor and load, where one is seen."""
        return self.closed.play if self.closed is not None and self.closed.play.is_seen else None

    @property
    def springy(self) -> SpringyLoad:
        """The load as it is known by now."""
        return SpringyLoad(
            load=self.fit.load, small_signal_resistance=self.fit.winding.resistance,
            measured=self.measured.precise(PRECISE), moved=self.moved, rise=rise_of(self.closed, self.fit),
            closed_damping=damping_of(self.closed, self.fit), play=0.0 if self.play is None else self.play.width.value,
            noise=self.noise,
        )  # fmt: skip

    def asked(self, asked: Robustness) -> Robustness:
        """Return what must be honoured on this plant."""
        rise, damping = rise_of(self.closed, self.fit), damping_of(self.closed, self.fit)
        return asked.where_it_moves(self.moved, rise=rise, damping=damping, seen_hz=self.measured.seen_hz)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Looked:
    """Gains that the axis was looked at with, at rest."""

    gains: Gains
    limited_by: str
    noise: float  # [rad/s] of the raw speed that they were asked to bear
    ripple: float  # [N·m] of torque at rest, rms
    swings: int  # how often the drive halved them, the loop swinging ever wider
    hunts: bool  # trembles by more than was asked, and by more than its noise explains
    loud: bool  # trembles by more than was asked, whatever explains it
    owed: float  # [rad/s] of the raw speed, that gains must bear which tremble less
    most_gain: float  # [N·m·s/rad] that they were allowed
    sways: float = 0.0  # [rad] to either side, where that is more than an axis at rest may


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
    looks = _Looks()
    bearing: _Bearing | None = _Bearing(noise=seen.noise, damping=CALM if seen.hunts else LEAST_DAMPING)
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
        bearing, known = _bearing(session, seen, looks, looked), looked.gains
    found, rests, hunting = looks.found, looks.rests, looks.hunting
    assert found is not None
    if hunting is not None and rests is not None:
        session.note(
            f"With a velocity gain of {rests.gains.velocity_gain:.3g} the axis rests, with "
            f"{hunting.gains.velocity_gain:.3g} it hunts."
        )
        if rests.limited_by == NOISY:
            found = replace(found, limited_by=HUNTING)
        beside = hunting.gains.velocity_gain / rests.gains.velocity_gain
        if beside < BACK_OFF:
            found = replace(found, gains=softened(rests.gains, max(beside, 1.0) / BACK_OFF), limited_by=HUNTING)
    session.write(velocity_values(found.gains))
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class _Bearing:
    """What a proposal must bear, or have no more of."""

    noise: float  # [rad/s] of the raw speed
    damping: float  # of its sections' poles
    most_gain: float = math.inf  # [N·m·s/rad]


@dataclass(slots=True, eq=False)
class _Looks:
    """The last proposal that rests, that hunts, and that trembles with noise alone, by more than was asked."""

    rests: Looked | None = None
    hunting: Looked | None = None
    loud: Looked | None = None
    hunted: int = 0

    @property
    def found(self) -> Looked | None:
        return self.rests or self.hunting or self.loud

    def add(self, looked: Looked) -> None:
        if looked.hunts:
            self.hunting, self.hunted = looked, self.hunted + 1
        elif looked.loud:
            self.loud = looked
        else:
            self.rests = looked


def _bearing(session: Session, seen: Seen, looks: _Looks, looked: Looked) -> _Bearing | None:
    """Return what the next proposal must bear; None where none is made."""
    rests, hunting = looks.rests, looks.hunting
    if rests is None:
        does = "hunts at rest" if looked.hunts else "trembles at rest with the device's noise"
        session.note(
            f"With a velocity gain of {looked.gains.velocity_gain:.3g} the axis {does} ({told(session, looked)}): "
            "less is tried."
        )
        again = looks.hunted > 1
        return _Bearing(
            noise=max(looked.noise, looked.owed),
            # What binds is not its own damping alone: sections that swing little are calmer between steps of a device.
            damping=CALM if hunting is not None or seen.hunts else LEAST_DAMPING,
            # A limit cycle is no noise: what is asked to bear more of that may have no less gain.
            most_gain=looked.gains.velocity_gain / FIRMLY if again else math.inf,
        )
    if hunting is None or looked is looks.loud:
        return None
    borne = max(hunting.noise, noise_behind(WITHIN * budget(session), hunting.gains))
    if hunting.gains.velocity_gain < NEAR * rests.gains.velocity_gain or borne >= rests.noise:
        return None
    between = math.sqrt(hunting.gains.velocity_gain * rests.gains.velocity_gain)
    return _Bearing(
        noise=math.sqrt(borne * rests.noise), damping=LEAST_DAMPING,
        most_gain=math.inf if math.isinf(rests.most_gain) else between,
    )  # fmt: skip


def budget(session: Session) -> float:
    """Return the ripple of torque at rest that was asked for. [N·m] rms"""
    return session.axis.robustness.ripple * session.axis.motor.torque_constant * session.current_continuous


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
    session: Session, before: Gains, seen: Seen, asked: Robustness, must: _Bearing, *, known: Gains | None
) -> Looked:
    """Propose gains that bear so much, write them, and look how the axis stands with them."""
    session.enter("computing the proposal", 0.45)
    fit, working = seen.fit, Winding.from_drive(session.values)
    trusted = seen.measured.precise(PRECISE)
    settling = session.axis.goal.settling_time
    bearing: dict[str, Any] = {
        "measured": trusted, "working": working, "noise": must.noise, "noise_torque": WITHIN * budget(session),
        "least_damping": must.damping,
    }  # fmt: skip
    sections = 0 if seen.plain else MOST_SECTIONS
    begun = None if seen.plain else known

    def proposed() -> VelocityTuning:
        return tune_velocity(
            fit.load, fit.winding, before, asked, known=begun, most_sections=sections, most_gain=must.most_gain,
            **bearing,
        )  # fmt: skip

    tuning = session.computed(proposed)
    if asked.matters != "disturbance" and settling:
        tuning = _soft_enough(session, seen, asked, tuning, bearing, settling=settling)
    session.write(velocity_values(tuning.gains))
    session.enter("looking how it stands", 0.5)
    before_it = session.swings
    ripple, _ = at_rest_after_a_kick(
        session, "velocity", KICK * session.consent.speed, load_swings_hz=fit.load.antiresonance_hz
    )
    held = _held(session, seen, tuning.gains, asked)
    ripple, sways = (ripple, 0.0) if held is None else (max(ripple, held[0]), held[1])
    swings = session.swings - before_it
    explained = seen.device / noise_behind(1.0, tuning.gains)
    # A device's noise shows as swaying too, of a shaft that stands: what its torque explains is none.
    unexplained = ripple > UNEXPLAINED * explained
    sways = sways if unexplained else 0.0
    hunts = swings > 0 or sways > 0.0 or (unexplained and ripple > HEARD * budget(session))
    # Of a loop that had to be halved the ripple was read at half the gains, and of one that sways it is not what is too
    # much: they owe the whole budget at least.
    trembles = max(ripple, budget(session)) if swings or sways > 0.0 else ripple
    owed = noise_behind(min(trembles, MOST_AT_ONCE * budget(session)), tuning.gains)
    return Looked(
        gains=tuning.gains, limited_by=tuning.limited_by, noise=must.noise, ripple=ripple, swings=swings, hunts=hunts,
        loud=ripple > budget(session), owed=(FIRMLY if hunts else JUST) * owed, sways=sways,
        most_gain=must.most_gain,
    )  # fmt: skip


def _soft_enough(
    session: Session, seen: Seen, asked: Robustness, stiff: VelocityTuning, bearing: dict[str, Any], *, settling: float
) -> VelocityTuning:  # fmt: skip
    """Return the stiff loop where the planned move settles with it, slow as its position loop is; else a softer one.

    How soon a slow position loop settles depends on what a move leaves outside of the window, and a stiff loop leaves
    little: that is seen, not computed.
    """
    positioned = _positioned(session, seen, stiff.gains, asked)
    if positioned is not None and is_quick_enough(*positioned, settling=settling):
        return stiff

    def settles(tuning: VelocityTuning, around: tuple[Gains, str] | None) -> float:
        if around is None:
            return math.inf
        session.enter("moving it once", 0.48)
        session.write(velocity_values(tuning.gains))
        return settling_when_moved(session, around[0], session.plant.with_part(seen.springy))

    in_stiff = settles(stiff, positioned)
    if in_stiff <= SURELY * settling:
        session.note(f"The load behind its shaft keeps the position loop slow; {_moved_in(in_stiff)}")
        return stiff
    foreseen = settling_foreseen(session, session.plant.with_part(seen.springy))
    if foreseen is None:
        return stiff  # nothing tells what a softer one would be better at
    session.enter("computing the proposal", 0.45)
    fit, tells = seen.fit, foreseen
    eased = session.computed(
        lambda: ease_for_settling(
            stiff, fit.load, fit.winding, asked, settles=tells, within=SURELY * settling, settling=settling,
            **bearing,
        )
    )  # fmt: skip
    if eased is stiff or math.isinf(in_stiff):
        return eased
    in_eased = settles(eased, _positioned(session, seen, eased.gains, asked))
    chosen, how = (stiff, "stiff") if in_stiff < in_eased else (eased, "soft")
    session.note(f"A stiff motor: {_moved_in(in_stiff)} A soft one: {_moved_in(in_eased)} It is left {how}.")
    return chosen


def _moved_in(settling: float) -> str:
    return "the planned move " + (
        "does not settle." if math.isinf(settling) else f"settles in {1e3 * settling:.0f} ms."
    )


def _positioned(session: Session, seen: Seen, gains: Gains, asked: Robustness) -> tuple[Gains, str] | None:
    """Gains with the quickest position loop around a velocity loop, and what limits it; None where there is none."""
    working = Winding.from_drive(session.values)
    try:
        return session.computed(
            lambda: tune_position(
                seen.fit.load, seen.fit.winding, gains, asked, measured=seen.measured.precise(PRECISE),
                working=working, settling=session.axis.goal.settling_time,
            )
        )  # fmt: skip
    except TuningRefused:
        return None  # the position loop's own run says so


def _held(session: Session, seen: Seen, gains: Gains, asked: Robustness) -> tuple[float, float] | None:
    """Return the ripple of torque at rest with a position loop around the proposal, and how far it sways. [N·m], [rad]

    A velocity loop may stand still by itself and hunt between the steps of its device once a position is held, or set
    a load swinging behind its play once a move is fed forward: the position loop could mend that only by holding
    nothing. Little torque may make it sway by as much as the window in which it should settle; what an axis at rest may
    sway by is told as none. None where no position loop can be.
    """
    positioned = _positioned(session, seen, gains, asked)
    if positioned is None:
        return None
    around, _ = positioned
    changes = position_values(around)
    kept = {k: session.values[k] for k in changes}
    session.write(changes)
    try:
        kicked = at_rest_after_a_kick(
            session, "position", kick_size(session, around.position_gain),
            load_swings_hz=seen.fit.load.antiresonance_hz,
        )  # fmt: skip
        moved = at_rest_after_a_stroke(session)
        ripple, sways = max(kicked[0], moved[0]), max(kicked[1], moved[1])
        return ripple, sways if sways > most_swing(session) else 0.0
    finally:
        session.write(kept)
