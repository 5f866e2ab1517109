"""Measured velocity plant -> two masses on a spring, or one."""

import math
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from cadrel.core.control import Gains, TwoMass, Winding, velocity_plant
from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated
from cadrel.core.parameters import field_of
from cadrel.core.response.estimate import SHOWS, FrequencyResponse

FloatArray = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
ROUGH = 0.25  # standard deviation over value up to which a line says something; it weighs as little as it knows
FAINT, FEWEST = 0.5, 8  # as `ROUGH`, and how many lines, where one resonance alone is looked at
STIFFER = (0.7, 1.0, 1.5, 2.2)  # times the stiffness before, where a search for it begins
INERTIA_KNOWN = 0.1  # share within which the load run surely has the total: few noisy lines would have it otherwise
EDGE = 0.05  # of a figure's range, from either end, within which a fit begins
# The anti-resonance of a heavy load may lie below every line that was answered clearly: the resonance and the total
# inertia say where.
LOWEST = 0.2  # times the lowest line
SHARES = (-2.0, -1.0, 0.0, 1.0, 2.0, 3.0)  # logits of the load's share of the inertia, 0.12 to 0.95: a grid
ANTIRESONANCES = 20  # of that grid, from there to the last line
STARTS = 6  # of the grid's points, those that fit best: the misfit has valleys beside the right one
# Damping of shafts and couplings, and how many times e it may be off by: as good as one line of the measurement, for
# where lines lie too far apart, or know too little, to tell how sharp a resonance is (common practice: 0.5 to 5 %).
USUAL = (0.015, 1.0)
# Of a resonance, beside what scatters: by this a model of springs and viscous losses alone is off on a shaft whose
# masses rub too. On 131 drawn axes without play three in four were within it, and nine in ten within twice as much.
RESONANCE_DOUBT = 4e-4
# Natural logarithm by which what turns with the motor may differ from the inertia entered for it, as good as one line
# of the measurement: sheets are off by a tenth, and hubs are not on them. It tells where a resonance lies of which only
# the flank is seen.
MOTOR_KNOWN = 0.2
MOVES = 0.02  # share by which a resonance may lie elsewhere at another amplitude, one standard deviation at the least
WORTHWHILE = 0.5  # a second mass must lower the misfit to this share, or one mass is kept
# Of neighbouring lines, how far one mass is off both, in deviations and as a logarithm, where a spring shows that does
# not earn its place; from which share of the highest line on it is looked for; deviation of a line that shows none.
STRANGE, OFF, LOOKED_FROM, CLEAR = 2.5, 0.2, 0.3, 0.06


@dataclass(frozen=True, slots=True)
class PlantFit:
    """Load, and the winding as small currents meet it: dead time bends the inverter's voltage near zero current,
    which acts like resistance and slows the current loop for small signals."""

    load: TwoMass
    winding: Winding
    resonance_std: float | None = None  # [Hz] from the misfit of this measurement alone
    antiresonance_std: float | None = None  # [Hz]
    seen_hz: float = math.inf  # up to where a sharp resonance would show, and none does that is not in the load


