"""Robust against quick: one family of gains around those in hand, and what each of them would give."""

import math
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import (
    Gains,
    LoopName,
    Margins,
    TwoMass,
    Winding,
    position_open,
    position_over_speed,
    read_margins,
    step_response,
    velocity_open,
    velocity_plant,
)
from cadrel.core.response.estimate import FrequencyResponse
from cadrel.core.tuning.pace import quicker
from cadrel.core.tuning.velocity import noise_behind, spread_of
from cadrel.core.verdict.loops import resonance_grid

FloatArray = NDArray[np.float64]
FACTORS = tuple(2.0 ** (n / 6) for n in range(-14, 7))  # of the gains in hand: a fifth to twice as quick
SETTLED, SHOWN = 0.02, 0.4  # of a step; [s] of it that is looked at
LOOPS: tuple[LoopName, ...] = ("velocity", "position")
FEWEST = 10  # measured lines that may judge


@dataclass(frozen=True, slots=True, kw_only=True)
class FrontPoint:
    """One member of the family: its gains, and the worst that the spread makes of it."""

    factor: float  # 1: the gains in hand
    velocity_gain: float  # [N·m·s/rad]
    velocity_reset: float  # [s]
    position_gain: float  # [1/s]
    stiffness: float  # [N·m/rad] integral gain: torque per angle against a constant disturbance
    sensitivity_peak: float  # worst of both loops
    phase_margin_deg: float | None
    gain_margin_db: float | None
    settling: float | None  # [s] of a position step; None: not within what is looked at
    ripple: float | None  # of the continuous current, rms, from the device's noise; None: not measured
    is_stable: bool
    honours: bool  # what is asked for
    changes: dict[str, float]  # what differs within the family, by registry key

    def as_dict(self) -> dict[str, Any]:
        """Return plain values."""
        return asdict(self)


def front_of(
    load: TwoMass,
    windings: Sequence[Winding],
    gains: Gains,
    asked: Robustness,
    *,
    measured: FrequencyResponse | None = None,
    noise: float | None = None,
    continuous: float = math.inf,
) -> list[FrontPoint]:
    """Return the family of gains around those in hand, `FACTORS` times as quick, slowest first.

    Parameters
    ----------
    load, windings : TwoMass, sequence of Winding
        The identified load, and the winding as small currents meet it and at the working current.
    gains : Gains
        In hand: factor 1.
    asked : Robustness
        Its spread is what every member is judged over.
    measured : FrequencyResponse, optional
        Measured velocity plant; it judges beside the model.
    noise : float, optional
        Of the raw speed at rest, rms. [rad/s]
    continuous : float
        Torque at the continuous current. [N·m]

    Notes
    -----
    A loop made quicker by a factor has its gains times it and its reset time divided by it, so that its shape stays;
    a lag below the crossover goes with it. The other filters, which answer to the plant and not to quickness, are kept.
    The plant does not depend on any of these: each is computed once, and a member costs a few products of arrays.
    Stability is looked at over the whole spread,
    and from the member nearest to the gains in hand outwards: beyond the first that runs away none is called stable.
    """
    spread = spread_of(asked)
    plants = []
    for drifted in spread.drifts(load):
        grid = resonance_grid(drifted)
        plants += [(grid, velocity_plant(drifted, w, gains, grid)) for w in windings]
    if measured is not None and len(measured.frequency) > FEWEST:
        plants.append((measured.frequency, measured.value))
    low, high = _stable_between(load, windings, gains, asked)
    return [
        _point(k, load, windings[0], gains, asked, plants, noise, continuous, is_stable=low <= n <= high)
        for n, k in enumerate(FACTORS)
    ]


def moves_with_quickness(gains: Gains) -> list[str]:
    """Return the registry keys of what differs within the family of these gains."""
    kept, other = gains.to_drive(), quicker(gains, FACTORS[0]).to_drive()
    return [key for key, value in kept.items() if other[key] != value]


def _stable_between(load: TwoMass, windings: Sequence[Winding], gains: Gains, asked: Robustness) -> tuple[int, int]:
    """First and last member that is stable over the whole spread; (1, 0) where the gains in hand are not."""
    spread = spread_of(asked)

    def is_stable(n: int) -> bool:
        own = quicker(gains, FACTORS[n])
        return all(spread.unstable(loop, load, w, own) is None for loop in LOOPS for w in windings)

    here = FACTORS.index(1.0)
    if not is_stable(here):
        return 1, 0

    def last(stable: int, end: int) -> int:
        if is_stable(end):
            return end
        unstable = end
        while abs(unstable - stable) > 1:
            middle = (stable + unstable) // 2
            stable, unstable = (middle, unstable) if is_stable(middle) else (stable, middle)
        return stable

    return last(here, 0), last(here, len(FACTORS) - 1)


def _point(
    factor: float,
    load: TwoMass,
    winding: Winding,
    gains: Gains,
    asked: Robustness,
    plants: Sequence[tuple[FloatArray, NDArray[np.complex128]]],
    noise: float | None,
    continuous: float,
    *,
    is_stable: bool,
) -> FrontPoint:
    own = quicker(gains, factor)
    velocity = [read_margins(velocity_open(plant, own, f), f) for f, plant in plants]
    position = [
        read_margins(position_open(plant, own, f, position_over_speed(load, winding, own, f)), f) for f, plant in plants
    ]
    every = [*velocity, *position]
    peak = max(m.sensitivity_peak for m in every)
    phase, gain = _least(every, "phase_margin"), _least(every, "gain_margin_db")
    ripple = None if noise is None else noise / noise_behind(1.0, own) / continuous
    values = own.to_drive()
    return FrontPoint(
        factor=factor, velocity_gain=own.velocity_gain, velocity_reset=own.velocity_reset,
        position_gain=own.position_gain, stiffness=own.velocity_gain / own.velocity_reset, sensitivity_peak=peak,
        phase_margin_deg=None if phase is None else math.degrees(phase), gain_margin_db=gain,
        settling=_settling(load, winding, own) if is_stable else None, ripple=ripple, is_stable=is_stable,
        honours=is_stable and peak <= asked.sensitivity_peak
        and (phase is None or phase >= asked.phase_margin)
        and (gain is None or gain >= asked.gain_margin_db)
        and (ripple is None or ripple <= asked.ripple),
        changes={key: values[key] for key in moves_with_quickness(gains)},
    )  # fmt: skip


def _least(every: Sequence[Margins], key: str) -> float | None:
    found = [getattr(m, key) for m in every if getattr(m, key) is not None]
    return min(found) if found else None


def _settling(load: TwoMass, winding: Winding, gains: Gains) -> float | None:
    """Time after which a position step stays within `SETTLED`. [s]"""
    time, y = step_response("position", load, winding, gains, duration=SHOWN)
    outside = np.nonzero(np.abs(y - 1) > SETTLED)[0]
    if not len(outside):
        return float(time[0])
    return None if outside[-1] >= len(time) - 1 else float(time[outside[-1] + 1])
