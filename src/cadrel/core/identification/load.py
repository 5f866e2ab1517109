"""Inertia, friction and gravity from back-and-forth runs."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.along import MOST_ORDERS, Along
from cadrel.core.identification.estimated import Estimated
from cadrel.core.motor import Motor
from cadrel.core.parameters import field_of

FloatArray = NDArray[np.float64]
SURE = 3.0  # deviations by which the bend of the acceleration must take part, as a spring makes it
CORNER = 0.3  # of its own size: how far the commanded acceleration may bend over a span; at a corner it is all of it
LEFT = 1.5  # of what that changes in the inertia is doubt: the series goes on, in terms as large on soft springs
EARNS = 2.0  # times the logarithm of the equations, by which each further unknown must lower that of the misfit
SHOWS = 0.2  # of what is left of the torque, that an order must take to be one
# Of what rubs at a run's mean speed, that viscous friction is likely to make at its top speed, rms (common practice).
# It says little but where speeds lie too near to each other to tell viscous friction from Coulomb's.
VISCOUS = 0.5
# [s] rms from the middle of the PWM period, within which drives read currents (common practice).
SAMPLED_WITHIN = 0.2e-6
SPAN = 40  # [samples] an equation covers: long against the noise, short against a ramp


@dataclass(frozen=True, slots=True, kw_only=True)
class LoadEstimate:
    """What the motor turns, seen from its shaft."""

    inertia: Estimated  # [kg·m²]
    coulomb: Estimated  # [N·m]
    viscous: Estimated  # [N·m·s/rad]
    constant: Estimated  # [N·m] gravity; positive holds back forward motion
    residual: float  # [N·m] rms of what the model leaves
    spans: int = 0  # that it rests on

    def as_dict(self) -> dict[str, object]:
        """Return plain values."""
        keys = ("inertia", "coulomb", "viscous", "constant")
        return {**{k: getattr(self, k).as_dict() for k in keys}, "residual": self.residual}


def fit_load(
    position: FloatArray, torque: FloatArray, command: FloatArray, *, period: float, slow: float, span: int = SPAN
) -> LoadEstimate:
    """Return the load from the integrated equation of motion, the commanded speed as instrument.

    Parameters
    ----------
    position, torque : ndarray, shape (n,)
        Shaft angle [rad] and shaft torque from the measured current [N·m], sampled together.
    command : ndarray, shape (n,)
        Commanded speed, which knows nothing of noise and of a shaft that swings. [rad/s]
    period : float
        Between samples. [s]
    slow : float
        Speed, measured and commanded, below which a span is left out: sticking and Stribeck friction are not in the
        model. [rad/s]
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

    Where motor and load swing against each other, the motor accelerates without torque; least squares would read that
    as less inertia. The same terms made of the command, which does not swing, are orthogonal to it: with instruments Z,
    Z' A x = Z' y [1]_.

    Friction changes along the way, by a tenth or more, and magnets and slots push and pull as many times a turn; ramps
    that always lie at the same places read that as inertia. Where they show, they are fitted too (`along.py`).

    A load on a soft spring follows the motor's acceleration late and further: torque = J a - (J2²/k) a'' + ..., to the
    first order in what the spring does. Without the second term that would be read as more inertia. It is fitted too,
    and kept where the command is smooth and the term is surely there, with the sign a spring gives it.

    What is known of friction beforehand, that viscous friction is hardly more than half of it, is one equation more,
    taken up as a Kalman filter takes up an observation [2]_.

    References
    ----------
    .. [1] L. Ljung, System Identification: Theory for the User, 2nd ed., 1999, section 7.6 (from memory).
    .. [2] R. E. Kalman, Journal of Basic Engineering 82 (1960) 35-45 (from memory).
    """
    change, speed, usable = _terms(position, period, span, slow)
    meant = np.concatenate([[0.0], np.cumsum(command)[:-1]]) * period
    change_meant, speed_meant, usable_meant = _terms(meant, period, span, slow)
    weights = np.convolve(np.ones(span), np.ones(span)) / span**2
    mean_torque = np.convolve(torque, weights, mode="valid")[: len(change)]
    pick = np.nonzero(usable & usable_meant & (speed * speed_meant > 0))[0][:: max(1, span // 2)]
    if len(pick) < 20 or np.ptp(np.sign(speed[pick])) < 1:
        raise UnusableInput(
            what="The axis moved too little, or one way only.",
            remedy=f"Raise {field_of('procedure.travel')} or {field_of('procedure.velocity')}.",
        )
    equations, meant_equations = _equations(change, speed, pick), _equations(change_meant, speed_meant, pick)

    def solved(along: Along) -> _Solved:
        more = along.columns(pick, np.sign(speed[pick]))
        return _solved(np.hstack([equations, more]), np.hstack([meant_equations, more]), mean_torque[pick])

    top, middle = float(np.abs(command).max()), float(np.abs(speed[pick]).mean())
    along, best = _along(Along(position, span), solved, pick)
    found, sigma2 = _rubbing_as_usual(best, top, middle)[:4], best.sigma2
    inner = pick[(pick >= span) & (pick < len(change) - span)]
    bend, meant_bend = (_bend(c, inner, span, period)[:, None] for c in (change, change_meant))
    if np.abs(meant_bend).max() * (span * period) ** 2 < CORNER * np.abs(change_meant[inner]).max():
        more = along.columns(inner, np.sign(speed[inner]))
        bent = _solved(
            np.hstack([_equations(change, speed, inner), bend, more]),
            np.hstack([_equations(change_meant, speed_meant, inner), meant_bend, more]),
            mean_torque[inner],
        )
        springy, less = _rubbing_as_usual(bent, top, middle), bent.sigma2
        if springy[4].value < -SURE * springy[4].std:
            apart = abs(springy[0].value - found[0].value)
            springy[0] = Estimated(springy[0].value, math.hypot(springy[0].std, LEFT * apart))
            found, sigma2 = springy[:4], less
    return LoadEstimate(
        inertia=found[0], coulomb=found[1], viscous=found[2], constant=found[3], residual=math.sqrt(sigma2),
        spans=len(pick),
    )  # fmt: skip


class _Solved(NamedTuple):
    values: list[Estimated]
    covariance: FloatArray  # of them
    sigma2: float  # of what is left
    rest: FloatArray


def _along(
    along: Along, solved: Callable[[Along], _Solved], pick: NDArray[np.int64]
) -> tuple[Along, _Solved]:  # fmt: skip
    """Return what changes along the way as far as it shows: harmonics of the turn one by one, then friction."""
    best = solved(along)

    def earns(other: _Solved) -> bool:
        unknowns = len(other.values) - len(best.values)
        return len(pick) * math.log(best.sigma2 / other.sigma2) > EARNS * unknowns * math.log(len(pick))

    for _ in range(MOST_ORDERS):
        order = along.strongest(best.rest, pick)
        if order is None:
            break
        tried = replace(along, orders=(*along.orders, order))
        other = solved(tried)
        # A shaft that swings looks like a little of some order.
        if not earns(other) or other.sigma2 > (1 - SHOWS) * best.sigma2:
            break
        along, best = tried, other
    tried = replace(along, wavy=True)
    other = solved(tried)
    return (tried, other) if earns(other) else (along, best)


def _solved(a: FloatArray, z: FloatArray, y: FloatArray) -> _Solved:
    """Solve Z' A x = Z' y; return the values with their deviations, and what is left."""
    scale = np.abs(a).max(0)
    gain = np.linalg.inv(z.T @ (a / scale)) @ z.T
    solution = gain @ y
    rest = y - (a / scale) @ solution
    sigma2 = float(rest @ rest) / max(len(y) - a.shape[1], 1)
    covariance = gain @ gain.T * sigma2 / np.outer(scale, scale)
    return _Solved(_with_std(solution / scale, covariance), covariance, sigma2, rest)


def _with_std(values: FloatArray, covariance: FloatArray) -> list[Estimated]:
    return [
        Estimated(float(v), math.sqrt(max(float(c), 0.0))) for v, c in zip(values, np.diag(covariance), strict=True)
    ]


def _rubbing_as_usual(solved: _Solved, top: float, middle: float) -> list[Estimated]:
    """Return the unknowns with one observation more: no viscous torque at a `top` speed, give or take `VISCOUS`.

    That of what rubs at a `middle` speed, which is known where neither share of it is. [rad/s]
    """
    values = np.array([v.value for v in solved.values])
    rubs = abs(values[1] + values[2] * middle)
    usual = VISCOUS * rubs / top  # [N·m·s/rad]
    gain = solved.covariance[:, 2] / (solved.covariance[2, 2] + usual**2)
    return _with_std(values - gain * values[2], solved.covariance - np.outer(gain, solved.covariance[2]))


def _bend(change: FloatArray, pick: NDArray[np.int64], span: int, period: float) -> FloatArray:
    """Second derivative of the acceleration over three spans. [rad/s⁴]"""
    return (change[pick + span] - 2 * change[pick] + change[pick - span]) / (span * period) ** 2


def _terms(
    position: FloatArray, period: float, span: int, slow: float
) -> tuple[FloatArray, FloatArray, NDArray[np.bool_]]:
    """Acceleration and mean speed over two spans, and where both moved fast enough and the same way."""
    hop = span * period
    w = (position[span:] - position[:-span]) / hop
    before, after = w[:-span], w[span:]
    usable = (np.minimum(np.abs(before), np.abs(after)) > slow) & (before * after > 0)
    return (after - before) / hop, 0.5 * (after + before), usable


def _equations(change: FloatArray, speed: FloatArray, pick: NDArray[np.int64]) -> FloatArray:
    return np.stack([change[pick], np.sign(speed[pick]), speed[pick], np.ones(len(pick))], axis=1)


def viscous_of_sampling(motor: Motor) -> float:
    """Return the std of viscous friction that comes of when currents are read. [N·m·s/rad]

    Beside the middle of the PWM period the ripple is read with them, which grows with the back-EMF: torque that is not
    there, in proportion to the speed. Friction that is read off the current cannot be told from it.
    """
    emf = motor.pole_pairs * motor.flux_linkage
    return motor.torque_constant * emf / motor.inductance * SAMPLED_WITHIN
