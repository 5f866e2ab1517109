"""Readings noted by hand: their mean, or the contradiction by its name."""

import math

import numpy as np
import pytest

from cadrel.core.identification import Contradiction, offset_by_hand


@pytest.mark.parametrize("offset", [-175.0, -40.0, 0.0, 3.0, 112.4, 179.0])
def test_readings_from_both_sides_make_their_offset_whatever_it_is(offset: float) -> None:
    lag = 8.0  # friction: behind the vector, whichever way it came
    vector = [30.0, 60.0, 90.0, 60.0, 30.0]
    shaft = [v - offset - (lag if k < 3 else -lag) for k, v in enumerate(vector)]
    found = offset_by_hand(vector, shaft)
    gap = math.degrees(math.remainder(found.offset - math.radians(offset), math.tau))
    assert abs(gap) < 2.0  # three from below, two from above
    assert math.degrees(found.apart) < 11


@pytest.mark.parametrize(
    ("vector", "shaft", "says"),
    [
        ([0.0], [0.0], "Too few readings"),
        ([0.0, 5.0], [0.0, 5.0], "one angle"),
        ([0.0, 90.0], [0.0, 2.0], "did not go along"),
        ([0.0, 90.0], [0.0, -88.0], "against each other"),
        ([0.0, 90.0], [0.0, 180.0], "the shaft 180° electrical"),
        ([0.0, 90.0], [0.0, 40.0], "contradict each other"),
        ([0.0, 360.0, 365.0], [0.0, 360.0, 139.0], "contradict each other"),  # two 226° apart, as once was taken
    ],
)
def test_contradictions_are_named_and_nothing_is_taken(vector: list[float], shaft: list[float], says: str) -> None:
    with pytest.raises(Contradiction) as caught:
        offset_by_hand(vector, shaft)
    assert says in caught.value.text
    assert "No offset was taken." in caught.value.text


def test_noise_of_a_few_degrees_is_borne_and_stated() -> None:
    rng = np.random.default_rng(4)
    vector = np.array([0.0, 40.0, 80.0, 120.0, 80.0, 40.0])
    shaft = vector - 55.0 + rng.uniform(-5, 5, 6)
    found = offset_by_hand(list(vector), list(shaft))
    assert abs(math.degrees(found.offset) - 55.0) < 5
    assert 0 < math.degrees(found.apart) < 11
