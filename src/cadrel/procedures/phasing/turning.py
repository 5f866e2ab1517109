"""Turn the vector, and read direction, ratio, Halls, index, coupling and load from what the shaft does."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.errors import UnusableInput
from cadrel.core.feedback import IMPOSSIBLE_HALLS, SignalCircle, angle_error, fit_circle
from cadrel.core.identification import Following, HallMap, following, learn_halls, load_of_vector
from cadrel.core.identification.turning import SETTLED, play_from_three_currents, play_from_two_currents
from cadrel.link import Recording
from cadrel.procedures.errors import AxisStopped
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.beforehand import moved_unpowered
from cadrel.procedures.phasing.faults import Named, wired_wrongly
from cadrel.procedures.phasing.plan import JUDGED_TURNS, SHORT_TIME, SLOW_TURN, TurningPlan, turning_plan
from cadrel.procedures.phasing.vector import (
    CATCHES,
    START_TIME,
    STILL,
    begin_at,
    resting_place,
    settle_on,
    strayed,
    sweep,
    swings_too_fast,
    unhurried,
    wait_until_still,
)
from cadrel.procedures.session import FloatArray, Session

TURN = 2 * math.pi
SLUNG = math.radians(90)  # electrical, ahead of the vector
SHORTEST_SWING = 0.2  # [s] that a shaft is taken to swing at, once it was slung
STRONGER = 1.8  # factor of the current that tells play from friction
RAISE = 1.4  # factor of the phasing current after a try that did not follow
RATIO_AT_FIRST = 0.25  # of the first way: the shaft may still swing
RATIO_TOLERANCE = 0.02  # of the whole way
NO_GEAR = 0.05  # a ratio so near to 1 makes no device behind it
GEAR_FITS = 0.04  # by which the counts may miss those of a device behind the gear
OFF = 0.2  # of the vector's current: less is none
TAIL = 0.3  # [s] recorded after the first way, in which the shaft comes to rest
PLAY_TO_NAME = math.radians(20)  # electrical
WEAKER = 0.7  # factor of the current that tells a salient rotor from play
HOLDS = 3.0  # times the load, of a vector that may be weaker behind a brake
SALIENCY = 0.25  # of the inductance, by which that across the flux may exceed that along it; no sheet tells
WIDTH_TO_LOOK = math.radians(12)  # electrical: narrower reversals hide no play worth naming
FREE_TO_NAME = math.radians(80)  # electrical: a shaft that goes so far is not held by friction
CURRENT_TO_COMPARE = 0.1  # of the vector's current: what flows is compared with it before more is told
CURRENT_TOLERANCE = 0.4  # of what was told; an open phase is off by all of it at one of the two vectors
SAME_PLACE, FELL_BACK = math.radians(15), math.radians(90)  # electrical, at a stop that is met again
# Seen by Halls alone: how far a shaft goes along until a stop, by how much it may be behind then, and the share of the
# way that it goes back.
WENT_ALONG, BEHIND, WENT_BACK = math.radians(100), math.radians(130), 0.6
INDEX_TOLERANCE = 0.02  # of the counts of a turn: an index is as wide as a count or two
COARSE_FREE = math.radians(55)  # the same, seen by Halls alone
DRIFT_TO_NAME, DRIFT_BEYOND_DOUBT = math.radians(10), math.radians(40)  # electrical
BREAKAWAY = 1.6  # a shaft may rest as far from the vector as breakaway holds it, and turns with the lag of sliding


@dataclass(slots=True, eq=False)
class Turning:
    """Records of a vector turned up and down, and what was read from them."""

    up: Recording
    down: Recording
    current: float  # [A]
    lag: float  # [rad] electrical, half the width of the reversal
    bias: float  # [rad] electrical: the rotor stands ahead of the vector, both ways
    flux: float  # [Wb] as the voltages show it
    per_count: float  # [rad] of the motor, signed
    pairs: float
    shaft: Callable[[Recording], FloatArray]  # electrical angle by the entered data [rad]
    halls_alone: bool
    swing: float = 0.0  # [s] period at which the shaft swings about the vector; 0 if it was never seen to
    rests: tuple[tuple[float, float], tuple[float, float]] | None = None  # vector and shaft above and below [rad]
    second: float | None = None  # counts of the device on the load per motor turn

    @property
    def offset(self) -> float:
        """Electrical angle at count zero, from steady turning both ways. [rad]"""
        ways = [r["vector_angle"] - self.shaft(r) for r in (self.up, self.down)]
        means = [float(w[_steady(r)].mean()) for w, r in zip(ways, (self.up, self.down), strict=True)]
        return 0.5 * (means[0] + means[1]) + self.bias

    def halls(self, spacing: int) -> HallMap:
        """Return the Hall map at the rotor's angle, which the device tells; a motor without one, the vector and lag."""
        angles = []
        for record, way in ((self.up, 1.0), (self.down, -1.0)):
            rotor = (
                record["vector_angle"] - way * self.lag + self.bias if self.halls_alone
                else self.shaft(record) + self.offset
            )  # fmt: skip
            # Where the vector stands in for the shaft, only while the lag is that of steady turning.
            at = _steady(record) if self.halls_alone else slice(None)
            angles.append((rotor[at], np.round(record["hall"][at]).astype(int)))
        (a, h), (b, k) = angles
        return learn_halls(a, h, b, k, spacing=spacing)


