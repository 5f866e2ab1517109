"""Move the vector so that the shaft goes with it: let go, pulled gently, turned without making it swing."""

import math

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.parameters import field_of
from cadrel.link import Drive, Recording
from cadrel.procedures.errors import AxisStopped, NotAllowed
from cadrel.procedures.phasing.plan import SLOW_TURN
from cadrel.procedures.session import FloatArray, Session

TURN = 2 * math.pi
START_TIME = 0.2  # [s] for the slow turn
SLOWER_BY_HALLS = 1.4  # times the start: they do not show a swing
STARTING = 0.7  # of the way at most: the rest is turned at full speed
START_LAG = 0.6  # [rad] electrical, that the start of a turn may leave a swinging shaft behind
LONGEST_SWING = 8.0  # [s]
STILL = math.radians(4)  # electrical
SHORTEST_WAY = 0.2  # [rad] electrical, for which a start is planned
CATCHING = (1.0, 0.5)  # of the strongest vector: a light axis swings about a strong one faster than was agreed to
CATCHES = 3  # vectors on which the brake is opened, at the most
SHOWS_MOTION = 0.03  # of the continuous current, through shorted windings: a load that falls, well above the noise
FALLS_WITHIN = 0.25  # [s] after the brake has opened
LEARNED_WITHIN = 1.0  # [s] for the brake to open and the load to show
ROOM = 0.75  # electrical turns a load may move while a vector tries to catch it
WIGGLE = math.radians(60)  # electrical
CAUGHT = (0.25, 2.5)  # of the wiggle, that a shaft moves which a vector has caught: less sticks, more slips
LOOK = 0.02  # [s] between two looks at a swinging shaft
SIGNALS = ("signal_cos", "signal_sin")
CHANNELS = ("vector_angle", "counts", "hall", "index_count", "index_seen", "i_d", "v_d", "v_q", "velocity")


def electrical_per_count(session: Session) -> float:
    """Return the electrical angle of one count, signed by the counting direction. [rad]"""
    v = session.values
    return float((-1.0 if v["feedback.direction"] else 1.0) * TURN / v["feedback.counts"] * v["motor.pole_pairs"])


def resting_place(session: Session, centre: float, current: float) -> float | None:
    """Return a vector angle at which the shaft, let go by its brake, stays; None where friction holds it as well.

    A hanging load that starts from the far side of a vector slips through it and falls. So the brake is opened on a
    vector with little room. What was not caught stood about opposite to it, and how far it went from there the counts
    tell: the next vector is where the rotor stands by that. A load that friction holds may be heavier than what rubs
    once it slides: it is not let go on a vector that has not caught it either.
    """
    if not session.axis.has_brake:
        return None
    for share in CATCHING:
        caught, held, too_fast = _caught_by_its_own_current(session, share * current)
        if caught is not None:
            return caught
        if not too_fast:
            break
    v, angle, swung = session.values, 0.0, 0
    for _ in range(CATCHES):
        session.enter("opening the brake on a vector", 0.05)
        before = session.drive.status()
        try:
            with session.enabled_around(
                "vector", float(before["position"]), travel=ROOM * TURN / v["motor.pole_pairs"]
            ):
                followed = _followed(session, angle, current)
                if CAUGHT[0] < followed < CAUGHT[1]:
                    return angle
                if held and followed <= CAUGHT[0]:
                    return None  # friction holds it against the vector as well
        except AxisStopped as stopped:
            if abs(session.standstill()["position"] - centre) > session.consent.travel:
                raise
            swung += stopped.ran_too_fast
        session.note(f"The load was not caught by a vector at {math.degrees(angle):.0f}°; the brake closed.")
        went = (session.standstill()["counts"] - before["counts"]) * electrical_per_count(session)
        angle = math.remainder(angle + math.pi + went, TURN)
    if swung == CATCHES:
        raise swings_too_fast(session, current)
    return 0.0


def swings_too_fast(session: Session, current: float) -> NotAllowed:
    """What to say of a light axis that every vector slings: it needs the speed at which it swings about one."""
    stiffness = session.axis.motor.torque_constant * current
    pairs = session.axis.motor.pole_pairs
    fastest = 2 * math.sqrt(stiffness / (pairs * session.axis.inertia))  # from opposite, without friction
    mechanism = session.axis.mechanism
    let_go = "Let go by its brake, the axis" if session.axis.has_brake else "The axis"
    return NotAllowed(
        why=f"{let_go} swings about the vector that is to hold it, and each time it was faster "
        f"than the {session.consent.speed * mechanism.unit_per_rad:.3g} {mechanism.unit}/s agreed to.",
        remedy=f"Raise {field_of('procedure.velocity')}, to {fastest * mechanism.unit_per_rad:.3g} {mechanism.unit}/s "
        "at the most, or take the load off.",
    )


