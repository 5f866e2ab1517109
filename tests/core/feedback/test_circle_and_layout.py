"""The signal circle and its correction; where the position is in recorded words."""

import math

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from cadrel.core.errors import UnusableInput
from cadrel.core.feedback import ROUND, SerialWord, SignalCircle, angle_error, encode_word, fit_circle, read_layout

PHI = np.linspace(0, 2 * math.pi, 400, endpoint=False)


@settings(max_examples=60, deadline=None)
@example(0.3125, 0.1875, 0.1875, 0.75, 0.0)  # passes through the zero of the signals: (3, 4, 5)
@example(0.3, 0.5, -0.4, 1.2, 0.3)  # the zero lies outside
@given(st.floats(0.3, 1.5), st.floats(-0.2, 0.2), st.floats(-0.2, 0.2), st.floats(0.7, 1.4), st.floats(-0.4, 0.4))
def test_an_exact_ellipse_is_found_exactly(a: float, x: float, y: float, g: float, q: float) -> None:
    true = SignalCircle(amplitude=a, offset_cos=x, offset_sin=y, gain=g, quadrature=q)
    found = fit_circle(*true.signals(PHI))
    for name in ("amplitude", "offset_cos", "offset_sin", "gain", "quadrature"):
        assert getattr(found, name) == pytest.approx(getattr(true, name), abs=1e-9)
    # Put back: what the correction reads is the phase the signals were made from.
    np.testing.assert_allclose(np.angle(np.exp(1j * (found.phase(*true.signals(PHI)) - PHI))), 0, atol=1e-9)


def test_ten_percent_gain_five_percent_offset_five_degrees_leave_under_a_tenth_of_a_degree() -> None:
    rng = np.random.default_rng(9)
    true = SignalCircle(amplitude=1.0, offset_cos=0.05, offset_sin=-0.05, gain=1.1, quadrature=math.radians(5))
    cos, sin = true.signals(rng.uniform(0, 2 * math.pi, 2000))
    found = fit_circle(cos + rng.normal(0, 0.005, 2000), sin + rng.normal(0, 0.005, 2000))
    assert math.degrees(angle_error(true, ROUND)) > 5
    assert math.degrees(angle_error(true, found)) < 0.1


@pytest.mark.parametrize("part", [PHI[:20], np.linspace(0, 1.5, 300)])
def test_too_little_of_the_circle_is_refused(part: np.ndarray) -> None:
    with pytest.raises(UnusableInput):
        fit_circle(*ROUND.signals(part))


def test_signals_on_a_line_lie_on_no_ellipse() -> None:
    rng = np.random.default_rng(2)
    x = rng.normal(0, 1, 300)
    with pytest.raises(UnusableInput):
        fit_circle(x, 0.3 * x)


def word(**changes: object) -> SerialWord:
    values: dict[str, object] = {
        "protocol": "biss_c", "position_bits": 13, "multi_turn_bits": 4, "leading_bits": 1, "trailing_bits": 2,
        "error_bit": "low", "warning_bit": "low", "crc": "crc6", "coding": "binary", "clock": 1e6, "latency": 0.0,
    }  # fmt: skip
    return SerialWord(**{**values, **changes})  # type: ignore[arg-type]


def words_of(layout: SerialWord, n: int = 200) -> list[list[int]]:
    steps = np.floor(np.linspace(0.31, 1.29, n) * 2**layout.position_bits).astype(int)
    size = 2**layout.position_bits
    return [encode_word(layout, position=int(s % size), turns=5 + int(s // size)) for s in steps]


def test_a_layout_that_is_right_shows_no_difference() -> None:
    found = read_layout(words_of(word()), word())
    assert found.differences == ()
    assert (found.before, found.single_turn_bits, found.checksum_fits) == (5, 13, True)


@pytest.mark.parametrize(
    ("changes", "says"),
    [
        ({"position_bits": 12}, "The position has 13 bits; 12 were entered"),
        ({"multi_turn_bits": 5, "leading_bits": 1}, "come before the position"),
        ({"trailing_bits": 1}, "still bits follow the position"),
        ({"crc": "none"}, "The device sends"),
    ],
)
def test_a_wrong_layout_is_told_by_one_turn(changes: dict[str, object], says: str) -> None:
    found = read_layout(words_of(word()), word(**changes))
    assert says in " ".join(found.differences)


def test_a_single_flipped_bit_is_seen_by_the_checksum() -> None:
    words = words_of(word())
    for row in words:
        row[7] ^= 1
    assert not read_layout(words, word()).checksum_fits
