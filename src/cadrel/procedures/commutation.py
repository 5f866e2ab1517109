"""Directions, pole pairs, Halls, offset by alignment, and torque per amp in both directions."""

import math
from dataclasses import dataclass

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.identification import (
    Estimated,
    OffsetResult,
    angle_error_from_spinning,
    electrical_turns,
    learn_halls,
    offset_from_alignment,
)
from cadrel.core.identification.alignment import HallMap
from cadrel.link import Recording
from cadrel.procedures.errors import (
    HallFault,
    NoIndex,
    NotConfirmed,
    ShaftDidNotFollow,
    WrongDirection,
    WrongPolePairs,
)
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.session import FloatArray, Session
from cadrel.procedures.strokes import back_and_forth, block_means

TURN_RATE = 2 * math.pi * 2.5  # [rad/s] electrical, of the turning vector
PUSHES = ((0.35, 0.3), (0.6, 0.45), (0.95, 0.6))  # share of continuous current, of the consented speed
HELD_ANGLES = 12  # per electrical turn, from each direction
HOLD = 0.16  # [s] at each held angle
FOLLOWED = 0.7  # of the vector's turn: less, and the shaft did not follow
MOST_REFINEMENT = math.radians(20)
RAISE = 1.4  # factor of the phasing current after a try that did not follow
CHANNELS = ("vector_angle", "counts", "hall", "index_count", "index_seen", "i_d", "velocity")


def plan_commutation(axis: AxisModel) -> Plan:
    """Return what commutation will do to the axis, before it does."""
    turns = _electrical_turns(axis)
    travel = max((turns + 1.5) * 2 * math.pi / axis.motor.pole_pairs, axis.goal.travel / 2)
    seconds = 2 * turns * 2 * math.pi / TURN_RATE + 2 * HELD_ANGLES * (HOLD + 0.1) + 5
    current = axis.phasing_share * axis.motor.current_continuous
    unit = axis.mechanism.unit
    there = travel * axis.mechanism.unit_per_rad
    return Plan(
        title="Commutation",
        travel=travel,
        speed=axis.goal.velocity,
        current=current,
        seconds=seconds,
        text=f"The motor turns slowly forward and back with {current / math.sqrt(2):.2f} A rms, more if it does not "
        f"follow, then is pushed and spun both ways: within {there:.1f} {unit} to either side, about {seconds:.0f} s.",
    )


def _electrical_turns(axis: AxisModel) -> float:
    """Whole electrical turns that show every Hall edge, and the index if there is one."""
    return float(math.ceil(1.1 * axis.motor.pole_pairs)) if axis.has_index else 2.0


@dataclass(slots=True, eq=False)
class _Turning:
    """Records of a forward and a backward turn."""

    up: Recording
    down: Recording


def run_commutation(session: Session) -> Outcome:
    """Find direction, pole pairs, Hall map and offset; write them; confirm by torque per amp.

    Raises
    ------
    ShaftDidNotFollow, WrongDirection, WrongPolePairs, HallFault, NoIndex, NotConfirmed
        What was found instead; nothing is marked valid then.
    """
    v = session.refresh()
    session.write({"commutation.valid": 0.0})
    sign = -1.0 if v["feedback.direction"] else 1.0
    per_count = sign * 2 * math.pi / v["feedback.counts"]
    share = session.axis.phasing_share
    while True:
        current = share * session.current_continuous
        with session.enabled("vector"):
            turning = _turn(session, current)
            shaft = turning.up["counts"] * per_count
            commanded = float(np.ptp(turning.up["vector_angle"]))
            seen = float(np.ptp(shaft)) * v["motor.pole_pairs"]
            if seen > 0.2 * commanded:
                _check_turning(session, turning, per_count)
                held = _hold_angles(session, current, per_count)
                if held.followed > FOLLOWED:
                    break
        if share >= 1.0:
            raise ShaftDidNotFollow(
                commanded_deg=math.degrees(commanded), seen_deg=math.degrees(seen), current_rms=current / math.sqrt(2)
            )
        share = min(1.0, share * RAISE)
        session.note(f"The shaft followed too little; phasing current raised to {100 * share:.0f} % of continuous.")
    changes, halls = _offsets(session, turning, held, per_count)
    session.write(changes)
    session.standstill()
    confirmation, push = _confirm(session)
    refined, spin = _refine(session)
    for key in ("commutation.offset", "commutation.hall_offset"):
        if key in changes:
            changes[key] = math.remainder(changes[key] - refined.value, 2 * math.pi)
    session.write(changes | {"commutation.valid": 1.0})
    changes["commutation.valid"] = 1.0
    return _outcome(session, changes, turning, held, halls, confirmation, push, refined, spin)