def _caught_by_its_own_current(session: Session, current: float) -> tuple[float | None, bool, bool]:
    """Open the brake onto shorted windings: what falls tells the vector that holds it. [A]

    Returns that vector, whether friction holds the load, and whether it was caught so hard that it swung too fast.
    """
    session.enter("opening the brake on shorted windings", 0.03)
    here = float(session.drive.status()["position"])
    try:
        with session.enabled_around("vector", here, travel=ROOM * TURN / session.values["motor.pole_pairs"]):
            session.drive.catch(current=current, level=SHOWS_MOTION * session.current_continuous)
            session.brake_opened()
            status = session.hold(FALLS_WITHIN)
            if status["catching"]:
                return None, True, False
            wait_until_still(session)
            return float(status["vector_angle"]), False, False
    except AxisStopped as stopped:
        session.note("The load was not caught by the current of its shorted windings; the brake closed.")
        session.standstill()
        return None, False, stopped.ran_too_fast


def learn_holding_vector(drive: Drive, axis: AxisModel) -> bool:
    """Open the brake for a moment onto shorted windings, so that the vector points where it holds what hangs.

    For phasing by hand, enabled in vector mode with its current off: the brake closes again, the vector stays where it
    was set. Returns whether anything had to be held.
    """
    drive.catch(current=axis.motor.current_continuous, level=SHOWS_MOTION * axis.motor.current_continuous)
    for _ in range(round(LEARNED_WITHIN / LOOK)):
        drive.wait(LOOK)
        drive.beat()
        status = drive.status()
        if status["brake"] == "open" and not status["catching"]:
            break
    drive.release_vector()
    for _ in range(round(LEARNED_WITHIN / LOOK)):
        if drive.status()["brake"] == "closed":
            break
        drive.wait(LOOK)
        drive.beat()
    return not status["catching"]


def _followed(session: Session, angle: float, current: float) -> float:
    """How far the shaft went with a vector turned there and back, of that way: about 1 where the vector has caught it.

    Friction may hold it even on the far side, and lets go once the vector turns.
    """
    v = session.values
    el_per_count = TURN / v["feedback.counts"] * v["motor.pole_pairs"]
    session.drive.vector(angle=angle, rate=1e6, current=current, rise=current / 0.2)
    session.brake_opened()
    places = [session.hold(0.3)["counts"]]
    for turned in (WIGGLE, 0.0):
        session.drive.vector(angle=angle + turned, rate=TURN * SLOW_TURN / 2, current=current, rise=current / 0.2)
        places.append(session.hold(WIGGLE / (TURN * SLOW_TURN / 2) + 0.1)["counts"])
    return float(np.ptp(places)) * el_per_count / WIGGLE


def strayed(session: Session, centre: float) -> int:
    """Return how many electrical turns a shaft stands beside where it was to stay around, by the direction entered.

    A light touch slings a heavy shaft without friction to speak of. [rad] of the motor
    """
    away = float(session.drive.status()["position"]) - centre
    return round(away * session.values["motor.pole_pairs"] / TURN)


def begin_at(session: Session, angle: float | None, current: float, *, turns: int = 0) -> None:
    """Bring up the current gently: where a brake let the shaft rest, or held by friction, beside the vector.

    Beside one that many `turns` on, so that it comes back by these with a vector that is turned to nought.
    """
    if angle is not None:
        session.drive.vector(angle=angle, rate=1e6, current=current, rise=current / 0.2)
        session.brake_opened()
        session.hold(0.2)
        return
    # A shaft may stand where the vector points away from it, and swings round at full current once it turns. From a
    # quarter turn beside, and with the current still low, it cannot stand so for both.
    session.drive.vector(angle=turns * TURN + TURN / 4, rate=1e6, current=0.5 * current, rise=current / 0.6)
    session.brake_opened()
    session.hold(0.35)
    # Turned on while it still swings, a heavy shaft without friction to speak of is slung round and round.
    wait_until_still(session)


def bring_up(session: Session, angle: float, current: float) -> None:
    """Bring up a vector at an angle, and wait until it leads the shaft: until the brake is open, its pin out."""
    session.drive.vector(angle=angle, rate=TURN, current=current, rise=current / 0.3)
    session.brake_opened()
    if session.axis.brake_by_pin:  # which the drive takes out by turning the vector on
        turned = abs(float(session.look()["vector_angle"]) - angle)
        session.drive.vector(angle=angle, rate=TURN * SLOW_TURN, current=current, rise=current / 0.3)
        session.hold(turned / (TURN * SLOW_TURN))
    session.hold(0.35)


