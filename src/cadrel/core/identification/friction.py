"""Friction over speed: what holds, what is left of it once the axis slides, and what grows with speed."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import nnls

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated
from cadrel.core.parameters import field_of

FloatArray = NDArray[np.float64]
FEWEST = 4  # speeds from which a curve is fitted
FIGURES = 4  # of the curve
SLOWER, FASTER, SPEEDS_TRIED = 0.1, 2.0, 150  # Stribeck speeds, over the slowest and the fastest measured; and how many
KNOWN = 0.5  # deviation of its logarithm, from which on a Stribeck speed is not told
CLEAR = 2.0  # deviations by which breakaway stands above sliding, or it is not named


@dataclass(frozen=True, slots=True, kw_only=True)
class FrictionCurve:
    """Friction of everything that moves, at the motor; both ways alike."""

    sliding: Estimated  # [N·m] Coulomb's, past the Stribeck speed
    viscous: Estimated  # [N·m·s/rad]
    breakaway: Estimated | None  # [N·m]; None: not above sliding by more than its doubt
    stribeck_speed: Estimated | None  # [rad/s] at which 1/e of what breakaway is more is left; None: not seen to fade

    def at(self, speed: FloatArray) -> FloatArray:
        """Return the friction's size at speeds, whose sign does not matter. [rad/s] -> [N·m]"""
        v = np.abs(speed)
        found = self.sliding.value + self.viscous.value * v
        if self.breakaway is not None and self.stribeck_speed is not None:
            more = self.breakaway.value - self.sliding.value
            found = found + more * np.exp(-((v / self.stribeck_speed.value) ** 2))
        return np.asarray(found, dtype=np.float64)


def fit_friction(
    speed: FloatArray, torque: FloatArray, std: FloatArray, *, breakaway: Estimated | None = None,
    uneven: FloatArray | None = None,
) -> FrictionCurve:  # fmt: skip
    """Return the curve through the friction measured at some constant speeds.

    Parameters
    ----------
    speed, torque, std : ndarray, shape (n,)
        Speeds above zero [rad/s]; half the difference of the torques of both ways, and its deviation [N·m].
    breakaway : Estimated, optional
        What held the axis at rest, measured by itself.
    uneven : ndarray, shape (n,), optional
        Standard deviation of the speed itself at each point. [rad/s] Where friction changes with speed, a speed that
        is not constant makes its mean another one: half of the slope times that is doubt of the torque.

    Raises
    ------
    UnusableInput
        There are fewer than four speeds.

    Notes
    -----
    T(v) = Tc + (Ts - Tc) exp(-(v/vs)²) + B v (C. Canudas de Wit, H. Olsson, K. J. Åström, P. Lischinsky, IEEE Trans.
    Automatic Control 40 (1995) 419-425, from memory). For every vs the rest is linear, none of it below nought (C. L.
    Lawson, R. J. Hanson, Solving Least Squares Problems, 1974; SciPy's). All vs on a grid are tried, from far below the
    slowest speed to beyond the fastest, and each counts by its likelihood: what the speeds do not tell apart is doubt
    of every figure (model averaging: J. A. Hoeting and others, Statistical Science 14 (1999) 382-417, from memory).
    """
    if len(speed) < FEWEST:
        raise UnusableInput(
            what=f"Friction was measured at {len(speed)} speeds.",
            remedy=f"{FEWEST} are needed: raise {field_of('procedure.travel')} or {field_of('procedure.velocity')}.",
        )
    found = _fitted(speed, torque, std, breakaway)
    if uneven is None:
        return found
    step = 1e-3 * speed
    slope = (found.at(speed + step) - found.at(speed - step)) / (2 * step)
    return _fitted(speed, torque, np.hypot(std, 0.5 * slope * uneven), breakaway)


