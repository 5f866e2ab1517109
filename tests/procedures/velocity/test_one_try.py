"""What a velocity loop that was tried leaves the next proposal to bear."""

import math
from types import SimpleNamespace
from typing import Any

import pytest

from cadrel.core.control import Gains
from cadrel.core.tuning import noise_behind
from cadrel.procedures.velocity import one_try
from cadrel.procedures.velocity.seen import FIRMLY, Looked

GAINS = Gains(
    current_gain=17.0, current_reset=3.5e-3, velocity_gain=0.4, velocity_reset=0.01, feedback_filter_hz=600,
    torque_filter_hz=1200,
)  # fmt: skip
BUDGET = 0.1  # [N·m]
BENCH: Any = SimpleNamespace(
    axis=SimpleNamespace(robustness=SimpleNamespace(ripple=0.1), motor=SimpleNamespace(torque_constant=1.0)),
    current_continuous=1.0,
)


def looked(*, noise: float, hunts: bool = False, loud: bool = False) -> Looked:
    return Looked(
        gains=GAINS, limited_by="", noise=noise, ripple=0.0, swings=0, hunts=hunts, loud=loud, owed=3.0 * noise,
        most_gain=math.inf,
    )  # fmt: skip


@pytest.mark.parametrize(("so", "owed"), [({}, 1.0), ({"hunts": True}, 3.0), ({"loud": True}, 3.0)])
def test_what_stood_as_it_was_looked_at_owes_what_the_look_told(so: dict[str, bool], owed: float) -> None:
    assert one_try._owed(BENCH, looked(noise=1.0, **so), swung=False) == owed


def test_what_stood_and_swung_as_it_was_stepped_has_no_more_than_half_of_its_gain_next() -> None:
    """A quiet device alone would have the same loop proposed again and again."""
    quiet = looked(noise=1e-3 * noise_behind(BUDGET, GAINS))
    owed = one_try._owed(BENCH, quiet, swung=True)
    assert owed == pytest.approx(FIRMLY * noise_behind(BUDGET, GAINS))
    half = GAINS.with_(velocity_gain=GAINS.velocity_gain / FIRMLY)
    assert noise_behind(BUDGET, half) == pytest.approx(owed), "the most that bears it, of this shape"
    noisy = looked(noise=2 * noise_behind(BUDGET, GAINS))
    assert one_try._owed(BENCH, noisy, swung=True) == pytest.approx(FIRMLY * noisy.noise)