def fit_two_mass(
    response: FrequencyResponse,
    winding: Winding,
    gains: Gains,
    *,
    inertia: float,
    viscous: float,
    edge_age: float = 0.0,
    near: PlantFit | None = None,
    known: float = INERTIA_KNOWN,
    motor_inertia: float = 0.0,
) -> PlantFit:
    """Return the model whose velocity plant fits a measurement.

    Parameters
    ----------
    response : FrequencyResponse
        Torque command -> measured speed.
    winding, gains : Winding, Gains
        The current loop in force; its delay and roll-off are part of the plant.
    inertia, viscous : float
        Total, from the load run: the inertia is kept near to it, as well as that run knows it. [kg·m²], [N·m·s/rad]
    edge_age : float
        As in `velocity_plant`, at the speed of the measurement. [s]

    near : PlantFit, optional
        From an earlier measurement of the same axis: the search begins there alone. Where one mass explains
        these lines only up to below its resonance they do not speak against it: it is looked for where it was.
    known : float
        Share within which the total inertia is known.
    motor_inertia : float
        Of the motor, as entered; 0: not told. [kg·m²]

    Raises
    ------
    UnusableInput
        Fewer than ten trusted lines.

    Notes
    -----
    Least squares on the complex logarithm, weighted with the standard deviation (floor 2 %), the total inertia within
    what the load run surely knows of it, the motor's about what was entered and the damping one that shafts have unless
    the lines say otherwise, from those
    points of a coarse grid of ratios and anti-resonances that fit
    best; the best end is kept, and a single mass if the second does not earn its place.
    """
    use = response.precise(ROUGH)
    if len(use.frequency) < 10:
        raise UnusableInput(
            what="Too few lines can be trusted.",
            remedy=f"Raise {field_of('procedure.velocity')} or {field_of('procedure.travel')}: the excitation grows "
            "with them.",
        )
    weight = 1 / np.maximum(use.std / np.abs(use.value), 0.02)

    def winding_of(p: FloatArray) -> Winding:
        return replace(winding, resistance=float(winding.resistance * np.exp(p[-1])))

    def misfit(model: TwoMass, seen: Winding) -> FloatArray:
        error = weight * np.log(velocity_plant(model, seen, gains, use.frequency, edge_age=edge_age) / use.value)
        return np.concatenate([error.real, error.imag])

    def sprung(p: FloatArray) -> FloatArray:
        model = flexible(p)
        usual = [(p[3] - math.log(usual_damping)) / USUAL[1]]
        if motor_inertia > 0.0:
            usual.append(math.log(model.inertia_motor / motor_inertia) / MOTOR_KNOWN)
        usual.extend(one.off(model) for one in hidden)
        return np.append(misfit(model, winding_of(p)), usual)

    def rigid(p: FloatArray) -> TwoMass:
        return TwoMass(inertia_motor=float(np.exp(p[0])), viscous=viscous)

    def flexible(p: FloatArray) -> TwoMass:
        total, share, anti = np.exp(p[0]), 1 / (1 + np.exp(-p[1])), np.exp(p[2])
        load = total * share
        stiffness = load * (2 * np.pi * anti) ** 2
        rubbing = float(2 * np.exp(p[4]) * np.sqrt(stiffness * load))
        return TwoMass(
            inertia_motor=float(total - load),
            inertia_load=float(load),
            stiffness=float(stiffness),
            damping=float(2 * np.exp(p[3]) * np.sqrt(stiffness * load * (total - load) / total)),
            viscous=max(viscous - rubbing, 0.0),
            viscous_load=rubbing,
        )

    most = np.log(40.0)  # dead time multiplies the resistance of small currents by some ten at the most
    single = least_squares(
        lambda p: misfit(rigid(p), winding_of(p)),
        [np.log(inertia), 0.3],
        loss="soft_l1",
        bounds=([np.log(inertia) - known, 0.0], [np.log(inertia) + known, most]),
    )
    best, best_cost, damping_doubt = PlantFit(rigid(single.x), winding_of(single.x)), single.cost, 0.0
    plant = velocity_plant(best.load, best.winding, gains, response.frequency, edge_age=edge_age)
    one_mass_upto = explained_upto(response, plant)
    hidden = _hidden_beyond(one_mass_upto, near)
    worthwhile, usual_damping = (1.0, _damping_ratio(near.load)) if near and hidden else (WORTHWHILE, USUAL[0])
    grid = [
        np.array([np.log(inertia), share, np.log(anti), np.log(0.03), np.log(0.003), 0.3])
        for share in SHARES
        for anti in np.geomspace(use.frequency[0] * LOWEST * 1.2, use.frequency[-1] * 0.9, ANTIRESONANCES)
    ]
    starts = sorted(grid, key=lambda p: _soft_cost(misfit(flexible(p), winding_of(p))))[:STARTS]
    if near is not None and near.load.stiffness is not None:
        starts = [_as_start(near, winding)]
    first, last = np.log(LOWEST * use.frequency[0]), np.log(2 * use.frequency[-1])
    low = np.array([np.log(inertia) - known, -5.0, first, np.log(1e-3), np.log(1e-5), 0.0])
    high = np.array([np.log(inertia) + known, 5.0, last, np.log(1.0), np.log(0.3), most])
    for start in starts:
        # What was found before may lie outside of what these lines can show: it begins at their edge then.
        inside = np.clip(start, low + EDGE * (high - low), high - EDGE * (high - low))
        fit = least_squares(sprung, inside, bounds=(low, high), loss="soft_l1", max_nfev=80)
        # The spring earns its place by a clearly better fit. Its resonances may lie a little above the measurement,
        # where their flank is seen; what is reported of them is for the caller to judge.
        if fit.cost < (worthwhile if best.load.stiffness is None else 1.0) * best_cost:
            *stds, damping_doubt = _doubts(fit.x, fit.jac, fit.cost, len(use.frequency))
            best, best_cost = PlantFit(flexible(fit.x), winding_of(fit.x), *stds), fit.cost
    if best.load.stiffness is None:
        return replace(best, seen_hz=one_mass_upto)
    # Of a spring found before, damping that its flank hardly told was lessened then.
    load = best.load if hidden else _surely_damped(best.load, response.seen_hz, damping_doubt)
    return replace(best, load=load, seen_hz=response.seen_hz)