def _fitted(speed: FloatArray, torque: FloatArray, std: FloatArray, breakaway: Estimated | None) -> FrictionCurve:
    v, y, w = speed, torque, 1 / np.maximum(std, 1e-12)
    if breakaway is not None:
        v, y = np.append(v, 0.0), np.append(y, breakaway.value)
        w = np.append(w, 1 / max(breakaway.std, 1e-12))
    grid = np.geomspace(SLOWER * float(speed.min()), FASTER * float(speed.max()), SPEEDS_TRIED)
    found, doubt, left = np.empty((len(grid), 3)), np.empty((len(grid), 3, 3)), np.empty(len(grid))
    for k, vs in enumerate(grid):
        a = np.stack([np.ones_like(v), v, np.exp(-((v / vs) ** 2))], axis=1) * w[:, None]
        scale = np.maximum(np.linalg.norm(a, axis=0), 1e-12)
        x, residual = nnls(a / scale, y * w)
        found[k], left[k] = x / scale, residual**2
        used = np.array([True, True, x[2] > 0.0])  # what is nought because it may not be less is no surer for that
        doubt[k] = 0.0
        doubt[k][np.ix_(used, used)] = np.linalg.pinv(a[:, used].T @ a[:, used])
    grown = max(float(left.min()) / max(len(v) - FIGURES, 1), 1.0)
    share = np.exp(-0.5 * (left - left.min()) / grown)
    share /= share.sum()

    def averaged(values: FloatArray, variance: FloatArray) -> Estimated:
        mean = float(share @ values)
        return Estimated(mean, float(np.sqrt(share @ (grown * variance + (values - mean) ** 2))))

    rise = averaged(found[:, 2], doubt[:, 2, 2])
    held = averaged(found[:, 0] + found[:, 2], doubt[:, 0, 0] + doubt[:, 2, 2] + 2 * doubt[:, 0, 2])
    fades = averaged(np.log(grid), np.zeros(len(grid)))
    rises = rise.value > CLEAR * rise.std
    vs = float(np.exp(fades.value))
    return FrictionCurve(
        sliding=averaged(found[:, 0], doubt[:, 0, 0]),
        viscous=averaged(found[:, 1], doubt[:, 1, 1]),
        breakaway=held if rises else None,
        stribeck_speed=Estimated(vs, vs * fades.std) if rises and fades.std < KNOWN else None,
    )


def friction_both_ways(
    forward: tuple[FloatArray, FloatArray], back: tuple[FloatArray, FloatArray], *, parts: int = 4
) -> tuple[Estimated, Estimated]:
    """Return friction and constant torque of one speed, from both ways over the same stretch.

    Parameters
    ----------
    forward, back : (position, torque), each of shape (n,)
        At constant speed, forward and back. [rad], [N·m]
    parts : int
        Pieces of the stretch, whose scatter is the doubt.

    Raises
    ------
    UnusableInput
        The ways share no stretch.

    Notes
    -----
    What depends on the place - cogging, a load out of balance - is there both ways with the same sign, and falls out of
    half the difference; friction is what changes sign. Each place counts alike, however long the axis took there.
    """
    low = max(float(forward[0].min()), float(back[0].min()))
    high = min(float(forward[0].max()), float(back[0].max()))
    if not high > low:
        raise UnusableInput(
            what="The ways there and back share no stretch.", remedy=f"Raise {field_of('procedure.travel')}."
        )
    edges = np.linspace(low, high, 8 * parts + 1)
    halves = []
    for position, torque in (forward, back):
        count, _ = np.histogram(position, edges)
        total, _ = np.histogram(position, edges, weights=torque)
        halves.append(np.where(count > 0, total / np.maximum(count, 1), np.nan))
    half, mean = 0.5 * (halves[0] - halves[1]), 0.5 * (halves[0] + halves[1])
    seen = np.isfinite(half)
    if np.count_nonzero(seen) < 2 * parts:
        raise UnusableInput(
            what="Too little of the stretch was seen both ways.", remedy=f"Raise {field_of('procedure.travel')}."
        )
    return _scattered(half[seen], parts), _scattered(mean[seen], parts)


def _scattered(values: FloatArray, parts: int) -> Estimated:
    """Mean, and its deviation from the scatter of parts: neighbours are alike, parts less so."""
    means = np.array([part.mean() for part in np.array_split(values, parts)])
    return Estimated(float(values.mean()), float(means.std(ddof=1) / np.sqrt(parts)))
