"""What resolution and speed of a device mean for counting, for words of 32 bits and for the loops."""

import math
from dataclasses import dataclass

from cadrel.core.control.sampling import Rates
from cadrel.core.feedback.device import FeedbackDevice
from cadrel.core.feedback.word import layout_of

EDGES_PER_PERIOD = 4  # quadrature: two signals, two edges each
WORD_MAX = 2**31 - 1
VELOCITY_STEPS = 10  # the velocity word counts tenths of a count per second; common practice
START_AND_ACKNOWLEDGE = {"biss_c": 4, "ssi": 1, "word": 0}  # clocks before the word itself
TV = Rates().velocity  # [s] assumed where no drive has told its own


def edge_rate(device: FeedbackDevice, speed: float) -> float:
    """Return edges per second of A and B together at a motor speed. [rad/s] -> [1/s]"""
    return EDGES_PER_PERIOD * device.periods_per_turn * abs(speed) / (2 * math.pi)


def speed_of_one_count(device: FeedbackDevice, *, sample: float = TV) -> float:
    """Return the motor speed that one count per velocity sample means. [rad/s]"""
    return device.count_angle / sample


def velocity_noise(device: FeedbackDevice, *, sample: float = TV) -> float:
    """Return the standard deviation of a speed taken as difference of quantised positions. [rad/s]

    Two errors of q / sqrt(12) each: q / (sqrt(6) T), the mean over speeds. At one speed, n + f counts per sample, it is
    q sqrt(f (1 - f)) / T.
    """
    return device.count_angle / math.sqrt(6) / sample


def telegram_time(device: FeedbackDevice) -> float:
    """Return from the latch to the last bit of a serial device. [s]; 0 for the others."""
    word = device.serial
    if word is None:
        return 0.0
    clocks = sum(f.bits for f in layout_of(word)) + START_AND_ACKNOWLEDGE[word.protocol]
    return word.latency + clocks / word.clock


@dataclass(frozen=True, slots=True, kw_only=True)
class WordRange:
    """What a signed 32-bit word holds of position and velocity."""

    turns: float  # either way, before the position word overflows
    speed: float  # [rad/s] the velocity word reaches
    drop_bits: int  # low bits to drop so that the top speed fits; 0 where it does
    counts_left: float  # counts per turn then
    speed_left: float  # [rad/s] then


def word_range(device: FeedbackDevice, top_speed: float) -> WordRange:
    """Return the range of 32-bit words, and how many low bits to drop so that the top speed fits. [rad/s]"""
    per_count = WORD_MAX / VELOCITY_STEPS * device.count_angle  # [rad/s] full scale of the velocity word
    drop = max(0, math.ceil(math.log2(abs(top_speed) / per_count))) if top_speed else 0
    return WordRange(
        turns=WORD_MAX / device.counts_per_turn,
        speed=per_count,
        drop_bits=drop,
        counts_left=device.counts_per_turn / 2**drop,
        speed_left=per_count * 2**drop,
    )
