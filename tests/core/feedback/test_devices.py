"""What devices count, how fast, how fine; warnings in words; serial words bit by bit."""

import itertools
import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cadrel.core.axis import feedback_of
from cadrel.core.feedback import (
    FeedbackDevice,
    SerialWord,
    check_feedback,
    crc6,
    decode_word,
    edge_rate,
    encode_word,
    gray_to_binary,
    layout_of,
    speed_of_one_count,
    telegram_time,
    velocity_noise,
    word_range,
)
from cadrel.core.motor import Motor
from cadrel.core.parameters import Entry, EntryProblem

MOTOR = Motor(
    resistance=1.0, inductance=3e-3, flux_linkage=0.1, pole_pairs=4, current_continuous=3.0, current_peak=9.0,
    inertia=1e-4, speed_max=6000 * math.pi / 30,
)  # fmt: skip
LINEAR = Motor(
    kind="linear", resistance=1.0, inductance=3e-3, flux_linkage=0.1, pole_pairs=1, current_continuous=3.0,
    current_peak=9.0, inertia=1e-4, speed_max=600.0, metres_per_rad=0.032 / math.tau,
)  # fmt: skip


def entries(**values: object) -> dict[str, Entry]:
    """Keyword feedback__lines=2000 or feedback__period=(20, "µm")."""
    made: dict[str, Entry] = {}
    for key, value in values.items():
        number, unit = value if isinstance(value, tuple) else (value, None)
        made[key.replace("__", ".")] = {"value": number} if unit is None else {"value": number, "unit": unit}
    return made


def device(motor: Motor = MOTOR, **values: object) -> FeedbackDevice:
    return feedback_of(entries(**values), motor)


def serial(bits: int, **changes: object) -> SerialWord:
    base = dict(
        protocol="biss_c", position_bits=bits, multi_turn_bits=12, leading_bits=0, trailing_bits=0, error_bit="low",
        warning_bit="low", crc="crc6", coding="binary", clock=2e6, latency=0.0,
    )  # fmt: skip
    return SerialWord(**(base | changes))  # type: ignore[arg-type]


def test_two_thousand_lines_are_eight_thousand_counts() -> None:
    # Common practice: four edges to a period of two signals in quadrature.
    assert device(feedback__lines=2000).counts_per_turn == 8000


@pytest.mark.parametrize(("bits", "counts"), [(18, 262_144), (19, 524_288), (20, 1_048_576)])
def test_single_turn_bits_are_powers_of_two(bits: int, counts: int) -> None:
    made = device(feedback__kind="serial", feedback__single_turn_bits=bits)
    assert made.counts_per_turn == counts
    assert made.is_absolute


def test_sine_periods_count_by_the_interpolation() -> None:
    made = device(feedback__kind="sincos", feedback__lines=1024, feedback__interpolation=4096)
    assert made.counts_per_turn == 1024 * 4096
    assert not made.is_absolute


def test_a_scale_counts_by_the_magnetic_pitch() -> None:
    # 32 mm pitch over a 20 µm period: 1600 periods, 6400 counts of 5 µm.
    made = device(LINEAR, feedback__period=(20, "µm"))
    assert made.counts_per_turn == pytest.approx(6400)
    nano = device(LINEAR, feedback__kind="serial", feedback__resolution=(50, "nm"))
    assert nano.counts_per_turn == pytest.approx(0.032 / 50e-9)


def test_halls_alone_tell_six_states_to_an_electrical_turn() -> None:
    made = device(feedback__kind="halls")
    assert made.counts_per_turn == 24
    assert made.has_halls
    assert not made.has_index


def test_a_resolver_is_absolute_within_its_own_turn() -> None:
    made = device(feedback__kind="resolver", feedback__resolver_pairs=2, feedback__resolver_bits=12)
    assert made.counts_per_turn == 8192
    assert made.is_absolute


def test_edge_rate_speed_step_and_noise_follow_from_the_definition() -> None:
    made = device(feedback__lines=2500)
    speed = 3000 * math.pi / 30  # 50 turns a second of 10 000 edges
    assert edge_rate(made, speed) == pytest.approx(500e3)
    assert speed_of_one_count(made) == pytest.approx(math.tau / 10_000 / 250e-6)
    # Rounding has variance q²/12 (Bendat & Piersol, Random Data; from memory); a difference of two has twice that.
    q = math.tau / 10_000
    assert velocity_noise(made) == pytest.approx(math.sqrt(2 * q * q / 12) / 250e-6)


def test_the_noise_of_a_quantised_ramp_is_that_of_the_formula() -> None:
    import numpy as np

    made = device(feedback__lines=2500)
    rng = np.random.default_rng(3)
    # At one speed of n + f counts per sample the variance is f (1 - f); over all speeds its mean is 1/6 of a count².
    variances = []
    for speed in rng.uniform(3, 9, 400):
        position = rng.uniform(0, 1) + speed * np.arange(2_000)
        variances.append(np.var(np.diff(np.floor(position)) * made.count_angle / 250e-6))
    assert math.sqrt(np.mean(variances)) == pytest.approx(velocity_noise(made), rel=0.03)


