"""Resistance, inductance and flux linkage from what the drive recorded."""

import math

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated
from cadrel.core.parameters import field_of
from cadrel.core.response.estimate import FrequencyResponse

FloatArray = NDArray[np.float64]
MOST_BESIDE = math.radians(30)  # a shaft further off does not follow the vector at all
WIDE = 4.0  # a search goes to exp(4) times its start either way
# Of the flux, beside what scatters: it was found 0.17 to 0.2 % too low, medians, on 400 axes drawn; why is not known.
FLUX_DOUBT = 0.0015
INDEPENDENT = 12  # moments of a run whose residuals are strangers: its strokes, both ways
ROUGHLY = 0.5  # share within which an inductance entered from a sheet, which may be that of two phases, is taken to be
KNEES = (0.003, 0.01, 0.03, 0.1, 0.3)  # of the largest current: where the dead time's voltage bends


def resistance_from_levels(current: FloatArray, voltage: FloatArray) -> Estimated:
    """Return the resistance from current levels of one sign. [ohm]

    Parameters
    ----------
    current, voltage : ndarray, shape (n,)
        Means at each level. [A], [V]

    Raises
    ------
    UnusableInput
        Fewer than four levels, or all alike.

    Notes
    -----
    v = R i + U (f(i) + f(i / 2)): one phase carries the current, two return half of it each, and dead time shifts large
    currents alike, small ones less. Voltage over current would read the shift as resistance, a straight line through
    the levels its bend. Which f an inverter follows is not known: every law of `LAWS` is tried with every i0, and
    weighs by how well it fits; what they differ by is part of the doubt, and so is what leaving out a level changes.
    """
    if len(current) < 4 or np.ptp(current) < 1e-6:
        raise UnusableInput(what="The current levels do not differ.", remedy="Use four or more levels.")
    whole = _resistance(current, voltage)
    if len(current) < 5:
        return whole
    without = [_resistance(np.delete(current, k), np.delete(voltage, k)).value for k in (0, len(current) - 1)]
    apart = max(abs(value - whole.value) for value in without)
    return Estimated(whole.value, math.hypot(whole.std, 0.5 * apart))


def _resistance(current: FloatArray, voltage: FloatArray) -> Estimated:
    largest = float(np.abs(current).max())
    fits = [
        _beside_dead_time(current, law(current / knee) + law(current / (2 * knee)), voltage)
        for law in LAWS
        for knee in largest * np.geomspace(2e-4, 0.3, 24)
    ]
    return _weighed(fits, len(current))


def _hyperbola(x: FloatArray) -> FloatArray:
    return x / (np.abs(x) + 1.0)


def _arctangent(x: FloatArray) -> FloatArray:
    return 2.0 / math.pi * np.arctan(x)


def _exponential(x: FloatArray) -> FloatArray:
    return np.copysign(1.0 - np.exp(-np.abs(x)), x)


def _clipped(x: FloatArray) -> FloatArray:
    return np.clip(x, -1.0, 1.0)


# How the voltage that dead time loses may grow with the current, from steep to flat; odd, and 1 at large currents.
LAWS = (_hyperbola, np.tanh, _arctangent, _exponential, _clipped)


def _weighed(fits: list[tuple[float, Estimated]], n: int) -> Estimated:
    """Mean of estimates by how likely each fit's residual is; what they differ by is part of the doubt."""
    variances = np.array([max(variance, 1e-30) for variance, _ in fits])
    weight = (variances / variances.min()) ** (-n / 2)
    weight /= weight.sum()
    values, stds = np.array([e.value for _, e in fits]), np.array([e.std for _, e in fits])
    mean = float(weight @ values)
    return Estimated(mean, math.sqrt(float(weight @ (stds**2 + (values - mean) ** 2))))


