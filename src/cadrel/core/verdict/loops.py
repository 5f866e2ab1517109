"""A loop judged: by its measured points and by its models between them, whichever is worse."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from cadrel.core.control import (
    Gains,
    Margins,
    TwoMass,
    Winding,
    load_over_motor,
    position_open,
    position_over_speed,
    read_margins,
    velocity_open,
    velocity_plant,
)
from cadrel.core.control.filters import ComplexArray
from cadrel.core.verdict.spread import Spread
from cadrel.core.verdict.verdict import Criterion, at_least, at_most

FloatArray = NDArray[np.float64]
LOW_HZ, HIGH_HZ = 0.5, 1950.0  # [Hz] close to the Nyquist frequency of the velocity sample
COARSE = 400  # points of the first grid
ACROSS = 41  # points across a peak, in each direction of its half-power width
ROUNDS = 3  # of refinement around the largest sensitivity
BETWEEN = 12  # points put between two of the grid in a round


@dataclass(frozen=True, slots=True, kw_only=True)
class AskedOfLoop:
    """Margins asked for. [rad], [dB], [1]"""

    phase_margin: float
    gain_margin_db: float
    sensitivity_peak: float
    load_peak_db: float | None = None  # of a position loop; None: not asked
    spread: Spread = field(default_factory=Spread)


def resonance_grid(load: TwoMass) -> FloatArray:
    """A grid that no resonance of the model slips through, however narrow."""
    parts = [np.geomspace(LOW_HZ, HIGH_HZ, COARSE)]
    if load.stiffness is not None and load.inertia_load > 0:
        reduced = load.inertia_motor * load.inertia_load / load.inertia
        for centre, inertia in ((load.resonance_hz, reduced), (load.antiresonance_hz, load.inertia_load)):
            if centre is None or not LOW_HZ < centre < HIGH_HZ:
                continue
            ratio = load.damping / (2 * math.sqrt(load.stiffness * inertia)) + 1e-4
            parts.append(centre * (1 + ratio * np.sinh(np.linspace(-5.0, 5.0, 2 * ACROSS)) / 10))
    grid = np.unique(np.concatenate(parts))
    return grid[(grid >= LOW_HZ) & (grid <= HIGH_HZ)]


def _open(
    loop: Literal["velocity", "position"], load: TwoMass, winding: Winding, gains: Gains, f: FloatArray, edge_age: float
) -> ComplexArray:
    plant = velocity_plant(load, winding, gains, f, edge_age=edge_age)
    if loop == "velocity":
        return velocity_open(plant, gains, f)
    return position_open(plant, gains, f, position_over_speed(load, winding, gains, f))


def refined_margins(
    loop: Literal["velocity", "position"], load: TwoMass, winding: Winding, gains: Gains, *, edge_age: float = 0.0
) -> Margins:
    """Return a model's margins without a grid's blindness: dense across resonances, refined around the largest peak.

    Notes
    -----
    The sensitivity is sampled across the half-power width of every resonance of the model, then between the
    neighbours of its largest values, `ROUNDS` times: its peak is found to a fraction of a percent.
    """
    f = resonance_grid(load)
    for _ in range(ROUNDS):
        s = 1 / np.abs(1 + _open(loop, load, winding, gains, f, edge_age))
        peaks = np.argsort(s)[-4:]
        more = [np.linspace(f[max(k - 1, 0)], f[min(k + 1, len(f) - 1)], BETWEEN) for k in peaks]
        f = np.unique(np.concatenate([f, *more]))
    return read_margins(_open(loop, load, winding, gains, f, edge_age), f)


def load_peak_db(load: TwoMass, winding: Winding, gains: Gains) -> float:
    """Return the largest gain from a planned position, through the command notch, to the load's position. [dB]"""
    f = resonance_grid(load)
    for _ in range(ROUNDS):
        swung = _load_gain(load, winding, gains, f)
        peaks = np.argsort(swung)[-4:]
        more = [np.linspace(f[max(k - 1, 0)], f[min(k + 1, len(f) - 1)], BETWEEN) for k in peaks]
        f = np.unique(np.concatenate([f, *more]))
    return float(20 * np.log10(_load_gain(load, winding, gains, f).max()))


