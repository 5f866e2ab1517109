"""The device on the motor, as understood from its entries."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from cadrel.core.motor import reader_of
from cadrel.core.parameters import Entry, choice_of

HALL_STATES = 6


@dataclass(frozen=True, slots=True, kw_only=True)
class SerialWord:
    """Layout and line of a serial device."""

    protocol: str
    position_bits: int  # single-turn bits of a rotary device
    multi_turn_bits: int
    leading_bits: int
    trailing_bits: int
    error_bit: str  # "low", "high", "none"
    warning_bit: str
    crc: str  # "crc6", "parity", "none"
    coding: str
    clock: float  # [Hz]
    latency: float  # [s]


@dataclass(frozen=True, slots=True, kw_only=True)
class FeedbackDevice:
    """What the drive counts. A turn is a motor revolution, of a linear motor one magnetic pitch."""

    kind: str
    counts_per_turn: float
    periods_per_turn: float  # signal periods, or resolver turns; 0 where there are none
    is_absolute: bool  # within one turn, at power-up
    has_index: bool
    has_halls: bool
    hall_spacing: int  # [°]
    metres_per_turn: float | None = None  # of a scale
    serial: SerialWord | None = None

    @property
    def count_angle(self) -> float:
        """One count. [rad of the motor]"""
        return 2 * math.pi / self.counts_per_turn


def device_from_entries(
    values: Mapping[str, Entry], *, pole_pairs: int, metres_per_turn: float | None
) -> FeedbackDevice:
    """Return the device understood from the feedback step.

    Parameters
    ----------
    pole_pairs : int
        Of the motor: Halls alone resolve six states per electrical turn.
    metres_per_turn : float or None
        Length that stands for one turn of a straight motor. [m]

    Raises
    ------
    EntryProblem
        A required entry is missing or cannot be right.
    """
    si = reader_of(values)
    kind = choice_of(values, "feedback.kind")
    counted = kind in ("incremental", "sincos")
    has_halls = kind == "halls" or (counted and si("feedback.halls") > 0)
    common: dict[str, Any] = {
        "kind": kind,
        "has_halls": has_halls,
        "has_index": counted and si("feedback.index") > 0,
        "hall_spacing": int(choice_of(values, "feedback.hall_spacing")),
        "metres_per_turn": metres_per_turn,
    }
    if kind == "halls":
        return FeedbackDevice(**common, counts_per_turn=HALL_STATES * pole_pairs, periods_per_turn=0, is_absolute=False)
    if counted:
        periods = metres_per_turn / si("feedback.period") if metres_per_turn else si("feedback.lines")
        per_period = si("feedback.interpolation") if kind == "sincos" else 4.0
        return FeedbackDevice(
            **common, counts_per_turn=periods * per_period, periods_per_turn=periods, is_absolute=False
        )
    if kind == "resolver":
        pairs = si("feedback.resolver_pairs")
        counts = pairs * 2 ** si("feedback.resolver_bits")
        return FeedbackDevice(**common, counts_per_turn=counts, periods_per_turn=pairs, is_absolute=True)
    word = SerialWord(
        protocol=choice_of(values, "feedback.protocol"),
        position_bits=round(si("feedback.position_bits" if metres_per_turn else "feedback.single_turn_bits")),
        multi_turn_bits=0 if metres_per_turn else round(si("feedback.multi_turn_bits")),
        leading_bits=round(si("feedback.leading_bits")),
        trailing_bits=round(si("feedback.trailing_bits")),
        error_bit=choice_of(values, "feedback.error_bit"),
        warning_bit=choice_of(values, "feedback.warning_bit"),
        crc=choice_of(values, "feedback.crc"),
        coding=choice_of(values, "feedback.coding"),
        clock=si("feedback.clock"),
        latency=si("feedback.latency"),
    )
    counts = metres_per_turn / si("feedback.resolution") if metres_per_turn else 2.0**word.position_bits
    return FeedbackDevice(**common, counts_per_turn=counts, periods_per_turn=0, is_absolute=True, serial=word)


@dataclass(frozen=True, slots=True)
class SecondDevice:
    """A device on the load."""

    counts_per_turn: float  # of the motor, signed: negative where it is entered as inverted


def second_from_entries(values: Mapping[str, Entry]) -> SecondDevice | None:
    """Return the device on the load, or None where there is none. Raises `EntryProblem`."""
    if choice_of(values, "second.kind") == "none":
        return None
    sign = -1.0 if choice_of(values, "second.direction") == "1" else 1.0
    return SecondDevice(sign * reader_of(values)("second.resolution"))