@dataclass(frozen=True, slots=True)
class _Hidden:
    """Where a model found before resonates, or stands still; the lines of another measurement cannot show it."""

    kind: Literal["resonance_hz", "antiresonance_hz"]
    at: float  # [Hz]
    doubt: float  # standard deviation of its logarithm

    def off(self, model: TwoMass) -> float:
        """Return how far off a model is, in standard deviations."""
        return math.log(getattr(model, self.kind) / self.at) / self.doubt


def _hidden_beyond(one_mass_upto: float, near: PlantFit | None) -> list[_Hidden]:
    """Return what a model found before says of its spring, if that resonates beyond what one mass explains. [Hz]

    Nothing where it does not state how well it knows that.
    """
    if near is None or near.load.resonance_hz is None or near.load.resonance_hz <= one_mass_upto:
        return []
    if near.resonance_std is None or near.antiresonance_std is None:
        return []
    assert near.load.antiresonance_hz is not None
    at = near.load.resonance_hz, near.load.antiresonance_hz
    return [
        _Hidden("resonance_hz", at[0], max(near.resonance_std / at[0], MOVES)),
        _Hidden("antiresonance_hz", at[1], max(near.antiresonance_std / at[1], MOVES)),
    ]


def _surely_damped(load: TwoMass, seen_hz: float, doubt: float) -> TwoMass:
    """Return a load as it is fitted where its resonance was seen [Hz]; else damped by as little as it may be.

    A flank hardly tells how sharp the resonance is: what was fitted is what is usual. `doubt` is the deviation of the
    damping's logarithm.
    """
    if load.resonance_hz is None or load.resonance_hz <= seen_hz:
        return load
    return replace(load, damping=load.damping * math.exp(-doubt))


def explained_upto(response: FrequencyResponse, plant: ComplexArray) -> float:
    """Return up to where a plant of one mass explains a measurement on which a sharp resonance would show. [Hz]

    A light load behind play, or in a device's noise, is too faint for a model with a spring to earn its place. It may
    lie anywhere from the last line on that surely shows none, below two neighbours that one mass is far off.
    """
    shows = response.std <= SHOWS * np.abs(response.value)
    f, doubt = response.frequency[shows], (response.std / np.abs(response.value))[shows]
    off = np.abs(np.log(plant / response.value))[shows]
    strange = (off > np.maximum(STRANGE * doubt, OFF)) & (f > LOOKED_FROM * response.frequency[-1])
    both = np.nonzero(strange[:-1] & strange[1:])[0]
    if not both.size:
        return response.seen_hz
    clear = f[: both[0]][doubt[: both[0]] <= CLEAR]
    return float(clear[-1] if clear.size else f[0])


def _soft_cost(residual: FloatArray) -> float:
    """What `least_squares` minimises with its loss "soft_l1"."""
    return float(np.sum(np.sqrt(1 + residual**2) - 1))


