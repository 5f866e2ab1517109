"""Offsets taken by hand, with the slips of a hand: evidence on commutation.

A hand turns the vector, notes readings and takes the offset, which pushes then confirm. Whatever slips: nothing that is
off may unlock a loop.
"""

import math
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from cadrel.cli.guard_evidence import draw_hanging
from cadrel.cli.phasing_draws import draw_phasing_bench
from cadrel.cli.true_angle import TravelLink, true_error
from cadrel.core.axis import understand
from cadrel.core.errors import CadrelError
from cadrel.core.identification import Contradiction, offset_by_hand
from cadrel.core.parameters import Entry, choice_of
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.link import LinkedDrive
from cadrel.procedures import PROCEDURES, Session, plan_commutation
from cadrel.procedures.phasing.vector import learn_holding_vector
from cadrel.procedures.route import load_project_values

TURN = 2 * math.pi
SHARE = 1.0  # of the continuous current, as a hand takes it
TOO_LITTLE = 0.01  # of it: no shaft goes with that
SPEED = 0.5  # electrical turns per second
STEP = math.radians(60)  # electrical, between two readings
READINGS = 3  # each way
REST = 0.8  # [s] before a reading is noted
TRUE_WITHIN = 8.0  # [°] that an offset which unlocks the loops may be off


@dataclass(frozen=True, slots=True)
class Slip:
    """What a hand does wrong."""

    label: str
    inverted: bool = False  # counts taken the wrong way round
    share: float = SHARE
    noted_off: float = 0.0  # [rad] by which one reading's vector was noted wrong
    typed_off: float = 0.0  # [rad] by which the result was changed before it was confirmed
    one_way: bool = False  # readings from one side only: friction is in all of them


SLIPS = (
    Slip("none"),
    Slip("all readings from below", one_way=True),
    Slip("counts fall", inverted=True),
    Slip("current too small", share=TOO_LITTLE),
    Slip("one reading noted 60° off", noted_off=math.radians(60)),
    Slip("one reading noted 226° off", noted_off=math.radians(226)),
    Slip("the result changed by 90°", typed_off=math.radians(90)),
    Slip("the result changed by 180°", typed_off=math.pi),
)
APART = "readings too far apart"  # friction may do that to a sound hand, and then it is rightly refused
HARMLESS = ("none", "all readings from below")


def _drawn(seed: int, n: int) -> tuple[RigTruth, dict[str, Entry]] | None:
    """An axis whose offset can be taken by hand; every third hangs behind a brake."""
    rng = np.random.default_rng([seed, 53, n])
    if n % 3 == 0:
        truth, values, _ = draw_hanging(rng)
    else:
        bench = draw_phasing_bench(rng, loaded=n % 3 == 1)
        truth, values = bench.truth, bench.values
        if truth.brake_torque or abs(truth.torque_load) > truth.coulomb_motor + truth.coulomb_load:
            return None
    axis = understand(values)
    kind = axis.feedback.kind
    return (truth, values) if not kind.tells_sectors_only and (kind.is_absolute or axis.has_index) else None


def _turn(drive: LinkedDrive, to: float, current: float) -> None:
    rate = TURN * SPEED
    way = abs(to - drive.status()["vector_angle"])
    drive.vector(angle=to, rate=rate, current=current, rise=current / 0.15, acceleration=rate / 0.2)
    for _ in range(math.ceil((way / rate + REST) / 0.1)):
        drive.wait(0.1)
        drive.beat()


