"""One resonance, seen closely: its frequency and damping from the lines of a response around it."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated
from cadrel.core.response import FrequencyResponse

FloatArray = NDArray[np.float64]
SMOOTHED, LEAST_STD = 9, 1e-4  # lines; of the value
FEWEST = 8  # lines that a mode is fitted to
WIDTHS = 6.0  # half-power widths to either side that count


@dataclass(frozen=True, slots=True, kw_only=True)
class Mode:
    """A resonance."""

    frequency: Estimated  # [Hz] undamped
    damping: Estimated  # ratio to critical
    lines: int  # within its half-power width

    @property
    def width(self) -> float:
        """Half-power width. [Hz]"""
        return 2 * self.damping.value * self.frequency.value


def fit_mode(response: FrequencyResponse, *, near: float) -> Mode:
    """Return the resonance that the lines around a frequency show.

    Parameters
    ----------
    response : FrequencyResponse
        With lines dense enough: several within the half-power width.
    near : float
        Of its peak; the width of that is where the damping begins. [Hz]

    Raises
    ------
    UnusableInput
        Too few lines lie around it, or they show no resonance.

    Notes
    -----
    Close to a lightly damped mode a response is one pole pair with a complex residue beside a background that hardly
    changes: G(f) = (a + b (f - f0)) / (f0² - f² + 2 i zeta f0 f) + c + d (f - f0), all of a to d complex, whatever
    delay and filters lie in the path (modal analysis; D. J. Ewins, Modal Testing, ch. 4, from memory). Linear in a to
    d, so only f0 and zeta are searched. Weighted by the stated std; their own std from the Jacobian, scaled by the
    misfit where that is larger than the noise.
    """
    f0, zeta = near, _damping_of_peak(response, near)
    found = None
    wide = WIDTHS * 2 * zeta * f0  # by the peak's width; once by what was found, but not much narrower
    for _ in range(2):
        span = max(WIDTHS * 2 * zeta * f0, 0.5 * wide, 0.004 * f0)
        away = np.abs(response.frequency - f0)
        keep = away <= max(span, float(np.sort(away)[: FEWEST + 2][-1]))
        f, value = response.frequency[keep], response.value[keep]
        std = _smoothed(response.std[keep] / np.maximum(np.abs(value), 1e-300)) * np.abs(value)
        if len(f) < FEWEST:
            break
        found = _fit(f, value, std, f0, zeta)
        f0, zeta = found[0], found[1]
    if found is None or not f.min() < f0 < f.max() or not 0 < zeta < 0.5:
        raise UnusableInput(
            what=f"Around {near:.4g} Hz the lines show no resonance.", remedy="Measure with lines dense around it."
        )
    f0, zeta, std_f, std_z = found
    within = int(np.count_nonzero(np.abs(f - f0) <= zeta * f0))
    return Mode(frequency=Estimated(f0, std_f), damping=Estimated(zeta, std_z), lines=within)


def _damping_of_peak(response: FrequencyResponse, near: float) -> float:
    """Half of the half-power width over the frequency, from the nearest lines that lie below it on either side."""
    size = np.abs(response.value)
    top = int(np.argmin(np.abs(response.frequency - near)))
    below = np.nonzero(size < size[top] / math.sqrt(2))[0]
    left, right = below[below < top], below[below > top]
    low = response.frequency[left[-1]] if len(left) else response.frequency[0]
    high = response.frequency[right[0]] if len(right) else response.frequency[-1]
    return float(np.clip(0.5 * (high - low) / near, 1e-4, 0.2))


def _smoothed(relative: FloatArray) -> FloatArray:
    """Std over value, smoothed over neighbouring lines: of two or three passes a single one may come out at nothing."""
    padded = np.pad(relative**2, SMOOTHED // 2, mode="edge")
    return np.maximum(np.sqrt(np.convolve(padded, np.full(SMOOTHED, 1 / SMOOTHED), mode="valid")), LEAST_STD)


def _fit(
    f: FloatArray, value: NDArray[np.complex128], std: FloatArray, f0: float, zeta: float
) -> tuple[float, float, float, float]:
    """Frequency and damping with their std, by separable least squares."""
    w = 1 / std

    def left(p: FloatArray) -> FloatArray:
        centre, damped = f0 * math.exp(p[0]), zeta * math.exp(p[1])
        pole = 1 / (centre**2 - f**2 + 2j * damped * centre * f)
        off = (f - centre) / centre
        basis = np.stack([pole, off * pole, np.ones_like(f), off.astype(complex)], axis=1) * w[:, None]
        scale = np.abs(basis).max(0)
        weights, *_ = np.linalg.lstsq(basis / scale, value * w, rcond=None)
        rest = value * w - (basis / scale) @ weights
        return np.concatenate([rest.real, rest.imag])

    limits = ([-0.05, math.log(0.05)], [0.05, math.log(20.0)])
    solved = least_squares(left, [0.0, 0.0], bounds=limits, x_scale=[1e-3, 0.3])
    freedom = max(2 * len(f) - 10, 1)
    # Each line's std is that of a complex value: half of its square to each part.
    misfit = max(1.0, 2 * float(solved.fun @ solved.fun) / freedom)
    cov = np.linalg.pinv(solved.jac.T @ solved.jac) * 0.5 * misfit
    centre, damped = f0 * math.exp(solved.x[0]), zeta * math.exp(solved.x[1])
    return centre, damped, centre * math.sqrt(cov[0, 0]), damped * math.sqrt(cov[1, 1])
