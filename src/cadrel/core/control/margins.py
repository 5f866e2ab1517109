"""Margins read from an open loop on a frequency grid."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from cadrel.core.control.filters import ComplexArray
from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Margins:
    """What a Bode plot is read for. None where it cannot be had; `reason` says why."""

    crossover_hz: float | None
    phase_margin: float | None  # [rad] smallest over all gain crossovers
    phase_crossover_hz: float | None
    gain_margin_db: float | None  # smallest over all crossings of -180° with |L| < 1
    sensitivity_peak: float
    sensitivity_peak_hz: float
    bandwidth_hz: float | None  # closed loop, -3 dB
    bandwidth_90_hz: float | None  # closed loop, -90°
    reason: str = ""

    def as_dict(self) -> dict[str, Any]:
        """Return plain values; angles in degrees."""
        return {
            "crossover_hz": self.crossover_hz,
            "phase_margin_deg": None if self.phase_margin is None else math.degrees(self.phase_margin),
            "phase_crossover_hz": self.phase_crossover_hz,
            "gain_margin_db": self.gain_margin_db,
            "sensitivity_peak": self.sensitivity_peak,
            "sensitivity_peak_hz": self.sensitivity_peak_hz,
            "bandwidth_hz": self.bandwidth_hz,
            "bandwidth_90_hz": self.bandwidth_90_hz,
            "reason": self.reason,
        }


def read_margins(loop: ComplexArray, frequency: FloatArray, *, closed_loop: ComplexArray | None = None) -> Margins:
    """Return the margins of an open loop.

    Parameters
    ----------
    loop : ndarray of complex, shape (n,)
        Open loop, negative feedback around it.
    frequency : ndarray, shape (n,)
        Rising. [Hz]
    closed_loop : ndarray of complex, shape (n,), optional
        For the bandwidth, where it is not L / (1 + L).

    Raises
    ------
    UnusableInput
        Shapes differ, fewer than three points, or the grid does not rise.

    Notes
    -----
    Between grid points the logarithm of magnitude and the unwrapped phase are linear in log frequency. Stability is
    not implied by margins: that is `poles.py`'s to say.
    """
    if loop.shape != frequency.shape or frequency.size < 3 or np.any(np.diff(frequency) <= 0):
        raise UnusableInput(what="Margins need one rising grid of three or more points.", remedy="Check the record.")
    x = np.log(frequency)
    gain = 20 * np.log10(np.maximum(np.abs(loop), 1e-12))
    phase = np.unwrap(np.angle(loop))
    crossings = _crossings(x, gain, 0.0)
    phase_margins = [abs(_wrap(np.interp(c, x, phase) + math.pi)) for c, _ in crossings]
    signed = [_wrap(np.interp(c, x, phase) + math.pi) for c, _ in crossings]
    worst = min(range(len(signed)), key=lambda i: phase_margins[i]) if signed else None
    gain_margin, at_phase = _gain_margin(x, gain, phase)
    s = 1 / np.abs(1 + loop)
    peak = int(np.argmax(s))
    t = loop / (1 + loop) if closed_loop is None else closed_loop
    return Margins(
        crossover_hz=float(np.exp(crossings[0][0])) if crossings else None,
        phase_margin=None if worst is None else float(signed[worst]),
        phase_crossover_hz=at_phase,
        gain_margin_db=gain_margin,
        sensitivity_peak=float(s[peak]),
        sensitivity_peak_hz=float(frequency[peak]),
        bandwidth_hz=_first_fall(x, 20 * np.log10(np.maximum(np.abs(t), 1e-12)), 20 * math.log10(math.sqrt(0.5))),
        bandwidth_90_hz=_first_fall(x, np.degrees(np.unwrap(np.angle(t))), -90.0),
        reason="" if crossings else "The open loop does not cross 0 dB in the measured range.",
    )


def _wrap(angle: float) -> float:
    return float((angle + math.pi) % (2 * math.pi) - math.pi)


def _crossings(x: FloatArray, y: FloatArray, level: float) -> list[tuple[float, bool]]:
    """Return abscissa and whether falling of every crossing of a level."""
    d = y - level
    at = np.nonzero((d[:-1] > 0) != (d[1:] > 0))[0]
    return [(float(x[i] + (x[i + 1] - x[i]) * d[i] / (d[i] - d[i + 1])), bool(d[i] > 0)) for i in at]


def _gain_margin(x: FloatArray, gain: FloatArray, phase: FloatArray) -> tuple[float | None, float | None]:
    """Smallest distance below 0 dB at any crossing of -180° (and its multiples of 360°)."""
    found: list[tuple[float, float]] = []
    turns = range(
        math.floor((phase.min() + math.pi) / (2 * math.pi)), math.ceil((phase.max() + math.pi) / (2 * math.pi)) + 1
    )
    for k in turns:
        for c, _ in _crossings(x, phase, -math.pi + 2 * math.pi * k):
            margin = -float(np.interp(c, x, gain))
            if margin > 0:
                found.append((margin, float(np.exp(c))))
    return min(found) if found else (None, None)


def _first_fall(x: FloatArray, y: FloatArray, level: float) -> float | None:
    falls = [c for c, falling in _crossings(x, y, level) if falling]
    return float(np.exp(falls[0])) if falls else None