def settle_on(session: Session, angle: float, current: float, *, swing: float = 0.0) -> float:
    """Pull the shaft to a vector: half the current first, so that it does not swing. Period of the swing left. [s]

    Started over a period of a `swing` that is expected: a heavy load that is slung past its vector falls. [s]
    """
    status = session.look()
    way = max(abs(angle - status["vector_angle"]), SHORTEST_WAY)
    rate = unhurried(TURN * SLOW_TURN, way, swing)
    start = start_time(rate, swing) if swing > 0.0 else 0.0
    acceleration = rate / start if start > 0.0 else 0.0
    gentle = 1.0 if session.axis.has_brake else 0.5  # a load must not slip through
    session.drive.vector(
        angle=angle, rate=rate, current=gentle * current, rise=current / 0.3, acceleration=acceleration
    )
    if session.axis.brake_by_pin:  # the drive turns the vector on until the pin is out; only then it goes anywhere
        session.brake_opened()
        status = session.look()
        session.drive.vector(angle=angle, rate=rate, current=current, rise=current / 0.3, acceleration=acceleration)
    session.hold(0.35 + start + abs(angle - status["vector_angle"]) / rate)
    session.drive.vector(angle=angle, rate=rate, current=current, rise=current / 0.3, acceleration=acceleration)
    session.hold(0.25)
    return wait_until_still(session)


def wait_until_still(session: Session, *, looks: int = 8, longest: float = LONGEST_SWING) -> float:
    """Let a shaft that swings about the vector come to rest, within `looks` looks, for at most so long [s].

    Returns the period of its swing, 0 where it was still at once. [s]
    """
    v = session.values
    el_per_count = TURN / v["feedback.counts"] * v["motor.pole_pairs"]
    seen: list[float] = []
    for _ in range(round(longest / LOOK)):
        seen.append(session.hold(LOOK)["counts"])
        if len(seen) >= looks and np.ptp(seen[-looks:]) * el_per_count < STILL:
            break
    return swing_period(np.array(seen) * el_per_count)


def swing_period(shaft_el: FloatArray) -> float:
    """Return the period of a swing that dies out, from looks `LOOK` apart; 0 where there is none. [s]"""
    swing = shaft_el - shaft_el[-(len(shaft_el) // 2) :].mean()
    beyond = np.sign(swing[np.abs(swing) > STILL / 2])
    at = np.nonzero(np.abs(swing) > STILL / 2)[0]
    turned = at[1:][np.diff(beyond) != 0]
    if len(turned) < 2:
        return 0.0
    return float(2 * LOOK * (turned[-1] - turned[0]) / (len(turned) - 1))


def sweep(
    session: Session, target: float, rate: float, current: float, phase: str, share: float, *, tail: float = 0.1,
    swing: float = 0.0,
) -> Recording:  # fmt: skip
    """Turn the vector to an angle at constant rate, and record it; started so that a swing of that period [s] ends."""
    session.enter(phase, share)
    more: tuple[str, ...] = SIGNALS if session.axis.feedback.kind.has_sine else ()
    more += ("second_counts",) if session.axis.second is not None else ()
    way = abs(target - session.look()["vector_angle"]) / rate
    start = start_time(rate, swing)
    if session.axis.feedback.kind.tells_sectors_only:
        start = min(SLOWER_BY_HALLS * start, STARTING * way)
    seconds = way + start
    session.arm((*CHANNELS, *more), seconds=seconds + tail, divider=8)
    session.drive.vector(angle=target, rate=rate, current=current, rise=current / 0.3, acceleration=rate / start)
    return session.recorded(at_most=seconds + 2)


def start_time(rate: float, swing: float = 0.0) -> float:
    """Time in which the vector comes to speed. [s]

    A jump would make a heavy shaft swing; constant acceleration over whole periods of its swing leaves it at rest on
    the vector, behind by at most twice what the acceleration asks for.
    """
    usual = START_TIME * max(1.0, rate / (TURN * SLOW_TURN))
    if swing <= 0.0:
        return usual
    lag = 2 * rate * swing / TURN**2  # [rad] of one period
    return swing * max(math.ceil(usual / swing), math.ceil(lag / START_LAG))


def unhurried(rate: float, way: float, swing: float) -> float:
    """Return a rate at which most of a way [rad] is turned at full speed, in spite of a start over whole swings."""
    while swing > 0.0 and STARTING * way / rate < start_time(rate, swing):
        rate *= 0.8
    return rate
