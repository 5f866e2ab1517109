"""What the loop procedures share when they judge: what was asked, and going back where it was missed."""

import math
from collections.abc import Mapping

import numpy as np
from scipy.optimize import isotonic_regression

from cadrel.core.axis.understanding import WIDEST_DRIFT, Robustness
from cadrel.core.control import Gains, Margins
from cadrel.core.motion import Profile, move_profile, stroke_sequence
from cadrel.core.tuning import spread_of
from cadrel.core.verdict import AskedOfLoop, Criterion, at_most
from cadrel.link import Recording
from cadrel.procedures.foreseen import largest_of
from cadrel.procedures.outcome import Outcome
from cadrel.procedures.real_move import move_within_consent
from cadrel.procedures.session import FloatArray, Session

AT_REST, NOISE_SECONDS = 0.3, 0.25  # [s] before, and of, a look at an axis at rest
# [s] of each half of a small move, and after it; share of that looked at: what rings has a third of a second to decay,
# and what still trembles then hunts.
KICKED, RESTED, LOOKED_AT = 0.06, 0.6, 0.45
MOST_KICKED = 0.25  # [s]
# [s] of the last rest besides, where an axis is looked at twice: the torque that friction held creeps off, and as it
# passes nought a load is let go of within its play.
LATE = 1.0
STROKE, STROKE_SPEED = 0.4, 0.6  # of travel and speed agreed to, of a stroke after which an axis should rest
# Counts, or a share of the goal's window, that an axis at rest may swing by to either side: one that is nearly as wide
# as the window settles by chance.
STEPS_AT_REST, WINDOW_SHARE = 1.5, 0.5
WINDOWS = 4.0  # of the goal's position window, that an axis is kicked by before it should rest
FOLLOWS = 0.5  # of the following-error window: a step injected at the position is off its command while it lasts
RIPPLE = "current ripple at rest"
SWUNG = "gains halved by the drive, the loop swinging ever wider"
RIPPLE_TOLERANCE = 0.1  # of the ripple asked for: a quarter of a second of noise is no surer


def asked_of(r: Robustness) -> AskedOfLoop:
    """Return the margins the engineer asked for, and over which spread."""
    return AskedOfLoop(
        phase_margin=r.phase_margin, gain_margin_db=r.gain_margin_db, sensitivity_peak=r.sensitivity_peak,
        spread=spread_of(r),
    )  # fmt: skip


def at_rest_after_a_kick(
    session: Session, mode: str, size: float, *, load_swings_hz: float | None
) -> tuple[float, float]:
    """Move to and fro a little and stay; return what trembles where it should rest: torque, rms, and way. [N·m], [rad]

    Noise trembles always. A loop that hunts between two steps of its device, or through its play, does so once it has
    been moved: it stands as still as any before. `size` is in the unit of the mode, rad/s or rad; `load_swings_hz` is
    where the load swings on the held motor. It is not set swinging: a hardly damped load does so for seconds, and that
    is neither noise nor hunting.
    """
    with session.enabled(mode):
        session.hold(0.1)
        found = _kicked(session, mode, size, load_swings_hz)
    session.standstill()
    return found


def at_rest_when_moved(
    session: Session, size: float, *, load_swings_hz: float | None, repeats: int = 1
) -> tuple[float, float]:  # fmt: skip
    """Kick an axis that holds its position, run its move out and back, and return what trembles. [N·m], [rad]

    The worst of all rests. What a kick leaves asleep - a load that lies against one side of its play - a whole move may
    wake; whether it does may change from one to the next.
    """
    with session.enabled("position"):
        session.hold(0.1)
        kicked = _kicked(session, "position", size, load_swings_hz)
        moved = _stroked(session, repeats)
    session.standstill()
    return max(kicked[0], moved[0]), max(kicked[1], moved[1])


def _kicked(session: Session, mode: str, size: float, load_swings_hz: float | None) -> tuple[float, float]:
    moved, rests = (round(t / session.rates.velocity) for t in (kicked_for(load_swings_hz), RESTED))
    wave = np.concatenate([np.full(moved, size), np.full(moved, -size), np.zeros(rests)])
    record = session.excite_and_record(
        [session.place, "i_q_ref"], mode, wave, divider=session.rates.ticks, repeats=1
    )  # fmt: skip
    return _trembling(session, record, slice(-round(LOOKED_AT * rests), None))


