"""Move profiles against Ruckig, an independent generator of time-optimal motion."""

import numpy as np
import pytest
import ruckig
from hypothesis import given, settings
from hypothesis import strategies as st

from cadrel.core.errors import UnusableInput
from cadrel.core.motion import move_profile, sample_profile, stroke_sequence


def ruckig_duration(distance: float, velocity: float, acceleration: float, jerk: float) -> float:
    request = ruckig.InputParameter(1)
    request.target_position = [distance]
    request.max_velocity, request.max_acceleration, request.max_jerk = [velocity], [acceleration], [jerk]
    answer = ruckig.Trajectory(1)
    ruckig.Ruckig(1).calculate(request, answer)
    return float(answer.duration)


@settings(max_examples=120, deadline=None)
@given(st.floats(0.01, 500), st.floats(1, 400), st.floats(10, 8000), st.floats(500, 5e5))
def test_duration_is_ruckigs_for_any_limits(distance: float, velocity: float, acceleration: float, jerk: float) -> None:
    ours = move_profile(distance, velocity=velocity, acceleration=acceleration, jerk=jerk).duration
    assert ours == pytest.approx(ruckig_duration(distance, velocity, acceleration, jerk), rel=1e-6)


@settings(max_examples=60, deadline=None)
@given(
    st.floats(-300, 300).filter(lambda d: abs(d) > 0.01), st.floats(1, 400), st.floats(10, 8000), st.floats(500, 5e5)
)
def test_a_profile_ends_at_rest_at_its_distance_and_keeps_its_limits(
    distance: float, velocity: float, acceleration: float, jerk: float
) -> None:
    profile = move_profile(distance, velocity=velocity, acceleration=acceleration, jerk=jerk)
    x, v, a = sample_profile(profile, np.linspace(0, profile.duration, 2001))
    assert x[-1] == pytest.approx(distance, rel=1e-9)
    assert abs(v[-1]) < 1e-6 * velocity + 1e-9
    assert np.abs(v).max() <= velocity * (1 + 1e-9)
    assert np.abs(a).max() <= acceleration * (1 + 1e-9)


def test_a_triangle_move_peaks_where_the_trade_says() -> None:
    # Common practice: 240° in 200 ms with 100 ms ramps peaks at 400 rpm.
    peak, ramp = 400 * 2 * np.pi / 60, 0.1
    profile = move_profile(np.radians(240), velocity=1e4, acceleration=peak / ramp, jerk=1e9)
    _, v, _ = sample_profile(profile, np.linspace(0, profile.duration, 4001))
    assert v.max() == pytest.approx(peak, rel=1e-3)
    assert profile.duration == pytest.approx(0.2, rel=1e-3)


def test_a_sequence_returns_to_its_start_after_every_repeat() -> None:
    stroke = move_profile(12.0, velocity=100, acceleration=2000, jerk=1e5)
    sequence = stroke_sequence(stroke, dwell=0.1, repeats=3)
    x, v, _ = sample_profile(sequence, np.linspace(0, sequence.duration, 5001))
    assert sequence.duration == pytest.approx(6 * (stroke.duration + 0.1))
    assert x[-1] == pytest.approx(0, abs=1e-9)
    assert x.max() == pytest.approx(12.0, rel=1e-9)
    assert v[-1] == 0


def test_a_move_without_limits_is_refused() -> None:
    with pytest.raises(UnusableInput):
        move_profile(1.0, velocity=0, acceleration=1, jerk=1)
