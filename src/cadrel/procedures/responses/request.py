"""What response is asked for: which loop, by which signal, on which lines."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal, Self

import numpy as np

from cadrel.core.control import LoopName, Rates
from cadrel.core.response import log_lines
from cadrel.core.response.estimate import IntArray

LOOPS: tuple[LoopName, ...] = ("current", "velocity", "position")  # by the argument `loop`
Signal = Literal["multisine", "sweep"]
SIGNALS: tuple[Signal, ...] = ("multisine", "sweep")  # by the argument `signal`
USUAL_PERIOD = 2048  # [samples]
MOST_PERIOD = 65536  # [samples] 16 s of the velocity loop
LEAST_DAMPING = 0.005  # of a resonance that is looked at closely
LINES_TO_A_WIDTH = 6.0  # in the half-power width of such a resonance
CLOSE, NEAR = 0.04, 0.25  # of its frequency: every line there is, and every fourth
BESIDE = 30  # lines of the rest, where one resonance is looked at
ROUNDED = 1024  # [samples] periods are whole multiples of
TOP = 0.45  # of the sampling rate, of the highest line


@dataclass(frozen=True, slots=True, kw_only=True)
class Request:
    """One response that is asked for."""

    loop: LoopName
    signal: Signal
    share: float  # rms of the excitation, of the continuous torque or current, or of the speed agreed to
    moving: bool  # measured in motion, both ways; else at standstill
    low: float  # [Hz]
    high: float  # [Hz]
    count: int  # lines
    amplitudes: int  # measured, each twice the one before
    louder: bool  # where friction and noise cover the answer of one amplitude
    around: float  # [Hz] a resonance to look at closely; 0: none

    @classmethod
    def from_arguments(cls, given: Mapping[str, float]) -> Self:
        """Return what a start was given; what is missing is as usual."""
        loop = LOOPS[round(given.get("loop", 1.0))]
        return cls(
            loop=loop,
            signal=SIGNALS[round(given.get("signal", 0.0))],
            share=given.get("amplitude", 100 * USUAL_SHARE[loop]) / 100,
            moving=bool(given.get("moving", 1.0)) and loop != "current",
            low=given.get("low", 20.0 if loop == "current" else 4.0),
            high=given.get("high", 5000.0 if loop == "current" else 1000.0),
            count=round(given.get("lines", 80.0)),
            amplitudes=round(given.get("amplitudes", 1.0)),
            louder=bool(given.get("louder", 1.0)),
            around=given.get("around", 0.0) if loop != "current" else 0.0,
        )

    def rate_hz(self, rates: Rates) -> float:
        """Samples a second, of excitation and record."""
        return 1 / (rates.current if self.loop == "current" else rates.velocity)

    def period(self, rates: Rates) -> int:
        """Samples of one period: long enough for the lines that are asked for."""
        rate = self.rate_hz(rates)
        spacing = 2 * LEAST_DAMPING * self.around / LINES_TO_A_WIDTH if self.around else 0.0
        needed = max(rate / spacing if spacing else 0.0, rate / self.low if not self.around else 0.0, USUAL_PERIOD)
        return min(ROUNDED * math.ceil(needed / ROUNDED), MOST_PERIOD)

    def lines(self, rates: Rates) -> IntArray:
        """Harmonics of the period: spread evenly in logarithm, and dense around a resonance."""
        period, rate = self.period(rates), self.rate_hz(rates)
        step = rate / period
        top = math.floor(TOP * period)
        first, last = max(1, round(self.low / step)), min(max(2, round(self.high / step)), top)
        spread = log_lines(first, max(last, first + 1), BESIDE if self.around else self.count)
        if not self.around:
            return spread
        close = np.arange(math.ceil((1 - CLOSE) * self.around / step), math.floor((1 + CLOSE) * self.around / step) + 1)
        near = np.arange(math.ceil((1 - NEAR) * self.around / step), math.floor((1 + NEAR) * self.around / step), 4)
        found = np.unique(np.concatenate([spread, close, near])).astype(np.int64)
        return np.asarray(found[(found >= 1) & (found <= top)])


USUAL_SHARE: dict[LoopName, float] = {"current": 0.07, "velocity": 0.13, "position": 0.05}
