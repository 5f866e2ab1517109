"""Signal quality in three steps."""

import math

import pytest

from cadrel.core.feedback import signal_quality


@pytest.mark.parametrize(
    ("amplitude", "step"),
    [(1.0, "good"), (0.85, "good"), (0.7, "usable"), (1.15, "usable"), (0.4, "bad"), (1.4, "bad")],
)
def test_the_amplitude_of_sine_and_cosine_is_judged_at_every_angle(amplitude: float, step: str) -> None:
    # 0.6 to 1.2 V of 1 Vpp: what interpolating inputs commonly take (common practice, no published source).
    for phase in (0.0, 0.7, 2.2, 4.0):
        found = signal_quality(circle=(amplitude * math.cos(phase), amplitude * math.sin(phase)))
        assert found.step == step
        assert (f"{100 * amplitude:.0f} %" in str(found)) == (step != "good")


def test_impossible_hall_states_depend_on_the_spacing() -> None:
    assert [h for h in range(8) if signal_quality(hall=h).step == "bad"] == [0, 7]
    assert [h for h in range(8) if signal_quality(hall=h, hall_spacing=60).step == "bad"] == [2, 5]


def test_wrong_words_are_counted_and_the_worst_of_all_is_said() -> None:
    assert str(signal_quality(words=(0, 5000))) == "good"
    assert str(signal_quality(words=(2, 5000))) == "usable: 2 of 5000 words wrong"
    assert signal_quality(words=(50, 5000)).step == "bad"
    assert str(signal_quality(words=(2, 5000), hall=7)) == "bad: no such Hall state"