def _turn(session: Session, current: float) -> _Turning:
    """Turn the vector forward, and back, at constant speed; record both."""
    session.enter("turning the vector forward", 0.05)
    drive = session.drive
    angle = _electrical_turns(session.axis) * 2 * math.pi
    drive.vector(angle=0.0, rate=TURN_RATE, current=current, rise=current / 0.3)
    session.hold(0.7)
    records = []
    for k, target in enumerate((angle, 0.0)):
        session.enter(f"turning the vector {'back' if k else 'forward'}", 0.1 + 0.2 * k)
        seconds = angle / TURN_RATE + 0.25
        session.arm(CHANNELS, seconds=seconds, divider=8)
        drive.vector(angle=target, rate=TURN_RATE, current=current, rise=current / 0.3)
        records.append(session.recorded(at_most=seconds + 2))
    return _Turning(*records)


def _check_turning(session: Session, turning: _Turning, per_count: float) -> None:
    up = turning.up
    turns = electrical_turns(up["vector_angle"], up["counts"] * per_count)
    expected = round(session.values["motor.pole_pairs"])
    if turns < 0:
        raise WrongDirection()
    if abs(turns / expected - 1) > 0.12:
        nearest = round(turns)
        hint = (
            f"If the sheet prints {2 * expected} poles, check it; {nearest} pole pairs would fit."
            if abs(turns - nearest) < 0.1 and nearest >= 1
            else "The ratio is no whole number: check the encoder's lines first."
        )
        raise WrongPolePairs(seen=turns, expected=expected, hint=hint)


def _hold_angles(session: Session, current: float, per_count: float) -> OffsetResult:
    """Hold the vector at angles of one electrical turn, coming from below and from above."""
    session.enter("holding angles", 0.45)
    drive = session.drive
    step = 2 * math.pi / HELD_ANGLES
    seen: dict[int, tuple[list[float], list[float]]] = {0: ([], []), 1: ([], [])}
    # Half a step over the end, so that the way back reaches the last angle from above.
    for k in range(HELD_ANGLES):
        _hold_at(session, drive, (k + 1) * step, current, per_count, seen[0])
    drive.vector(angle=(HELD_ANGLES + 1.0) * step, rate=TURN_RATE / 4, current=current, rise=current / 0.3)
    session.hold(0.3)
    for k in range(HELD_ANGLES, 0, -1):
        _hold_at(session, drive, k * step, current, per_count, seen[1])
    up, down = seen[0], seen[1]
    return offset_from_alignment(
        np.array(up[0]),
        np.array(up[1]),
        np.array(down[0][::-1]),
        np.array(down[1][::-1]),
        pole_pairs=round(session.values["motor.pole_pairs"]),
    )


def _hold_at(
    session: Session,
    drive: object,
    angle: float,
    current: float,
    per_count: float,
    seen: tuple[list[float], list[float]],
) -> None:
    rate = TURN_RATE / 3
    session.drive.vector(angle=angle, rate=rate, current=current, rise=current / 0.3)
    status = session.hold(2 * math.pi / HELD_ANGLES / rate + HOLD)
    seen[0].append(angle)
    seen[1].append((status["counts"] + 0.5) * per_count)