def _beside_dead_time(x: FloatArray, dead: FloatArray, y: FloatArray) -> tuple[float, Estimated]:
    """Fit y = k x + U dead; return the residual's variance and k."""
    a = np.stack([x, dead], axis=1)
    scale = np.abs(a).max(0)
    solution, _, _, _ = np.linalg.lstsq(a / scale, y, rcond=None)
    rest = y - (a / scale) @ solution
    sigma2 = float(rest @ rest) / max(len(y) - 3, 1)
    std = math.sqrt(sigma2 * np.linalg.inv((a / scale).T @ (a / scale))[0, 0]) / scale[0]
    return sigma2, Estimated(float(solution[0] / scale[0]), std)


def fit_admittance(response: FrequencyResponse, *, tick: float, moves: bool = False) -> tuple[Estimated, Estimated]:
    """Return resistance and inductance from a measured voltage -> current response at the tick. [ohm], [H]

    `tick` is the period of the current loop. [s]

    Notes
    -----
    Model, exact for a held voltage that acts one tick late: z^-1 (1 - a) z^-1 / (R (1 - a z^-1)),
    a = exp(-T R / L). Resistance from this is less sure than from levels, dead time acts on it; inductance is not
    affected, the current being biased away from zero. If the rotor `moves` under the current (it does in q), its
    back-EMF is in series like a capacitor, m / s, and is fitted too: it would be read as less inductance.
    """
    use = response.trusted(0.95)
    if len(use.frequency) < 4:
        raise UnusableInput(
            what="The current answered too weakly.",
            remedy="Check the motor's terminals and the entered inductance: the excitation follows from it.",
        )
    s = 2j * np.pi * use.frequency
    z = np.exp(-s * tick)

    def model(p: FloatArray) -> NDArray[np.complex128]:
        r, ind = np.exp(p[:2])
        a = math.exp(-tick * r / ind)
        still = z * (1 - a) / r * z / (1 - a * z)
        return still / (1 + np.exp(p[2]) / s / (r + s * ind)) if moves else still

    def misfit(p: FloatArray) -> FloatArray:
        error = np.log(model(p) / use.value)
        return np.concatenate([error.real, error.imag])

    high = np.abs(use.value[-1]) * 2 * np.pi * use.frequency[-1]
    start = np.log([1 / np.abs(use.value[0]), 1 / high])
    if moves:
        start = np.append(start, math.log(0.05 * float(np.abs(s[0])) / abs(use.value[0])))
    fit = least_squares(misfit, start, bounds=(start - WIDE, start + WIDE))
    free = max(fit.fun.size - len(start), 1)
    covariance = np.linalg.pinv(fit.jac.T @ fit.jac) * float(fit.fun @ fit.fun) / free
    r, ind = np.exp(fit.x[:2])
    return (
        Estimated(float(r), float(r * math.sqrt(covariance[0, 0]))),
        Estimated(float(ind), float(ind * math.sqrt(covariance[1, 1]))),
    )


def flux_from_spinning(
    omega_el: FloatArray,
    v_q: FloatArray,
    i_d: FloatArray,
    i_q: FloatArray,
    i_q_slope: FloatArray,
    *,
    resistance: float,
    inductance: float,
) -> Estimated:
    """Return the flux linkage from steady speeds in both directions. [Wb]

    Parameters
    ----------
    omega_el, v_q, i_d, i_q, i_q_slope : ndarray, shape (n,)
        Electrical speed [rad/s], means of the dq values at each speed, and the slope of i_q [A/s].
    resistance, inductance : float
        For the shares that are not back-EMF. [ohm], [H]

    Notes
    -----
    v_q = w psi + R i_q + L di_q/dt + w L i_d + dead time, which follows the current by one of `LAWS`; law and i0 are
    weighed by how well they fit. Neighbouring moments share what the model leaves: as many count as independent as
    there are strokes, about `INDEPENDENT`.
    """
    if len(omega_el) < 8 or np.ptp(np.sign(omega_el)) < 1:
        raise UnusableInput(
            what="Flux needs two speeds in each direction.",
            remedy=f"Raise {field_of('procedure.travel')} or {field_of('procedure.velocity')}.",
        )
    y = v_q - resistance * i_q - inductance * i_q_slope - omega_el * inductance * i_d
    largest = float(np.abs(i_q).max())
    fits = [_beside_dead_time(omega_el, law(i_q / (share * largest)), y) for law in LAWS for share in KNEES]
    found = _weighed(fits, INDEPENDENT)
    std = found.std * math.sqrt(max(len(omega_el) / INDEPENDENT, 1.0))
    return Estimated(found.value, math.hypot(std, FLUX_DOUBT * found.value))


