"""Feedback devices: what they count, how fast, how fine, and what their words look like.

device.py       entries -> FeedbackDevice; start reading here
calculators.py  edge rate, speed step, 32-bit range, telegram time
checks.py       device and motor -> list of warnings, in words
word.py         bit layout and checksum of serial words
"""

from cadrel.core.feedback.calculators import (
    EDGES_PER_PERIOD,
    WordRange,
    edge_rate,
    speed_of_one_count,
    telegram_time,
    velocity_noise,
    word_range,
)
from cadrel.core.feedback.checks import check_feedback
from cadrel.core.feedback.device import FeedbackDevice, SerialWord, device_from_entries
from cadrel.core.feedback.word import BitField, crc6, decode_word, encode_word, gray_to_binary, layout_of

__all__ = [
    "EDGES_PER_PERIOD",
    "BitField",
    "FeedbackDevice",
    "SerialWord",
    "WordRange",
    "check_feedback",
    "crc6",
    "decode_word",
    "device_from_entries",
    "edge_rate",
    "encode_word",
    "gray_to_binary",
    "layout_of",
    "speed_of_one_count",
    "telegram_time",
    "velocity_noise",
    "word_range",
]
