"""How much gain a shape of the velocity loop bears: the search's inner step, in closed form and compiled.

A shape is everything but the gain: reset time, torque filter, speed filter, second-order sections. Its open loop at
gain 1 is s(f); at gain K it is K s(f). Every margin asked for then forbids an interval of K at each frequency, so the
highest gain follows without a search, and it is one that no smaller gain between the bounds spoils.
"""

import math
from collections.abc import Sequence
from dataclasses import astuple, dataclass
from typing import Self

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
LEAST_DAMPING = 0.1  # of a section's poles, unless more is asked for


@dataclass(frozen=True, slots=True)
class Kept:
    """Margins that the loop around one plant must keep."""

    sensitivity_peak: float
    phase_margin: float  # [rad]
    gain_margin: float  # [1]
    unstable: int = 0  # pairs of the plant's own poles: current loop and back-EMF may undamp a resonance a little


@dataclass(frozen=True, slots=True)
class Bounds:
    """What bounds the gain beside the plants' margins."""

    unseen_hz: float = 1200.0  # from here nothing is known of the plant: the gain stays below 1 by its margin
    noise: float = 0.0  # [rad/s] rms of the raw speed at rest
    noise_torque: float = math.inf  # [N·m] rms that it may make
    moving_noise: float = 0.0  # [rad/s] rms of the raw speed while the axis moves
    most_change: float = math.inf  # [N·m] rms by which its torque may change from one sample to the next
    gain: float = math.inf  # [N·m·s/rad] the highest there may be
    least_damping: float = LEAST_DAMPING  # of a section's poles
    speed_filter: float = math.inf  # [Hz] the highest there may be

    @property
    def noises(self) -> FloatArray:
        """Noise at rest and in motion, each with the most that it may make: shape (2, 2)."""
        return np.array([[self.noise, self.noise_torque], [self.moving_noise, self.most_change]])


@dataclass(frozen=True, slots=True, eq=False)
class Plants:
    """Velocity plants that a shape must bear: models on their grid, and behind them a measured one on its own."""

    frequency: FloatArray  # [Hz], shape (n,): both grids
    values: ComplexArray  # shape (n, m), a column for each plant; off a plant's own grid nothing is read
    models: int  # points of the models' grid
    kept: FloatArray  # shape (m, 4): the fields of `Kept` of each plant

    @classmethod
    def of(
        cls, model_grid: FloatArray, models: Sequence[tuple[ComplexArray, Kept]],
        measured: tuple[FloatArray, ComplexArray, Kept] | None,
    ) -> Self:  # fmt: skip
        """Return models on their grid, and a measured plant on its own behind them, each with what it must keep."""
        values = np.stack([value for value, _ in models], axis=1)
        kept = [astuple(k) for _, k in models]
        if measured is None:
            return cls(model_grid, np.ascontiguousarray(values), len(model_grid), np.array(kept))
        f, seen, its = measured
        n, m = values.shape
        both = np.zeros((n + len(f), m + 1), dtype=np.complex128)
        both[:n, :m], both[n:, m] = values, seen
        kept.append(astuple(its))
        return cls(np.concatenate([model_grid, f]), both, n, np.array(kept))
