"""When the load that was weighed is believed."""

import math
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from cadrel.core.identification import Estimated, LoadEstimate
from cadrel.core.verdict import decide
from cadrel.link import Recording
from cadrel.procedures.load import MOST_LEFT, _criteria

FLUX, PAIRS = 0.1, 4.0  # 0.6 N·m/A


def session(travel: float = 4.0) -> Any:
    values = {"motor.flux_linkage": FLUX, "motor.pole_pairs": PAIRS}
    return SimpleNamespace(values=values, consent=SimpleNamespace(travel=travel))


def strokes(noise: float = 0.0) -> Recording:
    """A second of a sine of 1 A, 0.6 N·m; the device's noise shows in the speed. [rad/s]"""
    time = np.arange(4000) / 4000
    wave = np.sin(2 * math.pi * 4 * time)
    speed = 10.0 * wave + noise * np.random.default_rng(5).normal(size=len(time))
    return Recording(1 / 4000, {"i_q": wave, "velocity": speed, "position": np.cumsum(speed) / 4000})


def weighed(left: float) -> LoadEstimate:
    known = Estimated(0.0, 0.0)
    return LoadEstimate(
        inertia=Estimated(2e-3, 1e-4), coulomb=known, viscous=known, constant=known, residual=left, spans=300
    )


@pytest.mark.parametrize("noise", [0.0, 3.0])
@pytest.mark.parametrize(("share", "proven"), [(0.15, True), (0.43, True), (1.0, False), (1.6, False)])
def test_a_model_that_leaves_most_of_the_torque_weighed_nothing_however_the_device_trembles(
    share: float, noise: float, proven: bool
) -> None:
    rms = 1.5 * PAIRS * FLUX / math.sqrt(2)  # of the torque, by the current
    rows = _criteria(session(), strokes(noise), weighed(share * rms), Estimated(2e-3, 1e-4))
    left = next(row for row in rows if row.what.startswith("torque the model leaves"))
    assert left.found == pytest.approx(100 * share, rel=0.01) and left.asked == MOST_LEFT
    assert decide("load", rows, run=0).is_proven == proven


@pytest.mark.parametrize(("std", "travel", "missed"), [
    (1e-3, 4.0, "uncertainty of the inertia"), (1e-4, 0.3, "travel"),
])  # fmt: skip
def test_nor_is_one_believed_that_is_hardly_known_or_went_too_far(std: float, travel: float, missed: str) -> None:
    rows = _criteria(session(travel), strokes(), weighed(0.01), Estimated(2e-3, std))
    assert [row.what for row in rows if not row.passed] == [missed]