@dataclass(frozen=True, slots=True)
class _NotFollowed:
    """A try in which the shaft did not go with the vector."""

    because: Exception  # what to say of it, should it be the last
    slung: bool  # past the vector, not held back


def _steady(record: Recording) -> np.ndarray:
    """Samples in which the vector turns at its full speed and the lag has settled."""
    vector = record["vector_angle"]
    turned = np.abs(vector - vector[0])
    speed = np.abs(np.gradient(vector))
    return np.asarray((turned > SETTLED) & (speed > 0.99 * speed.max()))


def shaft_reader(session: Session, per_count: float, pairs: float) -> Callable[[Recording], FloatArray]:
    """Return how a record becomes the shaft's electrical angle; Halls alone are drawn out between their edges."""
    if not session.axis.feedback.kind.tells_sectors_only:
        return lambda r: pairs * (r["counts"] + 0.5) * per_count

    def between_edges(record: Recording) -> FloatArray:
        counts = record["counts"]
        at = np.nonzero(np.diff(counts))[0]
        if len(at) < 2:
            return pairs * counts * per_count
        edge = 0.5 * (counts[at] + counts[at + 1])
        return np.asarray(pairs * per_count * np.interp(np.arange(len(counts)), at + 0.5, edge))

    return between_edges


def turn_vector(session: Session, centre: float, *, plan: TurningPlan | None = None) -> Turning:
    """Turn the vector forward and back until the shaft follows, with more current if it must.

    Raises
    ------
    WiredWrongly
        The shaft does not follow, runs against a stop, counts the wrong way or by the wrong ratio, or its Halls,
        index or coupling are not as they should be.
    """
    # Behind a brake a load may hang: only the whole continuous current holds it wherever the vector turns.
    plan = plan or turning_plan(session.axis)
    share, swing, slung, swung = 1.0 if session.axis.has_brake else session.axis.phasing_share, 0.0, False, 0
    if session.axis.has_brake:
        # And no other vector catches what was slung past it: what is heavy is started over a whole swing at once.
        expected = expected_swing(session.axis, session.current_continuous)
        swing = expected if expected > START_TIME else 0.0
    before: Exception | None = None  # what would be said of the try before
    require_current(session, centre, share * session.current_continuous)
    while True:
        current = share * session.current_continuous
        start = resting_place(session, centre, strongest(session))
        try:
            with session.enabled_around("vector", centre):
                found = _try_turning(
                    session, plan or turning_plan(session.axis), current, start, swing, centre=centre,
                    last=share >= 1.0, slung=slung,
                )  # fmt: skip
        except AxisStopped as stopped:
            # Stiction alone may have held the load until it was stirred: then it falls on with the power off.
            fallen = moved_unpowered(session)
            if fallen is not None:
                raise wired_wrongly([faults.load_pulls(fallen)]) from stopped
            if before is not None:
                raise before from stopped
            if not stopped.ran_too_fast or session.axis.has_brake:
                raise
            # A light shaft that friction held swings about the vector once it lets go, faster the farther it stood
            # from it. It stands nearer now.
            swung += 1
            if swung == CATCHES:
                raise swings_too_fast(session, current) from stopped
            session.note(
                "The shaft swung about the vector faster than was agreed to; begun again from where it came to rest."
            )
            continue
        if isinstance(found, Turning):
            return found
        before = found.because
        stronger = min(1.0, share * RAISE)
        slung = slung or found.slung
        if found.slung:
            # A shaft that was slung past the vector is heavy: started over a whole period of its swing, it goes along.
            swing = max(swing, expected_swing(session.axis, stronger * session.current_continuous), SHORTEST_SWING)
            session.note(f"The shaft was slung past the vector: started slower, over {swing:.2g} s.")
        if stronger > share:
            share = stronger
            session.note(f"The shaft followed too little; phasing current raised to {100 * share:.0f} % of continuous.")


