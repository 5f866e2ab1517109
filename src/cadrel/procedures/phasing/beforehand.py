"""What can be judged before anything is powered: does the axis rest, do words arrive, can the device commutate."""

import math

from cadrel.core.feedback import read_layout
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.faults import wired_wrongly
from cadrel.procedures.session import Session

LISTENED = 0.2  # [s]
MOST_LISTENED = 8  # times half of it more, in which magnets that drew a shaft have come to rest
DRAWN = math.pi / 2  # of the motor, that magnets draw a shaft at the most: half of the way between two of their places
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
    """Return how far the load pulls the shaft with the power off, None if it rests or runs out. [rad] of the motor

    What was only thrown coasts and slows down; magnets draw a shaft that was let go between two of their places into
    one of them, and no further. What a load pulls neither slows down nor comes to rest so near.
    """
    at = [session.drive.status()["counts"]]

    def listen() -> int:
        session.rest(LISTENED / 2)
        at.append(session.drive.status()["counts"])
        return abs(at[-1] - at[-2])

    first, second = listen(), listen()
    moved = abs(at[2] - at[0])
    angle = float(moved * session.axis.feedback.count_angle)
    if second < STEADY * first or moved <= MOVED or angle <= MOVED_ANGLE:
        return None
    still, last = max(MOVED, 0.5 * MOVED_ANGLE / session.axis.feedback.count_angle), second
    for _ in range(MOST_LISTENED):
        far = abs(at[-1] - at[0]) * session.axis.feedback.count_angle > DRAWN
        if far and STEADY * last > first:
            return angle
        last = listen()
        if last <= still or (
            far and last < STEADY * first
        ):  # what is heavy and hardly rubs slows down little by little
            return None
    return angle