def angle_error_from_spinning(
    omega_el: FloatArray, v_d: FloatArray, i_q: FloatArray, *, flux_linkage: float, inductance: float
) -> Estimated:
    """Return by how much the angle in use is ahead of the rotor, from back-EMF that shows in d. [rad]

    Parameters
    ----------
    omega_el, v_d, i_q : ndarray, shape (n,)
        Electrical speed [rad/s] and means at each moment, both directions, i_d held at zero.
    flux_linkage : float
        [Wb]
    inductance : float
        As entered, roughly. [H]

    Raises
    ------
    UnusableInput
        Fewer than eight moments, or one direction only.

    Notes
    -----
    v_d = w psi sin(error) - w L i_q + w² psi delay: the error is odd in speed, a delay of the angle is even, and
    L i_q is told apart by accelerating, or, where a load leaves the current no room to change, by what is known of L,
    within `ROUGHLY` of what was entered. Neither friction nor gravity enters, as they do when a vector is held.
    """
    if len(omega_el) < 8 or np.ptp(np.sign(omega_el)) < 1:
        raise UnusableInput(
            what="The shaft turned too little to check the angle.",
            remedy=f"Raise {field_of('procedure.travel')} or {field_of('procedure.velocity')}.",
        )
    a = np.stack([omega_el, omega_el**2, omega_el * i_q, np.ones_like(omega_el)], axis=1)
    scale = np.abs(a).max(0)
    a = a / scale
    free, _, _, _ = np.linalg.lstsq(a, v_d, rcond=None)
    rest = v_d - a @ free
    sigma2 = float(rest @ rest) / max(len(v_d) - 4, 1) * max(len(v_d) / INDEPENDENT, 1.0)
    sigma2 = max(sigma2, np.finfo(float).tiny)
    known, sure = np.zeros(4), np.zeros(4)  # of the coefficients as scaled, and one over their variance
    known[2], sure[2] = -inductance * scale[2], 1 / (ROUGHLY * inductance * scale[2]) ** 2
    weight = a.T @ a / sigma2 + np.diag(sure)
    solution = np.linalg.solve(weight, a.T @ v_d / sigma2 + sure * known)
    std = math.sqrt(np.linalg.inv(weight)[0, 0]) / scale[0]
    share = float(solution[0] / scale[0]) / flux_linkage
    return Estimated(math.asin(min(1.0, max(-1.0, share))), std / flux_linkage)


def unmixed(d: Estimated, q: Estimated, *, beside: float | None) -> tuple[Estimated, Estimated]:
    """Return inductances of the rotor's own axes from those seen along and across a vector it does not stand on. [H]

    Parameters
    ----------
    d, q : Estimated
        Seen along and across the vector.
    beside : float
        Electrical angle by which friction holds the rotor beside the vector; None where nothing shows it. [rad]

    Notes
    -----
    Seen along: Ld cos² + Lq sin², across: Ld sin² + Lq cos². The sum stays, the difference shrinks by cos 2 beside. Up
    to 30° it is taken out, and a fifth of what was taken out is doubt, the angle being known no better. Where nothing
    shows it, all that half of that angle would have taken out is doubt.
    """
    angle = min(abs(beside), MOST_BESIDE) if beside is not None else 0.5 * MOST_BESIDE
    middle, half = 0.5 * (d.value + q.value), 0.5 * (q.value - d.value)
    true = half / math.cos(2 * angle)
    doubt = 0.2 * abs(true - half)
    if beside is None:
        true, doubt = half, abs(true - half)
    return (
        Estimated(middle - true, math.hypot(d.std, doubt)),
        Estimated(middle + true, math.hypot(q.std, doubt)),
    )
