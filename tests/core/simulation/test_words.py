"""Serial words bit by bit: the stand-in's against the codec's, and what a wrong layout is noticed by."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cadrel.core.feedback import SerialWord, decode_word, encode_word
from cadrel.core.feedback.word import crc6 as crc6_of_bits
from cadrel.core.simulation import RigTruth, SimulatedDrive, plant_of
from cadrel.core.simulation.word import crc6, position_of_word, sent_word
from tests.conftest import rig_of
from tests.core.simulation.test_devices import drive_with, word_values

FLAGS = {0: ("none", "none"), 1: ("low", "none"), 2: ("low", "low")}


def serial_rig(**changes: object) -> RigTruth:
    return rig_of("tile-pusher", device="serial", **{"single_turn_bits": 19, "signal_noise": 0.0, **changes})


def layout_of_rig(truth: RigTruth) -> SerialWord:
    error, warning = FLAGS[truth.word_flags]
    return SerialWord(
        protocol="word", position_bits=truth.single_turn_bits, multi_turn_bits=truth.multi_turn_bits,
        leading_bits=truth.leading_bits, trailing_bits=truth.trailing_bits, error_bit=error, warning_bit=warning,
        crc=truth.word_checksum, coding=truth.word_coding, clock=1e6, latency=0.0,
    )  # fmt: skip


@settings(deadline=None)  # the first call compiles
@given(st.integers(0, 2**40 - 1))
def test_the_checksum_six_bits_at_a_time_is_the_one_bit_by_bit(data: int) -> None:
    assert crc6(data, 40) == crc6_of_bits([(data >> k) & 1 for k in reversed(range(40))])


@settings(deadline=None)  # the first call compiles
@given(
    st.integers(0, 2**19 - 1), st.sampled_from(["crc6", "parity", "none"]), st.sampled_from(["binary", "gray"]),
    st.sampled_from([0, 1, 2]), st.integers(0, 3), st.integers(0, 4), st.booleans(),
)  # fmt: skip
def test_the_stand_in_sends_the_word_of_the_codec(
    position: int, checksum: str, coding: str, flags: int, trailing: int, leading: int, alarm: bool
) -> None:
    truth = serial_rig(
        word_checksum=checksum, word_coding=coding, word_flags=flags, trailing_bits=trailing, leading_bits=leading,
        word_alarm=alarm,
    )  # fmt: skip
    word = sent_word(position, plant_of(truth, rng=np.random.default_rng(0)).plant)
    bits = [(word >> k) & 1 for k in reversed(range(truth.word_bits))]
    assert bits == encode_word(layout_of_rig(truth), position=position, error=alarm and flags > 0)


@pytest.mark.parametrize("checksum", ["crc6", "parity", "none"])
@pytest.mark.parametrize("coding", ["binary", "gray"])
def test_a_drive_that_knows_the_layout_reads_the_angle_without_an_error(checksum: str, coding: str) -> None:
    truth = serial_rig(word_checksum=checksum, word_coding=coding, trailing_bits=2)
    drive = drive_with(truth)
    before, start = drive.status()["position"], drive.running.state.theta1
    drive.turn_by_hand(2.0, 1.0)
    drive.advance(1.3)
    raw = drive.raw()
    assert raw["word_errors"] == 0
    assert drive.status()["position"] - before == pytest.approx(drive.running.state.theta1 - start, abs=1e-3)
    read = decode_word(layout_of_rig(truth), raw["word"])
    assert read.is_sound
    assert read.position * math.tau / 2**19 == pytest.approx(
        (drive.running.state.theta_s - truth.index_angle) % math.tau, abs=1e-4
    )


WRONG = {
    "a checksum where there is none": ({"word_checksum": "none", "trailing_bits": 6}, {"feedback.word_checksum": 6.0}),
    "no checksum where there is one": ({}, {"feedback.word_checksum": 0.0}),
    "parity where there is a CRC": ({}, {"feedback.word_checksum": 1.0}),
    "binary where it is Gray": ({"word_coding": "gray"}, {"feedback.word_gray": 0.0}),
    "Gray where it is binary": ({}, {"feedback.word_gray": 1.0}),
    "an error bit of the wrong level": ({}, {"feedback.word_error": 2.0}),
    "a bit too few": ({}, {"feedback.word_length": 20.0}),
}


@pytest.mark.parametrize("name", WRONG)
def test_a_wrong_layout_is_noticed_while_the_shaft_turns(name: str) -> None:
    changes, values = WRONG[name]
    drive = drive_with(serial_rig(**changes), **values)
    before = drive.raw()["word_errors"]
    drive.turn_by_hand(math.tau * 1.5, 1.0)
    drive.advance(1.3)
    assert drive.raw()["word_errors"] > before


def errors_of(truth: RigTruth, seconds: float = 1.0) -> int:
    drive = drive_with(truth)
    before = drive.raw()["word_errors"]
    drive.advance(seconds)
    return int(drive.raw()["word_errors"] - before)


def test_one_bit_that_arrives_wrong_is_caught_by_the_checksum_and_not_without_one() -> None:
    caught = errors_of(serial_rig(word_error_rate=0.01))
    assert caught == pytest.approx(160, rel=0.3)  # of 16 000 words in a second
    # Parity catches every single wrong bit too; without a checksum what is small enough passes for motion.
    assert errors_of(serial_rig(word_error_rate=0.01, word_checksum="parity")) == pytest.approx(160, rel=0.3)
    assert errors_of(serial_rig(word_error_rate=0.01, word_checksum="none")) < 0.8 * caught


def test_a_word_that_reports_an_error_is_not_used() -> None:
    truth = serial_rig(word_alarm=True)
    drive = SimulatedDrive("axis", truth)
    settings = drive_with(truth).running.settings
    assert position_of_word(sent_word(1234, drive.running.plant), settings) == -1
    blind = drive_with(truth, **{**word_values(truth), "feedback.word_error": 0.0, "feedback.word_warning": 0.0})
    trusting = blind.running  # told of no such bit
    assert position_of_word(sent_word(1234, trusting.plant), trusting.settings) >= 0
