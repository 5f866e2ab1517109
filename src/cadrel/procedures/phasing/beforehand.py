"""What can be judged before anything is powered: does the axis rest, do words arrive, can the device commutate."""

import math

from cadrel.core.feedback import read_layout
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.faults import wired_wrongly
from cadrel.procedures.session import Session

LISTENED = 0.2  # [s]
STEADY = 0.9  # of the first half's way in the second
MOVED = 3  # [counts] a device that is read finely trembles by so much
MOVED_ANGLE = math.radians(2)  # of the motor: a noisy resolver trembles by half a degree


def look_beforehand(session: Session) -> None:
    """Raise what would make any motion pointless. Power off.

    Raises
    ------
    WiredWrongly
        The load pulls the axis, a serial device sends wrong words, or a resolver does not fit the motor.
    """
    session.enter("looking before moving", 0.02)
    axis, drive = session.axis, session.drive
    pairs, device = axis.motor.pole_pairs, axis.feedback
    if device.kind.repeats_in_turn and pairs % max(round(device.periods_per_turn), 1):
        raise wired_wrongly([faults.resolver_ambiguous(pairs, round(device.periods_per_turn))])
    missing = [b for b in drive.status()["blockers"] if b["code"] == "device"]
    if missing:
        raise wired_wrongly([faults.no_device(str(missing[0]["text"]))])
    raw = drive.raw()
    moved = moved_unpowered(session)
    heard = drive.raw()
    if device.serial is not None:
        wrong, of = heard["word_errors"] - raw["word_errors"], heard["words"] - raw["words"]
        if heard["alarm"]:
            raise wired_wrongly([faults.device_alarm()])
        if wrong:
            reading = read_layout([heard["word"]], device.serial)
            raise wired_wrongly([faults.words(wrong=wrong, of=of, differences=reading.differences)])
        session.note(f"{of} words without an error, latency {1e6 * heard['latency']:.0f} µs.")
    if moved is not None:
        raise wired_wrongly([faults.load_pulls(moved)])


def moved_unpowered(session: Session) -> float | None:
    """Return how far the load pulls the shaft with the power off, None if it rests or runs out. [rad] of the motor"""
    at = [session.drive.status()["counts"]]
    for _ in range(2):
        session.rest(LISTENED / 2)
        at.append(session.drive.status()["counts"])
    first, second = abs(at[1] - at[0]), abs(at[2] - at[1])
    moved = abs(at[2] - at[0])
    angle = moved * session.axis.feedback.count_angle
    # What was only thrown coasts and slows down; what is pulled does not.
    pulled = second >= STEADY * first
    return float(angle) if pulled and moved > MOVED and angle > MOVED_ANGLE else None