def fit_spring(
    response: FrequencyResponse, gains: Gains, *, near: PlantFit, edge_age: float = 0.0
) -> tuple[PlantFit, Estimated]:
    """Return a model fitted before with its spring as lines around the resonance show it, and that stiffness.

    Masses and winding are kept; stiffness, damping and a factor to all are searched from several starts, for behind
    play the shaft may be much stiffer or softer than before. [N·m/rad]

    Raises
    ------
    UnusableInput
        Fewer than `FEWEST` lines say something, or the model before has no spring.
    """
    use = response.precise(FAINT)
    stiffness = near.load.stiffness
    if stiffness is None or len(use.frequency) < FEWEST:
        raise UnusableInput(
            what="Too few lines around the resonance can be trusted.",
            remedy=f"Raise {field_of('procedure.velocity')} or {field_of('procedure.travel')}.",
        )
    weight = 1 / np.maximum(use.std / np.abs(use.value), 0.02)

    def load_of(p: FloatArray) -> TwoMass:
        return replace(
            near.load,
            stiffness=float(stiffness * np.exp(p[0])),
            damping=float(near.load.damping * np.exp(0.5 * p[0] + p[1])),
        )

    def misfit(p: FloatArray) -> FloatArray:
        plant = velocity_plant(load_of(p), near.winding, gains, use.frequency, edge_age=edge_age)
        error = weight * (np.log(plant / use.value) + p[2])
        return np.concatenate([error.real, error.imag])

    found = min(
        (least_squares(misfit, [np.log(factor), 0.0, 0.0], loss="soft_l1", max_nfev=80) for factor in STIFFER),
        key=lambda fit: fit.cost,
    )
    freedom = max(2 * len(use.frequency) - 3, 1)
    covariance = np.linalg.pinv(found.jac.T @ found.jac) * 2 * found.cost / freedom
    load = load_of(found.x)
    assert load.stiffness is not None
    std = load.stiffness * math.sqrt(max(float(covariance[0, 0]), 0.0))
    return replace(near, load=load), Estimated(load.stiffness, std)


def _as_start(seen: PlantFit, winding: Winding) -> FloatArray:
    """Parameters of the search that give a model found before, a little inside of their bounds."""
    load = seen.load
    assert load.stiffness is not None
    assert load.antiresonance_hz is not None
    damping = np.clip(_damping_ratio(load), 1.1e-3, 0.9)
    rubbing = np.clip(load.viscous_load / (2 * np.sqrt(load.stiffness * load.inertia_load)), 1.1e-5, 0.29)
    slowed = np.clip(np.log(seen.winding.resistance / winding.resistance), 0.01, 3.0)
    return np.array(
        [
            np.log(load.inertia),
            np.clip(np.log(load.inertia_load / load.inertia_motor), -4.9, 4.9),
            np.log(load.antiresonance_hz),
            np.log(damping),
            np.log(rubbing),
            slowed,
        ]
    )


def _damping_ratio(load: TwoMass) -> float:
    """Return the damping of a load's resonance by its shaft. [1]"""
    assert load.stiffness is not None
    return load.damping / (2 * math.sqrt(load.stiffness * load.inertia_motor * load.inertia_load / load.inertia))


def _doubts(x: FloatArray, jacobian: FloatArray, cost: float, lines: int) -> tuple[float, float, float]:
    """Standard deviations of resonance and anti-resonance as the misfit has them, and the model's own doubt. [Hz]

    And that of the damping's logarithm, no more than what is usual leaves of it. [1]

    ln f_anti is a parameter; ln f_res = ln f_anti - ln(1 - share) / 2, whose slope against the logit of the share is
    share / 2.
    """
    freedom = max(2 * lines - len(x), 1)
    covariance = np.linalg.pinv(jacobian.T @ jacobian) * 2 * cost / freedom
    share = 1 / (1 + np.exp(-x[1]))
    anti, slope = np.zeros(len(x)), np.zeros(len(x))
    anti[2] = slope[2] = 1.0
    slope[1] = 0.5 * share
    at_anti = float(np.exp(x[2]))
    at_resonance = at_anti / float(np.sqrt(1 - share))
    return (
        at_resonance * math.hypot(RESONANCE_DOUBT, math.sqrt(max(float(slope @ covariance @ slope), 0.0))),
        at_anti * math.hypot(RESONANCE_DOUBT, math.sqrt(max(float(anti @ covariance @ anti), 0.0))),
        min(math.sqrt(max(float(covariance[3, 3]), 0.0)), USUAL[1]),
    )