def _try_turning(
    session: Session,
    plan: TurningPlan,
    current: float,
    start: float | None,
    swing: float,
    *,
    centre: float,
    last: bool,
    slung: bool,
) -> "Turning | _NotFollowed":
    """Turn forward and back once."""
    v = session.values
    per_count = (-1.0 if v["feedback.direction"] else 1.0) * TURN / v["feedback.counts"]
    shaft = shaft_reader(session, per_count, v["motor.pole_pairs"])
    measured = _brought_to(session, centre, start, current, swing)
    swing = max(measured, swing)
    forward, back = "turning the vector forward", "turning the vector back"
    slow = unhurried(TURN * SLOW_TURN, JUDGED_TURNS * TURN, swing)
    try:
        first = sweep(session, JUDGED_TURNS * TURN, slow, current, forward, 0.08, tail=TAIL, swing=swing)
    except AxisStopped as stopped:
        # Thrown back by a stop, a shaft may be faster than was consented to: what was recorded until then tells.
        record = _recorded_until(session)
        if record is None or _went_along(record, shaft):
            raise
        raise _not_following((record,), shaft, current, coarse=True) from stopped
    reading = following(first["vector_angle"], shaft(first))
    measured = max(measured, wait_until_still(session))
    swing = max(swing, measured)
    if not reading.followed:
        _name_a_dead_hall(session, first, last=last)
        if _slung(first, shaft) and not (last and slung):  # more current is not all that may help
            seen = float(np.ptp(shaft(first)))
            because = wired_wrongly([faults.did_not_follow(commanded=JUDGED_TURNS * TURN, seen=seen, current=current)])
            return _NotFollowed(because, slung=True)
        stopped_by = _turned_back(session, first, shaft, slow, current, swing)
        if not last:
            return _NotFollowed(stopped_by, slung=False)
        raise stopped_by
    halls_alone = session.axis.feedback.kind.tells_sectors_only
    wrong = reading.ratio < 0 or abs(abs(reading.ratio) - 1) > RATIO_AT_FIRST
    if wrong and not halls_alone:
        plan = TurningPlan(JUDGED_TURNS, slow)  # that much tells; nothing is turned further
        up = first
    else:
        if reading.ratio < 0:  # Halls in mirrored order count backward; the map will say so
            per_count = -per_count
            shaft = shaft_reader(session, per_count, v["motor.pole_pairs"])
        plan = TurningPlan(plan.turns, unhurried(plan.rate, (plan.turns - JUDGED_TURNS) * TURN, swing))
        up = _second_way(session, plan, first, current, swing)
        if not following(up["vector_angle"], shaft(up)).followed:
            _name_a_dead_hall(session, up, last=True)
            backward = sweep(session, 0.0, slow, current, back, 0.25, swing=swing)
            stands = _not_following((_joined(first, up), backward), shaft, current, coarse=halls_alone)
            return _thrown(stands, may=_slung(up, shaft) and not (last and slung))
    top = _at_rest(session, shaft) if swing else None
    down = sweep(session, 0.0, plan.rate, current, back, 0.25, swing=swing)
    scale = 1.0 if halls_alone or abs(reading.ratio - 1) < RATIO_AT_FIRST else reading.ratio
    turning = read_turning(session, plan, up, down, current, per_count, shaft, scale=scale)
    turning.swing = measured
    if top is not None:
        turning.rests = (top, _at_rest(session, shaft))
    _name_faults(session, reading, turning, plan)
    return turning


def _thrown(because: Exception, *, may: bool) -> "_NotFollowed":
    """Return what begins a shaft that `may` have been thrown past the vector anew, more slowly; else raise it."""
    if not may:
        raise because
    return _NotFollowed(because, slung=True)


