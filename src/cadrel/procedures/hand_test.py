"""The marked shaft turned once by hand, power off: counts, Hall states, index, quality."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.feedback import read_layout
from cadrel.core.verdict import at_most, decide
from cadrel.procedures.declaration import Procedure, Values, declare
from cadrel.procedures.errors import ProcedureError
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.faults import wired_wrongly
from cadrel.procedures.session import FloatArray, Session

SECONDS = 6.0  # to turn in
DIVIDER = 32  # [ticks] 2 ms a sample
LOOK = 0.03  # [s] between two looks at a serial device's word
MARK = 0.03  # [turns] how well one meets a mark by eye
MOVED = 0.02  # [turns] less is no turn
HALL_ORDER = (1, 3, 2, 6, 4, 5)


class NothingTurned(ProcedureError):
    """No counts came."""

    happened = "In {seconds:.0f} s the counts changed by {counts:.0f}."
    means = "Either nobody turned the shaft, or the drive does not see the device."
    remedy = "Start again and turn the marked shaft once. If it was turned, check supply and wiring of the device."


@dataclass(frozen=True, slots=True)
class HandReading:
    """What a turn by hand showed. `quality` is good, usable or bad."""

    counts: float  # signed
    turns: float  # of what was entered
    hall_states: tuple[int, ...]
    hall_jumps: int  # changes to a state that is no neighbour, or none at all
    index_seen: bool
    quality: str
    remarks: tuple[str, ...]


def read_hand_turn(
    counts: FloatArray, hall: FloatArray, index: FloatArray, *, counts_per_turn: float, has_halls: bool, has_index: bool
) -> HandReading:
    """Return what the recording of one marked turn says.

    Parameters
    ----------
    counts, hall, index : ndarray, shape (n,)
        Counts, Hall state 0 to 7, and whether the index was seen since power-up.
    counts_per_turn : float
        As entered.
    """
    moved = float(counts[-1] - counts[0])
    turns = moved / counts_per_turn
    states = [int(h) for h in hall]
    changes = [(a, b) for a, b in pairwise(states) if a != b]
    jumps = sum(not _are_neighbours(a, b) for a, b in changes) if has_halls else 0
    seen = tuple(sorted(set(states))) if has_halls else ()
    remarks = [_ratio_remark(abs(turns), moved, counts_per_turn)]
    if has_halls and len(set(seen) & set(HALL_ORDER)) < 6:
        remarks.append(f"Only the Hall states {', '.join(map(str, seen))} came: a wire is off, or a Hall is dead.")
    if jumps:
        remarks.append(f"{jumps} changes of the Hall state skip a sector: their order is not 1-3-2-6-4-5.")
    if has_index and not index.max():
        remarks.append("The index did not come: check its wires.")
    found = tuple(r for r in remarks if r)
    exact = abs(abs(turns) - 1) <= MARK
    quality = "good" if exact and not found else "usable" if exact and not jumps else "bad"
    return HandReading(moved, turns, seen, jumps, bool(index.max()), quality, found)


def _are_neighbours(a: int, b: int) -> bool:
    if a not in HALL_ORDER or b not in HALL_ORDER:
        return False
    return (HALL_ORDER.index(a) - HALL_ORDER.index(b)) % 6 in (1, 5)


def _ratio_remark(turns: float, counts: float, entered: float) -> str:
    if abs(turns - 1) <= MARK:
        return ""
    said = f"One marked turn gave {abs(counts):.0f} counts, {entered:.0f} were entered"
    if abs(turns - 4) <= 4 * MARK:
        return said + ": four times as many. Counts per turn were entered as a quarter."
    if abs(turns - 0.25) <= 0.25 * MARK:
        return said + ": a quarter. Were counts typed for lines?"
    return said + "."


def _compare_layout(session: Session, words: list[list[int]], *, turned: bool) -> None:
    """Say where the words of a serial device have their position. Raises `WiredWrongly` where it is not read at all."""
    entered = session.axis.feedback.serial
    if entered is None or not words:
        return
    found = read_layout(words, entered)
    if found.differences and not turned:
        raise wired_wrongly([faults.words(wrong=len(words), of=len(words), differences=found.differences)])
    for difference in found.differences:
        session.note(difference)
    if not found.differences and found.single_turn_bits is not None:
        session.note(f"The word is as entered: {found.single_turn_bits} position bits after {found.before} others.")


def run_hand_test(session: Session) -> Outcome:
    """Record while the marked shaft is turned once by hand. Needs the power stage off. Raises `NothingTurned`."""
    session.refresh()
    session.enter("turn the marked shaft once, forward", 0.1)
    session.arm(["counts", "hall", "index_seen"], seconds=SECONDS, divider=DIVIDER)
    waited, words = 0.0, []
    while session.drive.recorder_state() != "done":
        session.rest(LOOK)
        waited += LOOK
        if session.axis.feedback.serial is not None:
            words.append(session.drive.raw()["word"])
        session.enter("turn the marked shaft once, forward", min(0.95, 0.1 + 0.85 * waited / SECONDS))
        session.check_abort()
    record = session.drive.recording()
    axis = session.axis
    reading = read_hand_turn(
        record["counts"], record["hall"], record["index_seen"], counts_per_turn=session.values["feedback.counts"],
        has_halls=axis.has_halls, has_index=axis.has_index,
    )  # fmt: skip
    _compare_layout(session, words, turned=abs(reading.turns) >= MOVED)
    if abs(reading.turns) < MOVED:
        raise NothingTurned(seconds=SECONDS, counts=abs(reading.counts))
    for remark in reading.remarks:
        session.note(remark)
    rises = reading.counts > 0
    session.note(f"Counts {'rise' if rises else 'fall'} in the direction turned.")
    findings = [
        Finding(kind="hand_test", label="Counts of the marked turn", value=reading.counts, unit="counts", run=0)
    ]
    bad = 1.0 if reading.quality == "bad" else 0.0
    verdict = decide("hand_test", [at_most("signs of a bad signal", 0.0, bad, tolerance=0.0)], run=0)
    if axis.has_halls:
        findings.append(
            Finding(kind="hall_states", label="Hall states seen", value=float(len(reading.hall_states)), unit="", run=0)
        )
    return Outcome(
        findings=findings,
        verdict=verdict,
        runs=[
            RunRecord(
                kind="hand_test", title="Turned by hand", period=record.period,
                channels={k: np.asarray(v) for k, v in record.channels.items()}, excitation={"by": "hand"},
                metrics={"turns": reading.turns, "quality": reading.quality, "remarks": list(reading.remarks)},
            )
        ],
        summary=f"{abs(reading.counts):.0f} counts a turn, {reading.quality}",
    )  # fmt: skip


def _plan(axis: AxisModel, values: Values) -> Plan:
    return Plan(
        title="One turn by hand", travel=0.0, speed=0.0, current=0.0, seconds=SECONDS,
        text="Nothing is switched on: turn the shaft by hand, once round.",
    )  # fmt: skip


PROCEDURE = declare(
    Procedure(key="feedback", step="feedback", does="Record one turn", run=run_hand_test, plan=_plan, moves=False)
)
