"""Inertia, friction and gravity from back-and-forth runs."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated

FloatArray = NDArray[np.float64]
SPAN = 20  # [samples] an equation covers: long against a resonance's period and the noise, short against a ramp


@dataclass(frozen=True, slots=True, kw_only=True)
class LoadEstimate:
    """What the motor turns, seen from its shaft."""

    inertia: Estimated  # [kg·m²]
    coulomb: Estimated  # [N·m]
    viscous: Estimated  # [N·m·s/rad]
    constant: Estimated  # [N·m] gravity; positive holds back forward motion
    residual: float  # [N·m] rms of what the model leaves

    def as_dict(self) -> dict[str, object]:
        """Return plain values."""
        keys = ("inertia", "coulomb", "viscous", "constant")
        return {**{k: getattr(self, k).as_dict() for k in keys}, "residual": self.residual}


def fit_load(position: FloatArray, torque: FloatArray, *, period: float, slow: float, span: int = SPAN) -> LoadEstimate:
    """Return the load by least squares on the integrated equation of motion.

    Parameters
    ----------
    position, torque : ndarray, shape (n,)
        Shaft angle [rad] and shaft torque from the measured current [N·m], sampled together.
    period : float
        Between samples. [s]
    slow : float
        Speed below which a span is left out: sticking and Stribeck friction are not in the model. [rad/s]
    span : int
        Samples per equation.

    Raises
    ------
    UnusableInput
        Too few spans moved fast enough, or only one way.

    Notes
    -----
    Over a span: mean torque = J (w_end - w_begin) / span time + Tc sign(w) + b mean(w) + Tg. Speeds at the ends
    are central differences of position over a span, so torque is averaged with the matching triangular weight; no
    derivative of a noisy signal is taken.
    """
    hop = span * period
    w = (position[span:] - position[:-span]) / hop  # mean speed of each span
    change = (w[span:] - w[:-span]) / hop  # over the triangle of two spans
    weights = np.convolve(np.ones(span), np.ones(span)) / span**2
    mean_torque = np.convolve(torque, weights, mode="valid")[: len(change)]
    mean_speed = 0.5 * (w[span:] + w[:-span])
    steady = (np.minimum(np.abs(w[span:]), np.abs(w[:-span])) > slow) & (w[span:] * w[:-span] > 0)
    pick = np.nonzero(steady)[0][:: max(1, span // 2)]
    if len(pick) < 20 or np.ptp(np.sign(mean_speed[pick])) < 1:
        raise UnusableInput(
            what="The axis moved too little, or one way only.",
            remedy="Allow more travel or a higher identification velocity.",
        )
    a = np.stack([change[pick], np.sign(mean_speed[pick]), mean_speed[pick], np.ones(len(pick))], axis=1)
    y = mean_torque[pick]
    scale = np.abs(a).max(0)
    solution, _, _, _ = np.linalg.lstsq(a / scale, y, rcond=None)
    rest = y - (a / scale) @ solution
    sigma2 = float(rest @ rest) / max(len(y) - 4, 1)
    std = np.sqrt(np.diag(np.linalg.inv((a / scale).T @ (a / scale))) * sigma2) / scale
    j, tc, b, tg = solution / scale
    return LoadEstimate(
        inertia=Estimated(float(j), float(std[0])),
        coulomb=Estimated(float(tc), float(std[1])),
        viscous=Estimated(float(b), float(std[2])),
        constant=Estimated(float(tg), float(std[3])),
        residual=math.sqrt(sigma2),
    )