def _brought_to(session: Session, centre: float, start: float | None, current: float, swing: float) -> float:
    """Bring the shaft to the vector at nought, back from where it strayed to. Period of the swing left. [s]"""
    turns = 0 if start is not None else strayed(session, centre)
    begin_at(session, start, current, turns=turns)
    if turns:
        swing = max(swing, expected_swing(session.axis, current))
    return settle_on(session, 0.0, current, swing=swing)


def expected_swing(axis: AxisModel, current: float) -> float:
    """Return the period at which a shaft with the load entered swings about a vector of that current. [A] -> [s]"""
    stiffness = axis.motor.pole_pairs * axis.motor.torque_constant * current  # [N·m/rad]
    return TURN * math.sqrt(axis.inertia / stiffness)


def require_current(session: Session, centre: float, current: float) -> None:
    """Raise `WiredWrongly` where what flows is not the vector that was told: a phase is open.

    Two vectors, a quarter of a turn apart, at a small current and behind a closed brake: an open phase cannot carry
    both, and nothing hangs on it yet.
    """
    session.enter("comparing current told and flowing", 0.03)
    told = CURRENT_TO_COMPARE * current
    try:
        with session.enabled_around("vector", centre, brake_closed=session.axis.has_brake):
            begun = float(session.look()["vector_angle"])
            for angle in (begun, begun + TURN / 4):
                # Without current it goes to the angle at once; with current it must not jump.
                session.drive.vector(angle=angle, rate=1e6, current=told, rise=current / 0.1)
                session.hold(0.05)  # no longer: what hardly rubs is slung on for seconds by a tenth of the current
                session.arm(["i_d", "i_q"], seconds=0.04, divider=1)
                record = session.recorded(at_most=1.0)
                along, across = float(record["i_d"].mean()), abs(float(record["i_q"].mean()))  # a sensor may flicker
                if max(abs(along - told), across) > CURRENT_TOLERANCE * told:
                    raise wired_wrongly([faults.phase_open(told=told, flows=along, across=across)])
                session.drive.vector(angle=angle, rate=1.0, current=0.0, rise=current / 0.1)
                session.hold(0.05)
    except AxisStopped as stopped:
        if stopped.facts["reason"] == "overcurrent":
            raise wired_wrongly([faults.phase_open(told=told, flows=None, across=0.0)]) from stopped
        fallen = moved_unpowered(session)  # stiction alone may have held a load until it was stirred
        if fallen is not None:
            raise wired_wrongly([faults.load_pulls(fallen)]) from stopped
        raise
    session.standstill()


def _went_along(record: Recording, shaft: Callable[[Recording], FloatArray]) -> bool:
    """Whether the shaft did what the vector told, by the ratio entered."""
    reading = following(record["vector_angle"], shaft(record))
    return reading.followed and abs(reading.ratio - 1) < RATIO_AT_FIRST


def _slung(first: Recording, shaft: Callable[[Recording], FloatArray]) -> bool:
    """Whether the shaft ran far ahead of the vector: thrown, not held back."""
    way, vector = shaft(first), first["vector_angle"]
    return bool((np.abs(way - way[0]) - np.abs(vector - vector[0])).max() > SLUNG)


def _turned_back(
    session: Session, first: Recording, shaft: Callable[[Recording], FloatArray], slow: float, current: float,
    swing: float,
) -> Exception:  # fmt: skip
    """Turn back after a way that was not followed; return what to say of both. Raises it if a stop throws the shaft."""
    try:
        backward = sweep(session, 0.0, slow, current, "turning the vector back", 0.15, swing=swing)
    except AxisStopped as stopped:
        if _recorded_until(session) is None:
            raise
        raise _not_following((first,), shaft, current, coarse=True) from stopped
    return _not_following((first, backward), shaft, current, coarse=session.axis.feedback.kind.tells_sectors_only)


def _at_rest(session: Session, shaft: Callable[[Recording], FloatArray]) -> tuple[float, float]:
    """Vector and shaft once a swing has died out; electrical. [rad]"""
    wait_until_still(session)
    status = session.look()
    counts = np.array([float(status["counts"])])
    return float(status["vector_angle"]), float(shaft(Recording(1.0, {"counts": counts}))[0])


def strongest(session: Session) -> float:
    """Current used for a second or two to tell play from friction. [A]"""
    return min(SHORT_TIME * session.current_continuous, session.values["limit.current"])


