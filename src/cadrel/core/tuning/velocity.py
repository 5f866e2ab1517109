"""The fastest velocity loop within stated margins, on the measured plant and on its model."""

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import (
    Gains,
    Margins,
    TwoMass,
    Winding,
    read_margins,
    spectral_radius,
    velocity_open,
    velocity_plant,
)
from cadrel.core.control.filters import ComplexArray
from cadrel.core.errors import CoreError
from cadrel.core.parameters import field_of
from cadrel.core.response.estimate import FrequencyResponse
from cadrel.core.verdict.loops import resonance_grid

FloatArray = NDArray[np.float64]
GRID = np.geomspace(0.5, 1900.0, 500)  # [Hz] close to the Nyquist frequency of the velocity sample
RESET_RATIOS = (3.0, 4.0, 6.0, 9.0, 14.0)  # reset time times crossover
TORQUE_FILTERS = (1500.0, 900.0, 500.0, 280.0)  # [Hz]
NOTCHES = ((-10.0, 0.3), (-20.0, 0.3), (-20.0, 0.6), (-30.0, 0.6))  # depth [dB], width


class TuningRefused(CoreError):
    """No loop honours what was asked."""

    happened = "No velocity loop was found that keeps {asked}."
    means = "The gains in the drive are unchanged. The nearest try was limited by {limit}."
    remedy = (
        f"Ask for less by {field_of('tuning.phase_margin')}, raise {field_of('velocity.feedback_filter')}, or stiffen "
        "what resonates."
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class VelocityTuning:
    """The proposal: gains, the margins they should give, and what limits them."""

    gains: Gains
    margins: Margins
    limited_by: str


DRIFT = (0.95, 1.0, 1.05)  # of the resonance: a loop that is stable only where it was tuned is none


@dataclass(frozen=True, slots=True, eq=False)
class _Judge:
    """Models and measurement that every candidate must satisfy."""

    load: TwoMass
    windings: tuple[Winding, ...]  # as small currents meet it, and at the working current
    asked: Robustness
    grid: FloatArray
    model_plants: tuple[ComplexArray, ...]
    measured: FrequencyResponse | None

    def margins(self, gains: Gains) -> list[Margins]:
        found = [read_margins(velocity_open(plant, gains, self.grid), self.grid) for plant in self.model_plants]
        if self.measured is not None and len(self.measured.frequency) > 10:
            f = self.measured.frequency
            found.append(read_margins(velocity_open(self.measured.value, gains, f), f))
        return found

    def accepts(self, gains: Gains) -> bool:
        return all(_honours(m, self.asked) for m in self.margins(gains))

    def is_stable(self, gains: Gains) -> bool:
        stiffness = self.load.stiffness
        loads = [self.load]
        if stiffness is not None:
            loads = [replace(self.load, stiffness=stiffness * drift**2) for drift in DRIFT]
        return all(spectral_radius("velocity", load, w, gains) < 1.0 for load in loads for w in self.windings)


def _honours(m: Margins, asked: Robustness) -> bool:
    return (
        m.sensitivity_peak <= asked.sensitivity_peak
        and (m.phase_margin is None or m.phase_margin >= asked.phase_margin)
        and (m.gain_margin_db is None or m.gain_margin_db >= asked.gain_margin_db)
    )


def tune_velocity(
    load: TwoMass,
    winding: Winding,
    gains: Gains,
    asked: Robustness,
    *,
    measured: FrequencyResponse | None = None,
    working: Winding | None = None,
) -> VelocityTuning:
    """Return the velocity loop with the highest gain and integral that honours the margins asked for.

    Parameters
    ----------
    load, winding : TwoMass, Winding
        The identified model.
    gains : Gains
        In force; the current loop and the speed filter are kept.
    measured : FrequencyResponse, optional
        Measured velocity plant; margins must hold on it too, not on the model alone.
    working : Winding, optional
        The winding at the working current, where dead time does not damp: margins must hold there as well.

    Raises
    ------
    TuningRefused
        No candidate is stable and honours the margins.

    Notes
    -----
    For every set of filters and every ratio of reset time to crossover the gain is raised by bisection until a
    margin is reached. Among those the largest Kp sqrt(1 / Tn) wins: quick, and stiff against disturbance.
    """
    windings = (winding,) if working is None or working == winding else (winding, working)
    grid = resonance_grid(load)
    judge = _Judge(load, windings, asked, grid, tuple(velocity_plant(load, w, gains, grid) for w in windings), measured)
    best: tuple[float, Gains] | None = None
    for candidate in _filters(load, gains):
        for ratio in RESET_RATIOS:
            tuned = _highest_gain(judge, candidate, ratio)
            if tuned is None or not judge.is_stable(tuned):
                continue
            score = tuned.velocity_gain / math.sqrt(tuned.velocity_reset)
            # A filter or a notch must earn its place by a twentieth, or the simpler loop is kept.
            if best is None or score > 1.05 * best[0]:
                best = (score, tuned)
    if best is None:
        raise TuningRefused(asked=_asked_text(asked), limit=_resonance_text(load))
    chosen = best[1]
    margins = judge.margins(chosen)[0]
    return VelocityTuning(gains=chosen, margins=margins, limited_by=limiting_factor(margins, load, asked))


def _filters(load: TwoMass, gains: Gains) -> Iterator[Gains]:
    resonance = load.resonance_hz
    for torque_filter in TORQUE_FILTERS:
        plain = gains.with_(torque_filter_hz=torque_filter, notch_hz=0.0, notch_depth_db=0.0)
        yield plain
        if resonance is not None and 30 < resonance < 1800:
            for depth, width in NOTCHES:
                yield plain.with_(notch_hz=resonance, notch_depth_db=depth, notch_width=width)


def _highest_gain(judge: _Judge, gains: Gains, ratio: float) -> Gains | None:
    """Raise the crossover by bisection, reset time tied to it, while the judge accepts."""

    def at(crossover_hz: float) -> Gains:
        w = 2 * math.pi * crossover_hz
        return gains.with_(velocity_gain=judge.load.inertia * w, velocity_reset=ratio / w)

    low, high = math.log(0.7), math.log(700.0)
    if not judge.accepts(at(math.exp(low))):
        return None
    for _ in range(9):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if judge.accepts(at(math.exp(middle))) else (low, middle)
    return at(math.exp(low))


def limiting_factor(margins: Margins, load: TwoMass, asked: Robustness) -> str:
    """Return in words which margin is used up, and by what."""
    at = margins.phase_crossover_hz
    resonance = load.resonance_hz
    if resonance and at and 0.7 < at / resonance < 1.4:
        return f"the {resonance:.0f} Hz resonance"
    if margins.gain_margin_db is not None and margins.gain_margin_db < asked.gain_margin_db + 0.5:
        return "the gain margin: delay of loop and filters"
    if margins.phase_margin is not None and margins.phase_margin < asked.phase_margin + math.radians(2):
        return "the phase margin: delay of loop and filters"
    return "the sensitivity peak: delay of loop and filters"


def _asked_text(asked: Robustness) -> str:
    return (
        f"{math.degrees(asked.phase_margin):.0f}° phase margin, {asked.gain_margin_db:.0f} dB gain margin and a "
        f"sensitivity peak of {asked.sensitivity_peak:.1f}"
    )


def _resonance_text(load: TwoMass) -> str:
    return f"the {load.resonance_hz:.0f} Hz resonance" if load.resonance_hz else "the delay of loop and filters"
