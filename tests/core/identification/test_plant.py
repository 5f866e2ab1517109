"""The identified plant as a value: its parts, and what retires them."""

import math

import numpy as np
import pytest

from cadrel.core.axis.understanding import MOVES_ON, Robustness
from cadrel.core.control import TwoMass
from cadrel.core.identification import IdentifiedPlant, RubbedLoad, SpringyLoad, TotalLoad, Unrest
from cadrel.core.response import FrequencyResponse


def test_what_an_axis_needs_to_stand_still_is_kept_until_its_load_is_found_anew() -> None:
    load = TotalLoad(inertia=1e-3, viscous_total=1e-3, coulomb=0.05)
    plant = IdentifiedPlant().with_part(load).with_part(Unrest(noise=2.5))
    kept = IdentifiedPlant.from_dict(plant.as_dict())
    assert kept.unrest == Unrest(noise=2.5) and kept.total == load
    assert kept.with_part(RubbedLoad(sliding=0.05, viscous=1e-3)).unrest is not None
    assert kept.with_part(load).unrest is None
    assert IdentifiedPlant.from_dict({}).unrest is None


def test_what_a_shaft_with_play_was_seen_to_do_is_kept_and_asked_of_the_loops_after_it() -> None:
    f = np.array([10.0, 20.0])
    shaft = SpringyLoad(
        load=TwoMass(inertia_motor=1e-4, inertia_load=1e-3, stiffness=400.0, damping=0.01), small_signal_resistance=2.0,
        measured=FrequencyResponse(f, 1 / (1j * f), np.ones(2), 0.01 / f), moved=0.01, rise=0.1, closed_damping=0.4,
        softer=0.02, play=5e-4, noise=0.2, flicker=1e-5,
    )  # fmt: skip
    kept = IdentifiedPlant.from_dict(IdentifiedPlant(springy=shaft).as_dict())
    assert kept.springy is not None
    assert kept.springy.as_dict() == shaft.as_dict()
    asked = kept.asked(Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8))
    found = (asked.resonance_drift, asked.resonance_rise, asked.closed_damping, asked.resonance_softer)
    assert found == pytest.approx((0.05 + MOVES_ON * 0.01, 0.1, 0.4, 0.02))
    before = {k: v for k, v in shaft.as_dict().items() if k != "softer"}  # kept by an earlier version
    assert SpringyLoad.from_dict(before).softer == 0.0