def _recorded_until(session: Session) -> Recording | None:
    """What was recorded before the drive stopped the axis by its guard, or None where it stopped for another reason."""
    kinds = [e["kind"] for e in session.drive.events(max(0, int(session.drive.status()["events"]) - 4))]
    if "guard" not in kinds:
        return None
    session.rest(1.5)
    if session.drive.recorder_state() != "done":
        return None
    record = session.drive.recording()
    along = np.abs(record["i_d"])
    on = np.nonzero(along > OFF * along.max())[0]  # what is left once power is cut is the sensors' noise
    moving = slice(0, int(on[-1]) + 1 if on.size else len(record["i_d"]))
    return Recording(record.period, {k: v[moving] for k, v in record.channels.items()})


def _second_way(session: Session, plan: TurningPlan, first: Recording, current: float, swing: float) -> Recording:
    """The rest of the way up; with the first of it where both were turned at the same rate."""
    rest = sweep(session, plan.turns * TURN, plan.rate, current, "turning the vector forward", 0.2, swing=swing)
    return _joined(first, rest) if math.isclose(plan.rate, TURN * SLOW_TURN) else rest


def _joined(a: Recording, b: Recording) -> Recording:
    return Recording(a.period, {k: np.concatenate([a[k], b[k]]) for k in a.channels})


def read_turning(
    session: Session, plan: TurningPlan, up: Recording, down: Recording, current: float, per_count: float,
    shaft: Callable[[Recording], FloatArray], *, scale: float = 1.0,
) -> Turning:  # fmt: skip
    """Return lag, bias and flux of a vector turned up and down at one rate; `scale` is the shaft's ratio to it."""
    lags, volts = [], []
    for record in (up, down):
        at = _whole_turns(record)
        lags.append(float((record["vector_angle"] - shaft(record) / scale)[at].mean()))
        volts.append((float(record["v_d"][at].mean()), float(record["v_q"][at].mean())))
    lag = max(0.5 * (lags[0] - lags[1]), 0.0)
    load = load_of_vector(
        volts[0], volts[1], omega_el=plan.rate, inductance=session.values["motor.inductance"], current=current, lag=lag,
        flux=session.values["motor.flux_linkage"],
    )  # fmt: skip
    pairs = session.values["motor.pole_pairs"]
    halls_alone = session.axis.feedback.kind.tells_sectors_only
    return Turning(up, down, current, lag, load.bias, load.flux_linkage, per_count, pairs, shaft, halls_alone)


def _whole_turns(record: Recording) -> np.ndarray:
    """Samples of steady turning over whole electrical turns: what repeats with them cancels in a mean."""
    steady = _steady(record)
    turned = np.abs(record["vector_angle"] - record["vector_angle"][0])
    begin, end = float(turned[steady].min()), float(turned[steady].max())
    turns = max(math.floor((end - begin) / TURN + 0.02), 0.5)
    return np.asarray(steady & (turned >= end - turns * TURN))


def _not_following(
    records: Sequence[Recording], shaft: Callable[[Recording], FloatArray], current: float, *, coarse: bool
) -> Exception:
    """Return what to say: it stood, or it went to and fro between two places, as between stops."""
    commanded = float(np.ptp(records[0]["vector_angle"]))
    ways = [shaft(record) for record in records]
    spans = [float(np.ptp(way)) for way in ways]
    if min(spans) > (COARSE_FREE if coarse else FREE_TO_NAME) and max(spans) < 0.8 * commanded:
        same = max(abs(ways[0].max() - ways[-1].max()), abs(ways[0].min() - ways[-1].min()))
        if same < 0.45 * max(spans) + (COARSE_FREE if coarse else 0.0):
            return wired_wrongly([faults.end_stop(free=max(spans))])
    for record, way in zip(records, ways, strict=True):
        free = _stopped_again(np.asarray(record["vector_angle"]), way)
        if free is not None:
            return wired_wrongly([faults.end_stop(free=free)])
    if coarse and len(ways) > 1 and spans[-1] > WENT_BACK * commanded:
        free = _pulled_back(np.asarray(records[0]["vector_angle"]), ways[0])
        if free is not None:
            return wired_wrongly([faults.end_stop(free=free)])
    return wired_wrongly([faults.did_not_follow(commanded=commanded, seen=spans[0], current=current)])