def test_a_23_bit_device_overflows_at_some_thousand_rpm_and_a_split_is_proposed() -> None:
    # Common practice: velocity words in tenths of counts a second; 23 bits at 6000 rpm do not fit into 31 bits.
    made = device(feedback__kind="serial", feedback__single_turn_bits=23)
    found = word_range(made, MOTOR.speed_max)
    assert found.drop_bits == 2
    assert found.speed < MOTOR.speed_max <= found.speed_left
    assert found.counts_left == 2**21
    assert word_range(device(feedback__lines=2500), MOTOR.speed_max).drop_bits == 0


@given(st.integers(4, 32), st.floats(1, 3000))
def test_what_is_left_after_dropping_bits_always_reaches_top_speed(bits: int, top: float) -> None:
    made = device(feedback__kind="serial", feedback__single_turn_bits=bits)
    found = word_range(made, top)
    assert found.speed_left >= top * (1 - 1e-12)
    assert found.drop_bits == 0 or found.speed_left / 2 < top  # and no bit more than needed


def test_a_telegram_takes_its_bits_and_its_latency() -> None:
    made = device(
        feedback__kind="serial", feedback__single_turn_bits=19, feedback__multi_turn_bits=12,
        feedback__clock=(1, "MHz"), feedback__latency=(10, "µs"),
    )  # fmt: skip
    # 12 + 19 position, error, warning, six checksum: 39 bits and four clocks of start and acknowledge at 1 MHz.
    assert telegram_time(made) == pytest.approx(10e-6 + 43e-6)


CHECKS = [
    (dict(feedback__lines=2500), "Edge rate", "agrees", "1000 kHz at top speed"),
    (dict(feedback__lines=20000), "Edge rate", "wrong", "8000 kHz"),
    (dict(feedback__lines=100), "Angle resolution", "look", "100 counts make one electrical turn"),
    (dict(feedback__lines=2500, feedback__halls="0"), "Angle at power-up", "look", "must move a little first"),
    (dict(feedback__kind="halls"), "Angle resolution", "look", "13 % of torque"),
    (dict(feedback__kind="sincos", feedback__lines=2048), "Signal frequency", "wrong", "204.8 kHz of sine"),
    (dict(feedback__kind="serial", feedback__single_turn_bits=23), "32-bit range", "wrong", "Drop 2 low bits"),
    (
        dict(feedback__kind="serial", feedback__single_turn_bits=20, feedback__clock=(100, "kHz")),
        "Telegram", "wrong", "320 µs of the 250 µs loop",
    ),
    (
        dict(feedback__kind="serial", feedback__single_turn_bits=20, feedback__errors_tolerated=3),
        "Errors tolerated", "look", "mend the cable",
    ),
    (
        dict(feedback__kind="serial", feedback__single_turn_bits=20, feedback__crc="none"),
        "Checksum", "look", "a disturbed bit is a jump",
    ),
    (dict(feedback__kind="resolver", feedback__resolver_pairs=3), "Resolver and motor pole pairs", "wrong", "multiple"),
    (dict(feedback__kind="resolver", feedback__resolver_pairs=2), "Resolver and motor pole pairs", "agrees", "2 "),
    (
        dict(feedback__lines=2500, second__kind="serial", second__resolution=1e5, feedback__velocity_from="load"),
        "Devices and loops", "look", "every spring",
    ),
]  # fmt: skip


@pytest.mark.parametrize(("values", "title", "state", "says"), CHECKS)
def test_warnings_name_the_numbers_they_compared(values: dict[str, object], title: str, state: str, says: str) -> None:
    made = device(**values)
    check = next(c for c in check_feedback(made, MOTOR, entries(**values)) if c.title == title)
    assert check.state == state, check.detail
    assert says in check.detail


@pytest.mark.parametrize("kind", ["incremental", "sincos", "serial"])
def test_a_device_without_its_resolution_is_asked_for_it(kind: str) -> None:
    with pytest.raises(EntryProblem, match="is empty; type the value as printed"):
        device(feedback__kind=kind)


def test_fields_come_in_the_order_they_are_sent() -> None:
    word = serial(19, leading_bits=1, trailing_bits=2)
    assert [(f.name, f.bits) for f in layout_of(word)] == [
        ("leading", 1), ("multi-turn", 12), ("position", 19), ("trailing", 2),
        ("error", 1), ("warning", 1), ("checksum", 6),
    ]  # fmt: skip
    assert [
        f.name for f in layout_of(serial(13, multi_turn_bits=0, error_bit="none", warning_bit="none", crc="none"))
    ] == ["position"]