def _offsets(
    session: Session, turning: _Turning, held: OffsetResult, per_count: float
) -> tuple[dict[str, float], HallMap | None]:
    v, axis = session.values, session.axis
    pairs = v["motor.pole_pairs"]
    changes: dict[str, float] = {}
    halls = None
    if axis.has_halls:

        def angle_el(record: Recording) -> FloatArray:
            return pairs * (record["counts"] + 0.5) * per_count + held.offset

        halls = learn_halls(
            angle_el(turning.up),
            np.round(turning.up["hall"]).astype(np.int64),
            angle_el(turning.down),
            np.round(turning.down["hall"]).astype(np.int64),
        )
        if halls.faults:
            raise HallFault(fault=" ".join(halls.faults))
        changes["commutation.hall_offset"] = halls.offset
        changes["commutation.hall_mirrored"] = float(halls.mirrored)
    if axis.has_index:
        seen = [r for r in (turning.up, turning.down) if r["index_seen"][-1] > 0]
        if not seen:
            raise NoIndex(turns=_electrical_turns(axis) / pairs)
        at_index = pairs * seen[-1]["index_count"][-1] * per_count + held.offset
        changes["commutation.offset"] = math.remainder(at_index, 2 * math.pi)
    return changes, halls


@dataclass(frozen=True, slots=True)
class _Confirmation:
    forward: float  # [rad/s²] answer to +iq, its own sign
    backward: float  # [rad/s²] answer to -iq
    cross: float  # [rad/s²] half the difference of the answers to +id and -id
    current: float

    @property
    def error_bound_deg(self) -> float:
        """Angle error that the cross answer would mean."""
        along = 0.5 * (self.forward - self.backward)
        return math.degrees(math.atan2(abs(self.cross), max(along, 1e-9)))


def _confirm(session: Session) -> tuple[_Confirmation, Recording]:
    """Push with torque current both ways, and with field current, which must not push.

    Gives the drive the new offset for this run only; `commutation.valid` is withdrawn if it does not hold.
    """
    session.enter("confirming by torque per amp", 0.8)
    session.write({"commutation.valid": 1.0})
    try:
        for share, fastest in PUSHES:
            current = share * session.current_continuous
            answers = [_push(session, point, current, fastest) for point in ("current_q", "current_d")]
            (forward, backward, record), (cross_up, cross_down, _) = answers
            result = _Confirmation(forward, backward, 0.5 * (cross_up - cross_down), current)
            if forward > 50 and backward < -50:
                break
            session.note(f"{100 * share:.0f} % current hardly moved it; pushed longer and harder.")
        if forward <= 0 or backward >= 0:
            raise NotConfirmed(
                what="Torque current did not push the way it should "
                f"({forward:.0f} and {backward:.0f} rad/s² for plus and minus)."
            )
        if result.error_bound_deg > 12:
            raise NotConfirmed(
                what=f"Field current pushed the shaft: the offset is off by about {result.error_bound_deg:.0f}°."
            )
    except BaseException:
        session.write({"commutation.valid": 0.0})
        raise
    return result, record


def _refine(session: Session) -> tuple[Estimated, Recording]:
    """Spin both ways and read from the back-EMF by how much the angle is ahead.

    A held vector rests where load torque and friction leave it; gravity shifts it the same way from both sides. The
    back-EMF of the turning rotor knows neither.
    """
    session.enter("spinning to refine the angle", 0.9)
    pairs, psi = session.values["motor.pole_pairs"], session.values["motor.flux_linkage"]
    try:
        record, _ = back_and_forth(session, ("position", "velocity", "v_d", "v_q", "i_q", "i_d"), shares=(1.0, 0.7))
        means = block_means(record)
        fast = np.abs(means["speed"]) > 0.35 * np.abs(means["speed"]).max()
        error = angle_error_from_spinning(
            pairs * means["speed"][fast], means["v_d"][fast], means["i_q"][fast], flux_linkage=psi
        )
        if abs(error.value) > MOST_REFINEMENT:
            raise NotConfirmed(
                what=f"The back-EMF of the turning rotor says the offset is {math.degrees(error.value):.0f}° off."
            )
    except BaseException:
        session.write({"commutation.valid": 0.0})
        raise
    return error, record