def most_swing(session: Session, flicker: float = 0.0) -> float:
    """Return how far to either side an axis at rest may swing, its device flickering by itself, rms. [rad]"""
    samples = round(LOOKED_AT * RESTED / session.rates.velocity)
    own = max(STEPS_AT_REST * session.place_count, WINDOW_SHARE * session.axis.goal.window)
    return max(own, largest_of(samples) * flicker)


def kicked_for(load_swings_hz: float | None) -> float:
    """Return how long each half of a small move lasts: whole periods of the load's swing on the held motor. [s]

    To, fro and back to rest are three jumps of 1, -2 and 1 then, a whole period apart each, which leave such a swing at
    rest; what the frequency is off by remains with its square. A swing too slow for that is left as it is.
    """
    if load_swings_hz is None or load_swings_hz * MOST_KICKED < 1.0:
        return KICKED
    return math.ceil(KICKED * load_swings_hz) / load_swings_hz


def _stroked(session: Session, repeats: int) -> tuple[float, float]:
    profile = move_within_consent(session) or short_stroke(session)
    sequence = stroke_sequence(profile, dwell=RESTED, repeats=repeats)
    longer = LATE if repeats > 1 else 0.0
    session.arm(
        [session.place, "i_q_ref", "profile_active"], seconds=sequence.duration + longer, signal="profile_active",
        level=0.5,
    )  # fmt: skip
    session.drive.run_path(sequence.segments)
    record = session.recorded(at_most=sequence.duration + longer + 3)
    rests, all_of_it = round(LOOKED_AT * RESTED / record.period), len(record["i_q_ref"])
    moving = all_of_it - round(longer / record.period)
    ends = [*(moving * (k + 1) // (2 * repeats) for k in range(2 * repeats)), all_of_it]
    found = [_trembling(session, record, slice(end - rests, end)) for end in ends]
    return max(one[0] for one in found), max(one[1] for one in found)


def short_stroke(session: Session, share: float = 1.0) -> Profile:
    """Return a stroke well within travel and speed agreed to, after which an axis should stand still."""
    v = session.values
    return move_profile(
        share * STROKE * session.consent.travel,
        velocity=min(v["limit.velocity"], STROKE_SPEED * session.consent.speed),
        acceleration=v["limit.acceleration"], jerk=v["limit.jerk"],
    )  # fmt: skip


def strokes_looked_at(session: Session, *, has_play: bool) -> int:
    """How often an axis is moved out and back before it is taken to rest.

    One move may not show that it hunts: through play or between counts it does after some of them. One that did so in
    its acceptance only is looked at twice as often as it was moved there.
    """
    if session.plant.unrest is not None and session.plant.unrest.noise > 0.0:
        return 2 * session.axis.goal.repeats
    return 2 if has_play or session.axis.feedback.kind.counts_lines else 1


def _trembling(session: Session, record: Recording, quiet: slice) -> tuple[float, float]:
    position, current = record[session.place][quiet], record["i_q_ref"][quiet]
    flicker = to_and_fro(position.astype(np.float64))
    return session.axis.motor.torque_constant * trembling(current.astype(np.float64)), flicker


def trembling(signal: FloatArray) -> float:
    """Return the rms of what a signal does beside going one way: beside its best rising, or falling, course.

    The integral that lets go of friction after a move takes torque off in a curve, and that is settling, no ripple: it
    is judged by when the axis has settled. Shape (n,); in the unit of the signal.

    References
    ----------
    .. [1] R. E. Barlow et al., Statistical Inference under Order Restrictions, Wiley 1972 (from memory): the isotonic
       regression, by adjacent violators pooled; the computation is SciPy's.
    """
    return float(min(np.std(signal - isotonic_regression(signal, increasing=up).x) for up in (True, False)))


def to_and_fro(position: FloatArray) -> float:
    """Return how far a position swings to either side: half of the farther way back that it goes, of both directions.

    An axis that creeps the last of its way, through play or friction, goes one way, and that is no hunting: a lower
    gain would only make it creep for longer. Shape (n,); in the unit of the position.
    """
    risen = position - np.minimum.accumulate(position)
    fallen = np.maximum.accumulate(position) - position
    return 0.5 * float(min(risen.max(), fallen.max()))


def small_step(session: Session, gain: float) -> float:
    """Return a step of position small enough for a linear answer at that position gain, large against counts. [rad]"""
    torque = 0.5 * session.axis.motor.torque_constant * session.values["limit.current"]
    by_torque = torque / max(session.values["velocity.gain"] * gain, 1e-12)
    by_speed = 0.3 * session.consent.speed / gain
    most = min(0.2 * session.consent.travel, _within_following(session))
    return max(min(by_torque, by_speed, most), 6 * session.place_count)


def _within_following(session: Session) -> float:
    """How far the axis may be pushed off its command without the drive taking that for not following. [rad]"""
    return FOLLOWS * session.values["limit.following_error"]


def kick_size(session: Session, gain: float) -> float:
    """Return a step of position that wakes what sleeps at rest: several windows long, as the end of a move is. [rad]

    A limit cycle through play or between counts may need more than a small step to begin. Not faster than a third of
    the speed agreed to.
    """
    by_speed = 0.3 * session.consent.speed / gain
    most = min(0.1 * session.consent.travel, _within_following(session))
    return max(small_step(session, gain), min(WINDOWS * session.axis.goal.window, by_speed, most))


def position_values(gains: Gains) -> dict[str, float]:
    """Return what a position loop writes beside the share of friction: its gain, feedforward and command notch."""
    return {
        "position.gain": gains.position_gain,
        "position.velocity_feedforward": 1.0,
        "position.acceleration_feedforward": 1.0,
        **{k: v for k, v in gains.to_drive().items() if k.startswith("position.shaping")},
    }


def ripple_criterion(session: Session, ripple: float) -> Criterion:
    """The ripple of torque at rest [N·m] against what was asked, as a share of the continuous current."""
    continuous = session.axis.motor.torque_constant * session.current_continuous
    return at_most(
        RIPPLE, 100 * session.axis.robustness.ripple, 100 * ripple / continuous, unit="%",
        tolerance=RIPPLE_TOLERANCE,
    )  # fmt: skip


def swing_criterion(swings: int) -> list[Criterion]:
    """What is missed where the drive had to halve the gains that are judged, as often as it did; else nothing."""
    return [at_most(SWUNG, 0.0, float(swings), unit="times", tolerance=0.0)] if swings else []


def resonance_criterion(session: Session, moved: float) -> list[Criterion]:
    """What is missed where the resonance may lie farther off than any loop is held over; else nothing."""
    drift = session.axis.robustness.drift_where_it_moves(moved)
    if drift <= WIDEST_DRIFT:
        return []
    return [at_most("doubt where the resonance lies", 100 * WIDEST_DRIFT, 100 * drift, unit="%", tolerance=0.0)]


def go_back_unless_proven(session: Session, outcome: Outcome, before: Mapping[str, float]) -> None:
    """Put the gains from before back into the drive unless the outcome's verdict is "proven".

    The new ones are withheld: the engineer may take them all the same, knowing what they missed.
    """
    if outcome.verdict is None or outcome.verdict.is_proven:
        return
    session.write(before)
    outcome.withheld = {k: v for k, v in outcome.changes.items() if k in before}
    outcome.changes = {k: v for k, v in outcome.changes.items() if k not in before}
    session.note(f"Not proven: {outcome.verdict.reason}. The gains from before are in the drive again.")


def loop_summary(margins: Margins) -> str:
    """Return bandwidth and phase margin in a few words; what could not be had is said to be missing."""
    bandwidth = "no bandwidth" if margins.bandwidth_hz is None else f"{margins.bandwidth_hz:.0f} Hz"
    if margins.bandwidth_hz is None and margins.crossover_hz is not None:
        bandwidth = f"crosses over at {margins.crossover_hz:.0f} Hz"
    margin = "no margin" if margins.phase_margin is None else f"{math.degrees(margins.phase_margin):.0f}°"
    return f"{bandwidth}, {margin}"