def polynomial_remainder(bits: list[int]) -> int:
    """Long division by x^6 + x + 1, as one does it on paper."""
    work = [*bits, 0, 0, 0, 0, 0, 0]
    for k in range(len(bits)):
        if work[k]:
            for j, b in enumerate((1, 0, 0, 0, 0, 1, 1)):
                work[k + j] ^= b
    return int("".join(map(str, work[-6:])), 2)


@given(st.lists(st.integers(0, 1), min_size=1, max_size=64))
def test_the_checksum_is_the_inverted_remainder_of_polynomial_0x43(bits: list[int]) -> None:
    # BiSS Interface, Protocol Description C-Mode (iC-Haus; from memory): polynomial 0x43, start 0, sent inverted.
    assert crc6(bits) == polynomial_remainder(bits) ^ 0b111111


@given(st.lists(st.integers(0, 1), min_size=8, max_size=58), st.data())
def test_the_checksum_finds_every_single_and_double_error(bits: list[int], data: st.DataObject) -> None:
    # x^6 + x + 1 is primitive: any one or two wrong bits within 63 change the remainder.
    first, second = data.draw(st.lists(st.integers(0, len(bits) - 1), min_size=2, max_size=2, unique=True))
    one = [b ^ (k == first) for k, b in enumerate(bits)]
    two = [b ^ (k == second) for k, b in enumerate(one)]
    assert crc6(one) != crc6(bits)
    assert crc6(two) != crc6(bits)


WORDS = st.builds(
    serial,
    st.integers(4, 24),
    multi_turn_bits=st.integers(0, 12),
    leading_bits=st.integers(0, 3),
    trailing_bits=st.integers(0, 3),
    error_bit=st.sampled_from(["low", "high", "none"]),
    warning_bit=st.sampled_from(["low", "high", "none"]),
    crc=st.sampled_from(["crc6", "parity", "none"]),
    coding=st.sampled_from(["binary", "gray"]),
)


@given(WORDS, st.data())
def test_a_word_that_was_sent_is_read_back(word: SerialWord, data: st.DataObject) -> None:
    position = data.draw(st.integers(0, 2**word.position_bits - 1))
    turns = data.draw(st.integers(0, 2**word.multi_turn_bits - 1))
    error, warning = data.draw(st.booleans()), data.draw(st.booleans())
    bits = encode_word(word, position=position, turns=turns, error=error, warning=warning)
    assert len(bits) == sum(f.bits for f in layout_of(word))
    read = decode_word(word, bits)
    assert (read.position, read.turns, read.is_sound) == (position, turns, True)
    assert read.error == (error and word.error_bit != "none")
    assert read.warning == (warning and word.warning_bit != "none")
    if word.crc == "crc6":
        flipped = data.draw(st.integers(word.leading_bits, len(bits) - 1))
        assert not decode_word(word, [b ^ (k == flipped) for k, b in enumerate(bits)]).is_sound


def test_neighbouring_gray_codes_differ_in_one_bit() -> None:
    # Frank Gray, US patent 2632058 (1953; from memory): reflected binary code.
    codes = [n ^ (n >> 1) for n in range(256)]
    assert [gray_to_binary(c) for c in codes] == list(range(256))
    assert all((a ^ b).bit_count() == 1 for a, b in itertools.pairwise(codes))


def test_a_word_of_the_wrong_length_is_refused() -> None:
    with pytest.raises(ValueError, match="10 bits received, the layout has 39"):
        decode_word(serial(19), [0] * 10)


@pytest.mark.parametrize(
    ("lines", "asked"), [(10_000, True), (8_000, True), (2_500, False), (4_096, False), (1_000, False), (1_234, False)]
)
def test_counts_typed_for_lines_are_asked_about(lines: int, asked: bool) -> None:
    values = {"feedback__kind": "incremental", "feedback__lines": lines}
    checks = check_feedback(device(**values), MOTOR, entries(**values))
    found = [c for c in checks if c.title == "Lines or counts"]
    assert bool(found) is asked
    assert all(str(lines // 4) in c.detail and c.state == "look" for c in found)


def test_turns_beyond_a_32_bit_position_are_said() -> None:
    values: dict[str, object] = {
        "feedback__kind": "serial", "feedback__single_turn_bits": 23, "feedback__multi_turn_bits": 16,
    }  # fmt: skip
    checks = check_feedback(device(**values), MOTOR, entries(**values))
    check = next(c for c in checks if c.title == "Turns and 32-bit range")
    assert "65536 turns" in check.detail
    assert "512 of them" in check.detail  # 2^32 counts over 2^23 to a turn
    fewer = values | {"feedback__multi_turn_bits": 8}
    assert all(c.title != check.title for c in check_feedback(device(**fewer), MOTOR, entries(**fewer)))
