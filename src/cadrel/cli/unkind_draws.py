"""Axes as machines are, drawn until it hurts, and what their sheets say."""

import math
from dataclasses import replace
from typing import Any

import numpy as np

from cadrel.cli.draws import draw_bench
from cadrel.cli.phasing_draws import LINEAR_SHARE, straightened
from cadrel.core.motor import cable_resistance
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth, rated_torque

OF_DRIVE = 1.5  # times the motor's continuous current: what the drives of the draws carry
THIRD_MASS_SHARE = 0.35
USUAL_WINDOW, ABOVE_NOISE = 0.5, 4.5  # [°] of the draws' goal; times what a resolver's noise shows, rms, at the least
ENDS, OFF = 0.5, 2.5  # share of draws at an end; times, that a winding is off beyond them
SHORTER = (0.1, 0.2, 0.5, 1.0, 1.0)  # of the travel
CABLE_SHARE, ENTERED, CABLE, LONGEST = 0.5, 0.7, (0.02, 0.2), 50.0  # of the axes; of cables; of the winding's R; [m]
WARM = (60.0, 110.0)  # [K] above its surroundings at the continuous current
WARMS_IN = (300.0, 1800.0)  # [s] of a motor: its magnets get as warm
MOST_SKEW = 0.3e-6  # [s] from the middle of the PWM period
BRAKE_RESERVE = 1.6  # times the rated torque: what a brake of the fleet holds


def draw_unkind(rng: np.random.Generator) -> tuple[RigTruth, dict[str, Entry]]:
    """Return a bench of the wide draws with all that a machine has beside.

    Ratio 0.2 to 30, resonance 40 to 1200 Hz, damping 0.5 to 5 %, up to two resonances, friction to 20 % of rated torque
    that builds up within up to 0.3°, gravity to 50 % behind a brake or held by friction, backlash to 0.05°, cogging to
    3 %, torque ripple, iron that saturates, windings that warm up, motor cables that not everyone enters, current
    sensors with offset and gain error and read beside the middle of the PWM period, lines with eccentricity, 500 lines
    to 23 bits, five laws of dead time, rotary and linear.
    """
    truth, values = draw_bench(rng, wide=True)
    linear = truth.device in ("incremental", "sincos", "serial") and rng.random() < LINEAR_SHARE
    if linear:
        truth = replace(truth, pole_pairs=1, flux_linkage=truth.flux_linkage * truth.pole_pairs)
    if truth.device == "incremental":
        truth = replace(truth, encoder_lines=int(rng.choice([500, 1000, 2500, 5000])))
        values["feedback.lines"] = {"value": truth.encoder_lines, "source": "sheet"}
    truth, values = _loaded(rng, truth, values)
    rated, continuous = _rated(truth), truth.drive_current_continuous / OF_DRIVE
    slots = int(rng.choice([9, 12, 18])) * (2 if truth.pole_pairs > 1 else 1)
    size = float(rng.uniform(0.0, 0.03)) * rated
    truth = replace(
        truth,
        backlash_deg=float(rng.uniform(0.0, 0.05)) if rng.random() < 0.6 else 0.0,
        cogging=((slots, 0.8 * size, _phase(rng)), (2 * truth.pole_pairs, 0.2 * size, _phase(rng))),
        torque_ripple=((6, float(rng.uniform(0.0, 0.015)), _phase(rng)),),
        friction_wave=((float(rng.uniform(0.3, 3.0)), float(rng.uniform(0.0, 0.15)), _phase(rng)),),
        presliding_deg=_presliding(rng, truth),
        saturation_current=float(rng.uniform(4.0, 9.0)) * continuous,
        magnet_current=float(rng.uniform(0.3, 1.0)) * continuous,
        scale_error=((1, float(rng.uniform(0.0, 0.02)), _phase(rng)),) if not linear else (),
        line_jitter=float(rng.uniform(0.0, 0.1)) if truth.device == "incremental" else 0.0,
        current_offset=(float(rng.normal(0, 0.004)) * continuous, float(rng.normal(0, 0.004)) * continuous),
        current_gain_error=float(rng.normal(0, 0.007)),
    )
    if rng.random() < THIRD_MASS_SHARE:
        truth = _with_third_mass(rng, truth)
    truth, values = _cabled(rng.spawn(1)[0], truth, values)
    if truth.device == "resolver":
        # A goal that the device's own noise breaks on an axis that stands still is none: no loop could meet it.
        shown = math.degrees(truth.signal_noise / truth.resolver_pairs)
        values["goal.window"] = {"value": max(USUAL_WINDOW, ABOVE_NOISE * shown), "unit": "°", "source": "typed"}
    return truth, straightened(values, truth) if linear else values


class _AtEnds(np.random.Generator):
    """A generator half of whose even draws lie at either end of their range."""

    def uniform(self, low: Any = 0.0, high: Any = 1.0, size: Any = None) -> Any:
        """As NumPy's."""
        inside, where = super().uniform(low, high, size), self.random(size)
        drawn = np.where(where < 0.5 * ENDS, low, np.where(where < ENDS, high, inside))
        return float(drawn) if size is None else drawn