def _push(session: Session, point: str, current: float, fastest: float) -> tuple[float, float, Recording]:
    """Push forward, back twice as long, forward: it ends near rest where it began. Accelerations of both ways."""
    axis = session.axis
    # Long against the period of a resonance, or its swing would be read as acceleration; the guard on speed holds
    # should the load be much lighter than entered.
    expected = current * axis.motor.torque_constant / (0.6 * axis.inertia)
    length = int(np.clip(round(fastest * session.consent.speed / expected / 250e-6), 40, 320))
    pulse = np.concatenate([np.full(length, current), np.full(2 * length, -current), np.full(length, current)])
    with session.enabled("current"):
        record = session.excite_and_record(["position", "i_q", "i_d", "velocity"], point, pulse, divider=4, repeats=1)
    session.standstill()
    x, t = record["position"], record.period
    # Parabolas through the two ways; the first samples of each are left to the current's rise.
    first, second = slice(length // 4, length), slice(length + length // 4, 3 * length)

    def curvature(part: slice) -> float:
        n = np.arange(part.stop - part.start) * t
        return float(2 * np.polyfit(n, x[part], 2)[0])

    return curvature(first), curvature(second), record


def _outcome(
    session: Session,
    changes: dict[str, float],
    turning: _Turning,
    held: OffsetResult,
    halls: HallMap | None,
    confirmed: _Confirmation,
    push: Recording,
    refined: Estimated,
    spin: Recording,
) -> Outcome:
    std = max(refined.std, math.radians(0.1))  # counts and the sampling of the angle leave a tenth of a degree
    offset = changes.get("commutation.offset", changes.get("commutation.hall_offset", held.offset))
    balance = abs(confirmed.forward + confirmed.backward) / (confirmed.forward - confirmed.backward)
    metrics = {
        "offset_deg": math.degrees(offset),
        "refined_by_deg": -math.degrees(refined.value),
        "spread_deg": math.degrees(held.spread),
        "friction_lag_deg": math.degrees(held.friction_lag),
        "error_bound_deg": confirmed.error_bound_deg,
        "forward_rad_s2": confirmed.forward,
        "backward_rad_s2": confirmed.backward,
        "imbalance": balance,
        "hall_edge_errors_deg": [math.degrees(e) for e in halls.edge_errors] if halls else [],
        "hall_mirrored": bool(halls and halls.mirrored),
        "pole_pairs": session.values["motor.pole_pairs"],
    }
    runs = [
        RunRecord(
            kind="commutation",
            title="Vector turned forward",
            period=turning.up.period,
            channels=turning.up.channels,
            excitation={"rate_el": TURN_RATE},
            metrics=metrics,
        ),
        RunRecord(
            kind="push",
            title="Torque per amp",
            period=push.period,
            channels=push.channels,
            excitation={"current": confirmed.current},
            metrics={k: metrics[k] for k in ("forward_rad_s2", "backward_rad_s2", "error_bound_deg")},
        ),
        RunRecord(
            kind="spin",
            title="Spun both ways",
            period=spin.period,
            channels=spin.channels,
            excitation={"point": "velocity"},
            metrics={"refined_by_deg": metrics["refined_by_deg"]},
        ),
    ]
    session.enter("done", 1.0)
    text = f"{math.degrees(offset):.1f}° ± {math.degrees(std):.1f}°"
    if balance > 0.15:
        session.note(f"The two directions differ by {100 * balance:.0f} %: gravity or uneven friction.")
    return Outcome(
        findings=[
            Finding(
                kind="commutation",
                label="Electrical angle at the index" if "commutation.offset" in changes else "Hall offset",
                value=offset,
                unit="rad",
                std=std,
                state="proven",
                run=0,
            )
        ],
        changes=changes,
        runs=runs,
        summary=text,
    )
