"""Feedback devices: what they count, how fast, how fine, and what their words look like.

device.py       entries -> FeedbackDevice; start reading here
calculators.py  edge rate, speed step, 32-bit range, telegram time
checks.py       device and motor -> list of warnings, in words
circle.py       sine and cosine -> ellipse, correction, angle error
layout_test.py  words of a turned shaft -> where the position is in them
quality.py      what arrives -> good, usable or bad
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
from cadrel.core.feedback.circle import ROUND, SignalCircle, angle_error, fit_circle
from cadrel.core.feedback.device import (
    FeedbackDevice,
    SecondDevice,
    SerialWord,
    device_from_entries,
    second_from_entries,
)
from cadrel.core.feedback.layout_test import WordFinding, read_layout
from cadrel.core.feedback.quality import IMPOSSIBLE_HALLS, SignalQuality, signal_quality
from cadrel.core.feedback.word import BitField, crc6, decode_word, encode_word, gray_to_binary, layout_of

__all__ = [
    "EDGES_PER_PERIOD",
    "IMPOSSIBLE_HALLS",
    "ROUND",
    "BitField",
    "FeedbackDevice",
    "SecondDevice",
    "SerialWord",
    "SignalCircle",
    "SignalQuality",
    "WordFinding",
    "WordRange",
    "angle_error",
    "check_feedback",
    "crc6",
    "decode_word",
    "device_from_entries",
    "edge_rate",
    "encode_word",
    "fit_circle",
    "gray_to_binary",
    "layout_of",
    "read_layout",
    "second_from_entries",
    "signal_quality",
    "speed_of_one_count",
    "telegram_time",
    "velocity_noise",
    "word_range",
]