def draw_at_ends(rng: np.random.Generator) -> tuple[RigTruth, dict[str, Entry]]:
    """Return a bench of `draw_unkind` with half of its figures at an end of their range, and more that is unlike it.

    Resistance and inductance each up to 2.5 times off, a tenth to all of the travel, all or half of the speed. Where
    hardships meet, procedures fail that bear each of them.
    """
    truth, values = draw_unkind(_AtEnds(rng.bit_generator))
    values = dict(values)

    def scale(key: str, factor: float) -> None:
        if key in values:
            values[key] = {**values[key], "value": float(values[key]["value"]) * factor}

    ohms, henries = (math.exp(rng.uniform(-math.log(OFF), math.log(OFF))) for _ in range(2))
    truth = replace(
        truth, resistance=truth.resistance * ohms, inductance_d=truth.inductance_d * henries,
        inductance_q=truth.inductance_q * henries,
    )  # fmt: skip
    scale("sheet.resistance", ohms)
    scale("sheet.inductance", henries)
    if values["goal.distance"].get("unit", "rev") == "rev":
        shorter = float(rng.choice(SHORTER))
        for key in ("goal.distance", "procedure.travel"):
            scale(key, shorter)
        scale("goal.move_time", max(math.sqrt(shorter), 0.3))
    scale("procedure.velocity", float(rng.choice([0.5, 1.0])))
    return replace(truth, presliding_deg=max(truth.presliding_deg, _least_presliding(truth))), values


def _rated(t: RigTruth) -> float:
    """Torque at the motor's own continuous current. [N·m]"""
    return rated_torque(t) / OF_DRIVE


def _cabled(
    rng: np.random.Generator, t: RigTruth, values: dict[str, Entry]
) -> tuple[RigTruth, dict[str, Entry]]:  # fmt: skip
    """Put a cable before half of the windings, let each warm up, and read currents beside their mean.

    By a generator of its own, so that what was drawn before them is drawn as ever.
    """
    continuous = t.drive_current_continuous / OF_DRIVE
    cooling = 1.5 * t.resistance * continuous**2 / float(rng.uniform(*WARM))
    t = replace(
        t, winding_cooling=cooling, winding_heat=cooling * float(rng.uniform(*WARMS_IN)),
        sampling_skew=float(rng.uniform(-MOST_SKEW, MOST_SKEW)),
    )  # fmt: skip
    if rng.random() < CABLE_SHARE:
        section = float(rng.choice([0.75, 1.5, 2.5, 4.0]))
        length = float(rng.uniform(*CABLE)) * t.resistance / cable_resistance(length=1.0, section=1e-6 * section)
        t = replace(t, cable_length=min(length, LONGEST), cable_section_mm2=section)
        if rng.random() < ENTERED:
            values = values | {
                "cable.length": {"value": t.cable_length, "unit": "m", "source": "typed"},
                "cable.section": {"value": section, "unit": "mm²", "source": "typed"},
            }
    return t, values


def _phase(rng: np.random.Generator) -> float:
    return float(rng.uniform(0, 360))


def _loaded(rng: np.random.Generator, t: RigTruth, values: dict[str, Entry]) -> tuple[RigTruth, dict[str, Entry]]:
    rated = _rated(t)
    friction, gravity = float(rng.uniform(0.01, 0.20)) * rated, float(rng.uniform(-0.5, 0.5)) * rated
    braked = rng.random() < 0.35
    if not braked:  # what pulls stays below what holds it
        gravity = float(rng.uniform(-0.5, 0.5)) * friction
    t = replace(
        t, coulomb_motor=0.4 * friction, coulomb_load=0.6 * friction, torque_load=gravity,
        brake_torque=BRAKE_RESERVE * rated if braked else 0.0,
    )  # fmt: skip
    if braked:
        values = values | {
            "brake.fitted": {"value": "drive", "source": "sheet"},
            "brake.release_delay": {"value": 1e3 * t.brake_release * 1.1, "unit": "ms", "source": "sheet"},
            "brake.engage_delay": {"value": 1e3 * t.brake_engage * 1.1, "unit": "ms", "source": "sheet"},
        }
    return t, values


def _presliding(rng: np.random.Generator, t: RigTruth) -> float:
    """Of the motor [°]; long enough that the stand-in can follow the swing on its bristles."""
    return max(float(rng.uniform(0.02, 0.3)), _least_presliding(t))


def _least_presliding(t: RigTruth) -> float:
    """What the stand-in can follow. [°]"""
    held = ((t.coulomb_motor, t.inertia_motor), (t.coulomb_load, t.inertia_load))
    return max(math.degrees(coulomb * t.breakaway_ratio / inertia) * FOLLOWED**2 for coulomb, inertia in held)


FOLLOWED = 1.6e-4  # [s] inverse of the fastest swing on bristles


def _with_third_mass(rng: np.random.Generator, t: RigTruth) -> RigTruth:
    """Split the load, and give it a second resonance above the first."""
    share = float(rng.uniform(0.1, 0.6))
    third, load = share * t.inertia_load, (1 - share) * t.inertia_load
    first = math.sqrt(t.stiffness * (1 / t.inertia_motor + 1 / t.inertia_load)) / (2 * math.pi)
    second = min(first * float(rng.uniform(1.6, 4.0)), 1500.0)
    stiffness = (2 * math.pi * second) ** 2 / (1 / third + 1 / load)
    damping = 2 * float(rng.uniform(0.005, 0.05)) * math.sqrt(stiffness / (1 / third + 1 / load))
    return replace(t, inertia_load=load, inertia_third=third, stiffness_third=stiffness, damping_third=damping)
