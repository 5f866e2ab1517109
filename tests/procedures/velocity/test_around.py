"""The position loop around a proposal is worked out once, however often it is asked for."""

from collections.abc import Callable
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.parameters import default_drive_values
from cadrel.core.response import FrequencyResponse
from cadrel.core.tuning import TuningRefused
from cadrel.procedures.velocity import around as velocity_around
from cadrel.procedures.velocity.seen import Seen

GAINS = Gains.from_drive(default_drive_values())
ASKED = Robustness(phase_margin=0.8, gain_margin_db=8.0, sensitivity_peak=1.8)


class Bench:
    """As much of a session as a position loop needs."""

    def __init__(self, *, settling: float = 0.1, resistance: float = 1.0) -> None:
        self.axis = SimpleNamespace(goal=SimpleNamespace(settling_time=settling))
        self.values = default_drive_values() | {"motor.resistance": resistance}

    def computed(self, work: Callable[[], Any]) -> Any:
        return work()


def seen() -> Seen:
    nothing: Any = FrequencyResponse(*(np.empty(0),) * 4)
    fit: Any = SimpleNamespace(load=None, winding=None)
    return Seen(measured=nothing, fit=fit, closed=None, moved=0.0, noise=0.0, device=0.0)


@pytest.fixture
def worked_out(monkeypatch: pytest.MonkeyPatch) -> list[Gains]:
    """Gains around which a position loop was worked out; those of no velocity gain are refused one."""
    done: list[Gains] = []

    def tune(load: Any, winding: Any, gains: Gains, *_: Any, settling: float, **__: Any) -> tuple[Gains, str]:
        done.append(gains)
        if gains.velocity_gain == 0.0:
            raise TuningRefused(asked="this", limit="that")
        return gains.with_(position_gain=1 / settling), "the load"

    monkeypatch.setattr(velocity_around, "tune_position", tune)
    return done


def around(bench: Bench, on: Seen, gains: Gains = GAINS, asked: Robustness = ASKED) -> Any:
    return velocity_around.positioned_around(bench, on, gains, asked)  # type: ignore[arg-type]


def test_the_same_one_is_worked_out_once(worked_out: list[Gains]) -> None:
    bench, on = Bench(), seen()
    first = around(bench, on)
    assert around(bench, on) == first and first[0].position_gain == pytest.approx(10.0)
    assert len(worked_out) == 1


def test_whatever_it_depends_on_has_it_worked_out_anew(worked_out: list[Gains]) -> None:
    on = seen()
    around(Bench(), on)
    around(Bench(), seen())  # another plant
    around(Bench(), on, GAINS.with_(velocity_gain=2 * GAINS.velocity_gain))
    around(Bench(), on, asked=Robustness(phase_margin=0.9, gain_margin_db=8.0, sensitivity_peak=1.8))
    around(Bench(resistance=2.0), on)  # at the working current
    assert around(Bench(settling=0.2), on)[0].position_gain == pytest.approx(5.0)
    assert len(worked_out) == 6


def test_that_there_is_none_is_known_as_well(worked_out: list[Gains]) -> None:
    on = seen()
    assert around(Bench(), on, GAINS.with_(velocity_gain=0.0)) is None
    assert around(Bench(), on, GAINS.with_(velocity_gain=0.0)) is None
    assert len(worked_out) == 1
