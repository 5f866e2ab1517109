"""Strokes for weighing a load: soft, within the travel, within the accelerations allowed."""

import math
from contextlib import nullcontext
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.integrate import cumulative_simpson

from cadrel.core.control import Rates
from cadrel.procedures.strokes import (
    BRIEFEST,
    SOFT,
    SOFTER,
    TRAVEL_SHARE,
    Lead,
    _asking_for,
    _lobe,
    _Ramps,
    back_and_forth,
)

TV = Rates().velocity


@given(hardest=st.floats(50, 5e4), share=st.floats(0.001, 0.5), reach=st.floats(0.2, 200), speed=st.floats(0.5, 600))
def test_a_stroke_fits_its_way_and_keeps_its_acceleration(
    hardest: float, share: float, reach: float, speed: float
) -> None:
    ramps = _Ramps(hardest=hardest, gentlest=share * hardest, reach=reach, softest=SOFTER)
    fastest = ramps.fastest(speed)
    assert 0 < fastest <= speed
    rise = ramps.rise(fastest)
    assert fastest * rise <= 1.001 * reach  # two ramps, each half of speed times rise
    assert 0.5 * math.pi * fastest / rise <= 1.001 * hardest
    assert rise <= max(SOFTER, 0.5 * math.pi * fastest / hardest) * 1.001


def test_a_long_way_is_used_for_softness_and_a_short_one_for_speed() -> None:
    roomy = _Ramps(hardest=5000, gentlest=100, reach=100.0, softest=SOFTER)
    assert (roomy.fastest(60), roomy.rise(60)) == (60, SOFTER)
    tight = _Ramps(hardest=5000, gentlest=100, reach=60 * 0.15, softest=SOFTER)
    assert (tight.fastest(60), tight.rise(60)) == (60, pytest.approx(0.15))
    tighter = _Ramps(hardest=5000, gentlest=100, reach=60 * 0.06, softest=SOFTER)
    assert tighter.rise(tighter.fastest(60)) == pytest.approx(SOFT, rel=1e-6)
    light = _Ramps(hardest=5000, gentlest=800, reach=100.0, softest=SOFTER)  # a softer ramp would take no torque
    assert light.rise(60) == pytest.approx(60 / 800)
    lighter = _Ramps(hardest=9000, gentlest=4000, reach=100.0, softest=SOFTER)  # in a sharper one no speed is read
    assert lighter.rise(60) == BRIEFEST


def test_a_lobe_goes_its_way_and_comes_to_rest() -> None:
    lobe = _lobe(40.0, 0.2, 20.0, period=TV)
    assert TV * lobe.sum() == pytest.approx(20.0, rel=0.01)
    assert lobe[-1] == 0.0
    assert np.abs(np.diff(lobe)).max() / TV == pytest.approx(0.5 * math.pi * 40 / 0.2, rel=0.01)


@pytest.mark.parametrize("lead", [Lead(0.6), Lead(1.0), Lead(1.0, 0.16), Lead(1.0, found=0.011)])
def test_what_a_lead_asks_for_is_the_torque_of_the_stroke_by_the_regulators_own_law(lead: Lead) -> None:
    lobe = np.concatenate([_lobe(11.0, 0.2, 2.2, period=TV), -_lobe(11.0, 0.2, 2.2, period=TV)])
    values = {"load.inertia": 2e-3, "load.friction": 0.02, "velocity.gain": 0.0127, "velocity.reset_time": 0.8}
    motor = SimpleNamespace(torque_constant=0.4)
    session: Any = SimpleNamespace(
        values=values, rates=Rates(), axis=SimpleNamespace(motor=motor), current_continuous=1.0
    )
    off = _asking_for(session, lobe, lead)
    # A PI regulator by its textbook law, the integral by Simpson's rule in place of the drive's sum.
    made = 0.0127 * (off + cumulative_simpson(off, dx=TV, initial=0) / 0.8)
    friction = max(0.02, lead.friction * 0.4) if lead.found is None else lead.found
    meant = lead.inertia * 2e-3 * np.gradient(lobe, TV) + friction * np.sign(lobe)
    assert np.abs(made - meant).max() < 0.02 * np.abs(meant).max()


def test_strokes_go_to_the_side_of_their_sign_at_their_share_of_the_speed_and_come_back() -> None:
    session: Any = SimpleNamespace(
        values={"load.inertia": 1e-3, "load.friction": 0.01, "limit.acceleration": 2000.0, "limit.current": 6.0},
        rates=Rates(), current_continuous=2.0, consent=SimpleNamespace(travel=20.0, speed=60.0),
        axis=SimpleNamespace(motor=SimpleNamespace(torque_constant=0.4)),
        enabled=lambda mode, torque: nullcontext(), hold=lambda seconds: None, standstill=lambda: None,
        excite_and_record=lambda channels, point, wave, **how: None,
    )  # fmt: skip
    _, wave = back_and_forth(session, ("position",), strokes=(1.0, -1.0, 0.45))
    place = TV * np.cumsum(wave)
    assert place[-1] == pytest.approx(0.0, abs=1e-9)
    assert (place.max(), place.min()) == pytest.approx((TRAVEL_SHARE * 20.0, -TRAVEL_SHARE * 20.0), rel=0.01)
    third = wave[np.nonzero(place < -1e-3)[0][-1] + 1 :]
    assert np.abs(third).max() == pytest.approx(0.45 * np.abs(wave).max(), rel=0.01)
    assert third[np.nonzero(third)[0][0]] > 0.0
