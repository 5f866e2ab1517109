"""The device on the motor, as understood from its entries."""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import NamedTuple

from cadrel.core.motor import reader_of
from cadrel.core.parameters import DEVICE_KINDS, DeviceKind, Entry, choice_of

HALL_STATES = 6
COUNTS_PER_LINE = 4.0  # edges of A and B in one period


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

    kind: DeviceKind
    counts_per_turn: float
    periods_per_turn: float  # signal periods, or resolver turns; 0 where there are none
    has_index: bool
    has_halls: bool
    hall_spacing: int  # [°]
    metres_per_turn: float | None = None  # of a scale
    serial: SerialWord | None = None

    @property
    def is_absolute(self) -> bool:
        """Whether it tells the angle within one turn at power-up."""
        return self.kind.is_absolute

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
    kind = DEVICE_KINDS[choice_of(values, "feedback.kind")]
    read = READERS[kind.key](values, pole_pairs, metres_per_turn)
    return FeedbackDevice(
        kind=kind,
        has_halls=kind.tells_sectors_only or (kind.may_have_halls and si("feedback.halls") > 0),
        has_index=kind.may_have_index and si("feedback.index") > 0,
        hall_spacing=int(choice_of(values, "feedback.hall_spacing")),
        metres_per_turn=metres_per_turn,
        counts_per_turn=read.counts,
        periods_per_turn=read.periods,
        serial=read.word,
    )


class _Read(NamedTuple):
    """What is peculiar to a kind: counts and signal periods in a turn, and the word."""

    counts: float
    periods: float = 0.0
    word: SerialWord | None = None


def _periods(values: Mapping[str, Entry], metres_per_turn: float | None) -> float:
    si = reader_of(values)
    return metres_per_turn / si("feedback.period") if metres_per_turn else si("feedback.lines")


def _incremental(values: Mapping[str, Entry], _: int, metres_per_turn: float | None) -> _Read:
    periods = _periods(values, metres_per_turn)
    return _Read(COUNTS_PER_LINE * periods, periods)


def _sincos(values: Mapping[str, Entry], _: int, metres_per_turn: float | None) -> _Read:
    periods = _periods(values, metres_per_turn)
    return _Read(reader_of(values)("feedback.interpolation") * periods, periods)


def _halls(_: Mapping[str, Entry], pole_pairs: int, __: float | None) -> _Read:
    return _Read(HALL_STATES * pole_pairs)


def _resolver(values: Mapping[str, Entry], _: int, __: float | None) -> _Read:
    si = reader_of(values)
    pairs = si("feedback.resolver_pairs")
    return _Read(pairs * 2 ** si("feedback.resolver_bits"), pairs)


def _serial(values: Mapping[str, Entry], _: int, metres_per_turn: float | None) -> _Read:
    si = reader_of(values)
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
    return _Read(metres_per_turn / si("feedback.resolution") if metres_per_turn else 2.0**word.position_bits, word=word)


# Each kind's own entries; a test holds that every kind has its reader.
READERS: dict[str, Callable[[Mapping[str, Entry], int, float | None], _Read]] = {
    "incremental": _incremental,
    "sincos": _sincos,
    "halls": _halls,
    "resolver": _resolver,
    "serial": _serial,
}


@dataclass(frozen=True, slots=True)
class SecondDevice:
    """A device on the load."""

    counts_per_turn: float  # of the motor, signed: negative where it is entered as inverted
    closes_position: bool = False  # the position loop compares with it, not with the device on the motor
    closes_velocity: bool = False


def second_from_entries(values: Mapping[str, Entry]) -> SecondDevice | None:
    """Return the device on the load, or None where there is none. Raises `EntryProblem`."""
    if choice_of(values, "second.kind") == "none":
        return None
    sign = -1.0 if choice_of(values, "second.direction") == "1" else 1.0
    return SecondDevice(
        sign * reader_of(values)("second.resolution"),
        closes_position=choice_of(values, "feedback.position_from") == "load",
        closes_velocity=choice_of(values, "feedback.velocity_from") == "load",
    )