def _stopped_again(vector: FloatArray, shaft: FloatArray) -> float | None:
    """How far the shaft went until it met the same end twice, the vector slipping on between; None if it did not.

    At a stop on one side the vector turns on and pulls the shaft back from behind, which comes to the same place again.
    """
    way = math.copysign(1.0, float(vector[-1] - vector[0])) * (shaft - shaft[0])
    end = float(way.max())
    there, left, met = way > end - SAME_PLACE, False, 0
    for k in range(len(way)):
        if there[k] and (left or not met):
            met, left = met + 1, False
        elif met and way[k] < end - FELL_BACK:
            left = True
    return end if met >= 2 else None


def _pulled_back(vector: FloatArray, shaft: FloatArray) -> float | None:
    """How far the shaft went along until it stood, and was pulled back by the vector that turned on; else None.

    Seen by Halls alone, which show neither the place to a sector nor how far it fell. What friction holds, or a load,
    does not go along before; what is too weakly turned is not pulled back.
    """
    turned = np.abs(vector - vector[0])
    way = math.copysign(1.0, float(vector[-1] - vector[0])) * (shaft - shaft[0])
    furthest = np.maximum.accumulate(way)
    fell = np.nonzero(furthest - way > COARSE_FREE)[0]
    if not fell.size:
        return None
    end = float(furthest[fell[0]])
    stood = int(np.argmax(way >= end - SAME_PLACE))
    went_along = end > WENT_ALONG and turned[stood] - end < BEHIND
    return end if went_along and turned[fell[0]] - turned[stood] > COARSE_FREE else None


def _name_a_dead_hall(session: Session, first: Recording, *, last: bool) -> None:
    """Halls alone that are dead look like a shaft that stands: name them if they show a state that cannot be."""
    if not session.axis.feedback.kind.tells_sectors_only:
        return
    codes = np.round(first["hall"]).astype(int)
    shown = set(np.unique(codes))
    steps = set(pairwise(codes[np.concatenate([[True], np.diff(codes) != 0])].tolist()))
    jumps = any((a ^ b).bit_count() != 1 for a, b in steps)  # sound Halls change one at a time, however they are wired
    if jumps or shown & IMPOSSIBLE_HALLS[session.axis.feedback.hall_spacing]:
        halls = learn_halls(
            first["vector_angle"], codes, first["vector_angle"], codes, spacing=session.axis.feedback.hall_spacing
        )
        if halls.fault is not None and (last or halls.fault.code != "order"):
            raise wired_wrongly([faults.halls(halls.fault)])


def _name_faults(session: Session, reading: Following, turning: Turning, plan: TurningPlan) -> None:
    axis, v = session.axis, session.values
    found: list[Named] = []
    device = axis.feedback.kind
    turned_whole = plan.turns >= v["motor.pole_pairs"]
    if reading.ratio < 0 and not device.tells_sectors_only:
        found.append(faults.direction(device))
    off, doubt = abs(reading.ratio), RATIO_AT_FIRST
    if plan.turns > JUDGED_TURNS:
        off, doubt = _ratio_of_the_whole_way(turning)
    if not device.tells_sectors_only and abs(off - 1) > RATIO_TOLERANCE + doubt:
        found.append(_ratio_fault(session, turning, off))
    if axis.has_halls:
        halls = turning.halls(axis.feedback.hall_spacing)
        if halls.fault is not None:
            found.append(faults.halls(halls.fault))
    between, counts = counts_between_indexes(session, turning), v["feedback.counts"]
    if not found and between is not None and abs(between / counts - 1) > INDEX_TOLERANCE:
        # A pair of wrong entries, with which the vector agrees.
        found.append(faults.both_wrong(counts=counts, seen=between, pairs=round(v["motor.pole_pairs"])))
    if axis.has_index and turned_whole and not any(r["index_seen"][-1] > 0 for r in (turning.up, turning.down)):
        found.append(faults.no_index(plan.turns / v["motor.pole_pairs"]))
    if not found and not device.tells_sectors_only:
        found += _slack(session, turning)
    if axis.second is not None and not found:
        found += _second(session, turning)
    if found:
        raise wired_wrongly(found)


def _ratio_of_the_whole_way(turning: Turning) -> tuple[float, float]:
    """Shaft over vector by least squares, mean of both ways: the lag of each leaves. With what a swing may spoil."""
    if turning.rests is not None:  # a swing over a short way would be taken for a slope
        (vector_top, shaft_top), (vector_low, shaft_low) = turning.rests
        way = vector_top - vector_low
        doubt = 2 * BREAKAWAY * max(turning.lag, STILL) / way  # it may rest anywhere that friction holds it
        return (abs(shaft_top - shaft_low) + 2 * turning.lag) / way, doubt
    slopes, doubts = [], []
    for record in (turning.up, turning.down):
        at = _steady(record)
        vector, shaft = record["vector_angle"][at], turning.shaft(record)[at]
        slope, start = np.polyfit(vector, shaft, 1)
        slopes.append(abs(float(slope)))
        doubts.append(float(np.std(shaft - slope * vector - start) / np.ptp(vector)))
    return 0.5 * sum(slopes), 1.2 * max(doubts)