def _readings(
    session: Session, slip: Slip, note: Callable[[float], float]
) -> tuple[list[float], list[float], float | None]:
    """Vector and shaft [°] as a hand notes them, and the shaft at the index [rad] if it came."""
    drive, v = session.drive, session.values
    assert isinstance(drive, LinkedDrive)
    per_count = (-1.0 if v["feedback.direction"] else 1.0) * TURN / v["feedback.counts"] * v["motor.pole_pairs"]
    travel = plan_commutation(session.axis).travel
    here = float(drive.status()["position"])
    current = slip.share * session.current_continuous
    drive.enable("vector", guard_low=here - travel, guard_high=here + travel, guard_speed=session.axis.goal.velocity)
    if session.axis.has_brake:
        learn_holding_vector(drive, session.axis)
    start = float(drive.status()["vector_angle"])
    _turn(drive, start, current)
    vectors, shafts = [], []
    steps = [*range(READINGS)] if slip.one_way else [*range(READINGS), *reversed(range(READINGS - 1))]
    whole = 0.0 if session.axis.feedback.is_absolute else v["motor.pole_pairs"] + 0.5  # until the index has come
    _turn(drive, start + TURN * whole, current)
    for k in steps:
        _turn(drive, start + TURN * whole + k * STEP, current)
        status = drive.status()
        vectors.append(math.degrees(note(float(status["vector_angle"]))))
        shafts.append(math.degrees((status["counts"] + 0.5) * per_count))
    index = status["index_counts"] * per_count if status["index_seen"] else None
    drive.disable()
    return vectors, shafts, index


def by_hand(truth: RigTruth, values: dict[str, Entry], slip: Slip, seed: int) -> tuple[str, float | None]:
    """Take an offset by hand and confirm it; what came of it, and the true error where loops were unlocked. [°]"""
    if slip.inverted:
        turned = "0" if choice_of(values, "feedback.direction") == "1" else "1"
        values = {**values, "feedback.direction": {"value": turned, "source": "typed"}}
    simulated = SimulatedDrive("a", truth, seed=seed)
    drive, axis = LinkedDrive(TravelLink(simulated), "a"), understand(values)
    sent = load_project_values(drive, values, owner="evidence")
    procedure = PROCEDURES["confirm_offset"]
    session = Session(drive=drive, axis=axis, consent=procedure.consent(axis, sent))
    session.refresh()
    noted = 0

    def note(angle: float) -> float:
        nonlocal noted
        noted += 1
        return angle + (slip.noted_off if noted == 2 else 0.0)

    try:
        vectors, shafts, index = _readings(session, slip, note)
        taken = offset_by_hand(vectors, shafts)
        at = 0.0  # of an absolute device the offset is that at its own zero
        if not axis.feedback.is_absolute:
            if index is None:
                return "refused: the index never came", None
            at = index
        offset = math.remainder(taken.offset + at + slip.typed_off, TURN)
        drive.write({"commutation.offset": offset, "commutation.valid": 0.0})
        session.refresh()
        outcome = procedure.run(session)
    except Contradiction as contradiction:
        return (APART if "contradict each other" in contradiction.parts[0] else "refused by the readings"), None
    except CadrelError as refusal:
        return f"refused: {type(refusal).__name__}", None
    verdict = outcome.verdict
    proven = verdict is not None and verdict.is_proven
    return ("confirmed" if proven else "not proven"), true_error(simulated)


def by_hand_part(benches: int, seed: int) -> tuple[list[str], bool]:
    """Return the lines of the document, and whether nothing off was unlocked, and nothing sound refused."""
    lines = [
        "## Offsets by hand", "",
        "The vector is turned and readings are noted as a hand would, with its slips; pushes both ways confirm the "
        f"result. Right is: confirmed within {TRUE_WITHIN:.0f}°, or refused where something slipped, or where readings "
        "lie more than 15° off their mean. A third of the axes hang behind a brake.", "",
        "| slip | axes | right | came of it | worst that unlocked loops |", "| --- | --- | --- | --- | --- |",
    ]  # fmt: skip
    good = True
    for slip in SLIPS:
        said, right, worst, n = Counter[str](), 0, 0.0, 0
        while said.total() < benches:
            n += 1
            drawn = _drawn(seed, n)
            if drawn is None:
                continue
            came, error = by_hand(*drawn, slip, seed + n)
            said[came] += 1
            worst = max(worst, abs(error) if error is not None and came == "confirmed" else 0.0)
            sound = came == "confirmed" and error is not None and abs(error) <= TRUE_WITHIN
            right += sound or came == APART or (slip.label not in HARMLESS and came != "confirmed")
        good = good and right == benches
        came_of_it = "; ".join(f"{what} {k}" for what, k in said.most_common())
        lines.append(f"| {slip.label} | {benches} | {right} | {came_of_it} | {worst:.2f}° |")
    return [*lines, ""], good
