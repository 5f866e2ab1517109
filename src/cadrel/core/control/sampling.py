"""What the drive samples: its rates, and what a feedback device does to an angle on its way into the loop."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Self

SERIAL, RESOLVER = 3.0, 2.0  # codes of `feedback.device`
TRACKING_DAMPING = 0.9  # of the tracking converter; docs/control-structure.md, section 2


@dataclass(frozen=True, slots=True, kw_only=True)
class Rates:
    """Periods of a drive's loops. What stands here is assumed until a drive has told its own."""

    current: float = 62.5e-6  # [s] current-loop tick
    velocity: float = 250e-6  # [s] velocity and position sample

    @classmethod
    def from_identity(cls, identity: Mapping[str, Any]) -> Self:
        """Return what a drive tells of itself.

        Raises
        ------
        ValueError
            The velocity sample is no whole number of ticks.
        """
        rates = cls(current=float(identity["current_period"]), velocity=float(identity["velocity_period"]))
        if rates.ticks < 1 or abs(rates.ticks * rates.current - rates.velocity) > 1e-9:
            raise ValueError("the velocity sample is no whole number of ticks")
        return rates

    @property
    def ticks(self) -> int:
        """Ticks to a velocity sample."""
        return round(self.velocity / self.current)


@dataclass(frozen=True, slots=True, kw_only=True)
class Sensor:
    """How the angle arrives: late, or through a tracking converter."""

    latency: float = 0.0  # [s] from sampling to arrival
    tracking: float = 0.0  # [rad/s] natural frequency of a tracking converter; 0: there is none

    @classmethod
    def from_drive(cls, values: Mapping[str, float]) -> Self:
        """Return the sensor of a full set of drive parameters."""
        device = values.get("feedback.device", 0.0)
        return cls(
            latency=values.get("feedback.word_latency", 0.0) if device == SERIAL else 0.0,
            tracking=2 * math.pi * values["feedback.resolver_bandwidth"] if device == RESOLVER else 0.0,
        )