def counts_between_indexes(session: Session, turning: Turning) -> float | None:
    """Counts from one index pulse to the next, where two were passed: a turn of the shaft, whatever was entered."""
    marks = np.unique(np.concatenate([r["index_count"][r["index_seen"] > 0] for r in (turning.up, turning.down)]))
    steps = np.abs(np.diff(np.sort(marks)))
    apart = steps[steps > 0.2 * session.values["feedback.counts"]]
    return float(apart.min()) if apart.size else None


def _ratio_fault(session: Session, turning: Turning, off: float) -> Named:
    """Name the wrong one of pole pairs and resolution, as far as index or back-EMF tell them apart."""
    v, axis = session.values, session.axis
    counts, expected = v["feedback.counts"], round(v["motor.pole_pairs"])
    between = counts_between_indexes(session, turning)
    # ratio = entered pairs by true counts over true pairs by entered counts; the flux per pair knows only the pairs.
    flux = math.log(max(turning.flux, 1e-9) / v["motor.flux_linkage"])
    gear = axis.mechanism.ratio
    if abs(gear - 1) > NO_GEAR and abs(off * gear - 1) < GEAR_FITS:
        return faults.behind_gear(gear=gear)
    likely = "ratio"
    if between is not None:
        likely = "resolution" if abs(between / counts - 1) > 0.02 else "pole_pairs"
    elif abs(flux) < 0.2 and abs(math.log(off)) > 0.25:
        likely = "resolution"
    elif abs(flux - math.log(off)) < 0.2:
        likely = "pole_pairs"
    linear = axis.motor.metres_per_rad is not None
    return faults.ratio(
        seen=expected / off, expected=expected, likely=likely, counts=counts, counts_seen=between, linear=linear
    )


def held_circle(session: Session) -> SignalCircle:
    """Return the circle by which the drive corrects the signals now."""
    v = session.values
    return SignalCircle(
        amplitude=1.0, offset_cos=v["signal.offset_cos"], offset_sin=v["signal.offset_sin"], gain=v["signal.gain"],
        quadrature=v["signal.quadrature"],
    )  # fmt: skip


def _circle_error(session: Session, record: Recording) -> float:
    """Electrical angle by which an unround signal circle may misplace the shaft, before it is corrected. [rad]"""
    if not session.axis.feedback.kind.has_sine:
        return 0.0
    try:
        seen = fit_circle(record["signal_cos"], record["signal_sin"])
    except UnusableInput:
        return 0.0  # said with its name where the circle is corrected
    turns = session.values["motor.pole_pairs"] / session.axis.feedback.periods_per_turn
    return float(turns * angle_error(seen, held_circle(session)))


def _slack(session: Session, turning: Turning) -> list[Named]:
    """Look whether counts come back, and whether a wide reversal is friction or play."""
    up, down = turning.up, turning.down
    wait_until_still(session)
    turned = float(down["vector_angle"][-1] - up["vector_angle"][0])
    end = turning.pairs * (session.look()["counts"] + 0.5) * turning.per_count
    drift = end - float(turning.shaft(up)[0]) - turned
    # At the end of the way down the shaft stands behind by the lag; where the way up began it may stand either side.
    if abs(drift) > BREAKAWAY * 2 * turning.lag + DRIFT_TO_NAME + 2 * _circle_error(session, down):
        if abs(drift) < DRIFT_BEYOND_DOUBT:
            drift = _drift_of_another_turn(session, turning)
        if abs(drift) > DRIFT_TO_NAME:
            return [faults.counts_lost(abs(drift))]
    if 2 * turning.lag < WIDTH_TO_LOOK:
        return []
    other = min(STRONGER * turning.current, strongest(session))
    wide, wobbles, _ = _reversal(session, turning, other)
    widths = sorted([(other, wide), (turning.current, 2 * turning.lag)])
    load = turning.current * math.sin(turning.bias) * math.cos(turning.lag)
    (low, width_low), (high, width_high) = widths
    play = play_from_two_currents(width_low, width_high, current_low=low, current_high=high, load=load)
    # A shaft that sticks and slips makes both widths uncertain, the more so the closer the two currents are.
    wobble = max(wobbles, *(float(np.std((r["vector_angle"] - turning.shaft(r))[_steady(r)])) for r in (up, down)))
    doubt = wobble / 2 * turning.current / max(other - turning.current, 1e-9)
    if play > PLAY_TO_NAME and play > 2 * doubt:
        play = min(play, _play_if_salient(session, turning, widths, load))
    if play > PLAY_TO_NAME and play > 2 * doubt:
        return [faults.coupling(play)]
    if play > PLAY_TO_NAME:
        session.note("The shaft sticks and slips: play of the coupling could not be told from friction.")
    return []