def _load_gain(load: TwoMass, winding: Winding, gains: Gains, f: FloatArray) -> FloatArray:
    opened = _open("position", load, winding, gains, f, 0.0)
    planned = gains.shaping().response(np.exp(-2j * np.pi * f * gains.rates.velocity))
    followed = planned * opened / (1 + opened)  # by what the loop compares
    return np.abs(followed if gains.on_load else followed * load_over_motor(load, f))


def judge_loop(
    loop: Literal["velocity", "position"],
    measured: Margins | None,
    models: Sequence[tuple[str, TwoMass, Winding]],
    gains: Gains,
    asked: AskedOfLoop,
    *,
    edge_age: float = 0.0,
) -> list[Criterion]:
    """Return the criteria of a loop: the worst of what was measured and of every model.

    Parameters
    ----------
    loop
        "velocity" or "position".
    measured : Margins or None
        Read from points measured with these gains in force.
    models : sequence of (name, TwoMass, Winding)
        The plant as identified: as small currents meet it, where dead time damps, and at the working current, where it
        does not.
    gains : Gains
        In force.
    asked : AskedOfLoop
        Margins asked for.
    edge_age : float
        How old the last edge of a counted device was on average while it was measured; every model is judged with it,
        and without it, as it is at a high speed. [s]

    Notes
    -----
    Every model is judged where it was measured and with its resonance at either end of the drift asked for; its
    eigenvalues at every corner of the spread.

    A margin that neither measurement nor model has (the loop never crosses) is no miss; a sensitivity peak there
    always is, and so are the eigenvalues of every model. Bounds of Åström and Murray tie the three together.
    """
    read = [("measured", measured)] if measured is not None else []
    for name, load, winding in models:
        for drift, drifted in asked.spread.named(load):
            told = f"{name}, {drift}" if drift else name
            read.append((told, refined_margins(loop, drifted, winding, gains, edge_age=edge_age)))
            if edge_age > 0.0:
                read.append((f"{told}, at high speed", refined_margins(loop, drifted, winding, gains)))
    rows: list[Criterion] = []

    def worst(values: list[tuple[str, float | None]], *, largest: bool) -> tuple[str, float | None]:
        had = [(v, name) for name, v in values if v is not None]
        if not had:
            return "measured", None
        value, name = (max if largest else min)(had)
        return name, value

    name, peak = worst([(n, m.sensitivity_peak) for n, m in read], largest=True)
    rows.append(at_most("sensitivity peak", asked.sensitivity_peak, peak, source=name))
    phases = [(n, None if m.phase_margin is None else math.degrees(m.phase_margin)) for n, m in read]
    name, phase = worst(phases, largest=False)
    rows.append(
        at_least(
            "phase margin", math.degrees(asked.phase_margin), phase, unit="°", source=name, needed=loop == "velocity"
        )
    )
    name, gain = worst([(n, m.gain_margin_db) for n, m in read], largest=False)
    rows.append(at_least("gain margin", asked.gain_margin_db, gain, unit="dB", source=name, needed=False))
    radii = [(n, asked.spread.worst_radius(loop, load, winding, gains)) for n, load, winding in models]
    if radii:
        name, radius = worst([(n, r) for n, r in radii], largest=True)
        rows.append(at_most("spectral radius over the spread", 1.0, radius, source=name, tolerance=0.0))
    if asked.load_peak_db is not None:
        peaks = [
            (f"{n}, {drift}" if drift else n, load_peak_db(drifted, winding, gains))
            for n, load, winding in models
            if load.stiffness is not None
            for drift, drifted in asked.spread.named(load)
        ]
        if peaks:
            name, swing = worst([(n, p) for n, p in peaks], largest=True)
            rows.append(at_most("peak of the load over the command", asked.load_peak_db, swing, unit="dB", source=name))
    if measured is None:
        rows.append(at_least("measured margins", 1.0, None, source="measured"))
    return rows
