"""What a proposal must bear where only the flank of a resonance was seen."""

import math
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from cadrel.core.axis.understanding import MOVES_ON, Robustness
from cadrel.core.control import TwoMass, Winding
from cadrel.core.identification import PlantFit
from cadrel.core.response import FrequencyResponse
from cadrel.procedures.velocity.seen import Seen, doubt_beyond, resonance_seen

LOAD = TwoMass(inertia_motor=1e-3, inertia_load=1e-3, stiffness=2.0 * math.pi**2 * 1000.0**2 * 1e-3)  # 1000 Hz
FLANK = PlantFit(LOAD, Winding(resistance=1.0, inductance=1e-3), resonance_std=50.0, seen_hz=700.0)
ASKED = Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8, resonance_drift=0.05)


def seen(fit: PlantFit, moved: float = 0.0) -> Seen:
    nothing = FrequencyResponse(*(np.empty(0),) * 4)
    return Seen(measured=nothing, fit=fit, closed=None, moved=moved, noise=0.0, device=0.0)


def test_a_resonance_of_which_only_the_flank_is_seen_is_held_over_its_doubt() -> None:
    assert doubt_beyond(FLANK) == pytest.approx(0.05)
    found = seen(FLANK)
    assert found.asked(ASKED).resonance_drift == pytest.approx(0.05 + MOVES_ON * 0.05)
    assert found.springy.moved == pytest.approx(0.05)  # the position loop bears it too
    assert seen(FLANK, moved=0.08).asked(ASKED).resonance_drift == pytest.approx(0.05 + MOVES_ON * 0.08)


@pytest.mark.parametrize(
    "fit",
    [
        replace(FLANK, seen_hz=1100.0),  # it was seen
        replace(FLANK, load=replace(LOAD, inertia_load=0.0, stiffness=None, damping=0.0)),  # there is none
    ],
)
def test_one_that_was_seen_has_the_drift_that_is_asked_for(fit: PlantFit) -> None:
    assert doubt_beyond(fit) == 0.0
    assert seen(fit).asked(ASKED).resonance_drift == ASKED.resonance_drift


@pytest.mark.parametrize(("is_seen", "open_hz", "softer"), [(True, 1020.0, 0.02), (True, 990.0, 0.0), (True, None, 0.0),
                                                            (False, 1020.0, 0.0)])  # fmt: skip
def test_what_play_made_softer_drifts_from_where_it_was(is_seen: bool, open_hz: float | None, softer: float) -> None:
    """Without play nothing explains that it lies lower: it may move on."""
    stiffness = SimpleNamespace(value=LOAD.stiffness, std=0.0)
    play = SimpleNamespace(is_seen=is_seen, width=SimpleNamespace(value=1e-3), stiffness=stiffness)
    closed: Any = SimpleNamespace(play=play, fit=FLANK)
    fit = replace(FLANK, seen_hz=1500.0)
    found = replace(seen(fit), closed=closed, open_hz=open_hz)
    assert found.softer == pytest.approx(softer, abs=1e-6)
    assert found.asked(ASKED).resonance_softer == found.softer == found.springy.softer


def test_a_flank_is_nowhere_that_a_resonance_was_seen() -> None:
    assert resonance_seen(FLANK) is None
    assert resonance_seen(replace(FLANK, load=replace(LOAD, inertia_load=0.0, stiffness=None, damping=0.0))) is None
    assert resonance_seen(replace(FLANK, seen_hz=1100.0)) == pytest.approx(1000.0)