def _reversal(session: Session, turning: Turning, current: float) -> tuple[float, float, bool]:
    """Turn forward and back with a current [A]: width of the reversal, wobble [rad], whether the shaft went along."""
    swing = max(settle_on(session, 0.0, current), turning.swing)
    slow = unhurried(TURN * SLOW_TURN, 1.25 * TURN, swing)
    ways = [
        sweep(session, angle, slow, current, "reversing with another current", 0.35, swing=swing)
        for angle in (1.25 * TURN, 0.0)
    ]
    went_along = all(following(way["vector_angle"], turning.shaft(way)).followed for way in ways)
    behind = [(way["vector_angle"] - turning.shaft(way))[_steady(way)] for way in ways]
    return float(behind[0].mean() - behind[1].mean()), max(float(np.std(b)) for b in behind), went_along


def _play_if_salient(session: Session, turning: Turning, widths: Sequence[tuple[float, float]], load: float) -> float:
    """Play, should the rotor be salient: it lags more behind a strong vector, as if more current brought nothing back.

    Where that could explain what was seen, a weaker vector tells: behind it friction makes a reversal wider, play does
    not. One that does not take the shaft along is held by friction.
    """
    salient = SALIENCY * session.values["motor.inductance"] / session.values["motor.flux_linkage"]
    (low, width_low), (high, width_high) = widths
    if play_from_two_currents(
        width_low, width_high, current_low=low, current_high=high, load=load, saliency=salient
    ) > PLAY_TO_NAME:  # fmt: skip
        return math.inf
    weak = WEAKER * turning.current
    if session.axis.has_brake and weak < HOLDS * abs(load):  # it would let the load fall
        session.note("Play of the coupling could not be told from a salient rotor: a weaker vector would not hold the "
                     "load.")  # fmt: skip
        return 0.0
    width, _, went_along = _reversal(session, turning, weak)
    settle_on(session, 0.0, turning.current)
    if not went_along:
        return 0.0
    return play_from_three_currents([(weak, width), *widths], load=load, salient=salient)


def _drift_of_another_turn(session: Session, turning: Turning) -> float:
    """Return what the shaft is off by after one more way forward and back, from where it stood before. [rad]

    Where the first way began it may have stood anywhere that friction and the load held it. Two ways back end alike.
    """
    top, low = float(turning.up["vector_angle"][-1]), float(turning.down["vector_angle"][-1])
    slow = unhurried(TURN * SLOW_TURN, abs(top - low), turning.swing)
    before = session.look()["counts"]
    for angle in (top, low):
        sweep(session, angle, slow, turning.current, "forward and back once more", 0.33, swing=turning.swing)
    wait_until_still(session)
    return float(turning.pairs * (session.look()["counts"] - before) * turning.per_count)


def _second(session: Session, turning: Turning) -> list[Named]:
    """Compare the device on the load with the motor's, over the whole turn."""
    second = session.axis.second
    assert second is not None
    shaft = np.concatenate([r["counts"] for r in (turning.up, turning.down)]) * turning.per_count / TURN
    load = np.concatenate([r["second_counts"] for r in (turning.up, turning.down)])
    slope = float(np.polyfit(shaft, load, 1)[0])
    tolerance = 0.03 + 2 / max(abs(float(np.ptp(load))), 1e-9)
    if abs(slope / second.counts_per_turn - 1) <= tolerance:
        turning.second = slope
        session.note(f"The device on the load counts {slope:.4g} per motor turn, as entered.")
        return []
    return [faults.second_device(ratio_seen=slope, expected=second.counts_per_turn)]
