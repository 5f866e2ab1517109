"""Friction over speed: what holds, what is left of it once the axis slides, and what grows with speed."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated
from cadrel.core.parameters import field_of

FloatArray = NDArray[np.float64]
FEWEST = 4  # speeds from which a curve is fitted
SPEEDS_TRIED = 120  # of the Stribeck speed, between the slowest and the fastest measured
WIDER = f"Raise {field_of('procedure.travel')}."
LATEST = 0.2  # of the fastest speed, at which breakaway has faded to 1/e
SEEN, FEWEST_BENT = 2.0, 2  # times the Stribeck speed, below which so many speeds must lie
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
    Automatic Control 40 (1995) 419-425, from memory). For every vs the rest is linear: all are tried on a grid, and the
    least weighted residual is taken. Deviations are those of the linearised fit with vs among its figures, grown where
    the residual is larger than the points' own. Where the rise towards rest does not stand out, or no speeds show how
    it fades, Tc and B are fitted alone and breakaway is what was measured.
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
    curved = _curved(v, y, w, float(speed.min()), float(speed.max()))
    if curved is not None:
        return curved
    # The rest is what slides: breakaway then is one more doubt, not a point.
    n = len(speed)
    a = np.stack([np.ones(n), v[:n]], axis=1)
    found, cov = _weighted(a, y[:n], w[:n])
    sliding = Estimated(float(found[0]), float(np.sqrt(cov[0, 0])))
    if breakaway is not None and not breakaway.value - sliding.value > CLEAR * np.hypot(breakaway.std, sliding.std):
        breakaway = None
    return FrictionCurve(
        sliding=sliding, viscous=Estimated(float(found[1]), float(np.sqrt(cov[1, 1]))), breakaway=breakaway,
        stribeck_speed=None,
    )  # fmt: skip


def _curved(v: FloatArray, y: FloatArray, w: FloatArray, slowest: float, fastest: float) -> FrictionCurve | None:
    """The fit with a Stribeck speed; None where breakaway does not stand out."""
    if len(v) < FEWEST + 1:
        return None
    best: tuple[float, float, FloatArray] | None = None
    latest = LATEST * fastest  # what fades over most of the range is not told from what grows with speed
    if not latest > 0.5 * slowest:
        return None
    for vs in np.geomspace(0.5 * slowest, latest, SPEEDS_TRIED):
        a = np.stack([np.ones_like(v), v, np.exp(-((v / vs) ** 2))], axis=1)
        found, *_ = np.linalg.lstsq(a * w[:, None], y * w, rcond=None)
        left = float((((a @ found - y) * w) ** 2).sum())
        if best is None or left < best[0]:
            best = (left, float(vs), np.asarray(found, dtype=np.float64))
    assert best is not None
    _, vs, found = best
    measured = v[v > 0.0]
    if vs >= 0.999 * latest or np.count_nonzero(measured < SEEN * vs) < FEWEST_BENT:
        return None  # it fades later than that, or below the slowest speed at which the axis turned evenly
    bend = np.exp(-((v / vs) ** 2))
    slopes = np.stack([np.ones_like(v), v, bend, found[2] * bend * 2 * v**2 / vs**3], axis=1)
    _, cov = _weighted(slopes, slopes @ np.array([*found, 0.0]), w, left=best[0])
    std = np.sqrt(np.diag(cov))
    if not found[2] > CLEAR * std[2]:
        return None
    held = float(found[0] + found[2])
    return FrictionCurve(
        sliding=Estimated(float(found[0]), float(std[0])),
        viscous=Estimated(float(found[1]), float(std[1])),
        breakaway=Estimated(held, float(np.sqrt(max(cov[0, 0] + cov[2, 2] + 2 * cov[0, 2], 0.0)))),
        stribeck_speed=Estimated(vs, float(std[3])),
    )


def _weighted(
    a: FloatArray, y: FloatArray, w: FloatArray, *, left: float | None = None
) -> tuple[FloatArray, FloatArray]:
    """Weighted least squares and its covariance, grown where the residual is larger than the points' own doubt."""
    found, *_ = np.linalg.lstsq(a * w[:, None], y * w, rcond=None)
    residual = float((((a @ found - y) * w) ** 2).sum()) if left is None else left
    free = max(len(y) - a.shape[1], 1)
    cov = np.linalg.pinv((a * w[:, None]).T @ (a * w[:, None])) * max(residual / free, 1.0)
    return np.asarray(found, dtype=np.float64), np.asarray(cov, dtype=np.float64)


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
