"""The axis as understood: motor, encoder, mechanism, supply, goal."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

from cadrel.core.mechanics import Mechanism, mechanism_from_entries
from cadrel.core.motor import Motor, motor_from_sheet
from cadrel.core.parameters import REGISTRY, Entry, check_entry, defaults


@dataclass(frozen=True, slots=True, kw_only=True)
class Goal:
    """What the axis must reach, at the motor shaft, and what automatic runs may use."""

    distance: float  # [rad]
    move_time: float  # [s]
    window: float  # [rad]
    settling_time: float  # [s]
    following_error: float  # [rad]
    dwell: float  # [s]
    repeats: int
    travel: float  # [rad] allowed for identification, half to each side
    velocity: float  # [rad/s] allowed for identification


@dataclass(frozen=True, slots=True, kw_only=True)
class Robustness:
    """What the tuner must honour."""

    phase_margin: float  # [rad]
    gain_margin_db: float
    sensitivity_peak: float


@dataclass(frozen=True, slots=True, kw_only=True)
class AxisModel:
    """Everything the procedures know beforehand of an axis."""

    motor: Motor
    mechanism: Mechanism
    counts_per_rev: int
    has_index: bool
    has_halls: bool
    bus_voltage: float  # [V]
    goal: Goal
    robustness: Robustness
    current_bandwidth: float  # [Hz]
    phasing_share: float  # of continuous current

    @property
    def inertia(self) -> float:
        """Motor and entered load together, at the motor. [kg·m²]"""
        return self.motor.inertia + self.mechanism.inertia_reflected


def bus_voltage(values: Mapping[str, Entry]) -> float:
    """Return the nominal DC bus of the entered supply: sqrt(2) x line rms, or the DC itself. [V]"""
    filled = {**defaults(), **values}
    voltage = check_entry("power.supply_voltage", filled.get("power.supply_voltage", {}))
    return voltage * math.sqrt(2) if str(filled["power.supply_kind"]["value"]) == "ac" else voltage


def missing_entries(values: Mapping[str, Entry], step: str | None = None) -> list[str]:
    """Return the labels of required parameters without a value, of one step or of all."""
    missing = [
        p.label
        for p in REGISTRY.values()
        if p.required
        and (step is None or p.step == step)
        and p.default is None
        and values.get(p.key, {}).get("value") in (None, "")
    ]
    constants = [values.get(k, {}).get("value") for k in ("sheet.torque_constant", "sheet.back_emf")]
    if step in (None, "motor") and all(v in (None, "") for v in constants):
        missing.append("Torque constant or back-EMF constant")
    return missing


def understand(values: Mapping[str, Entry]) -> AxisModel:
    """Return the axis understood from its entries; absent ones count with their default.

    Raises
    ------
    EntryProblem
        A required entry is missing or cannot be right.
    UnusableInput
        The motor's constants are missing.
    """
    filled = {**defaults(), **values}

    def si(key: str) -> float:
        return check_entry(key, filled.get(key, {}))

    mechanism = mechanism_from_entries(filled)
    scale = mechanism.motor_rad_per_load
    return AxisModel(
        motor=motor_from_sheet(filled),
        mechanism=mechanism,
        counts_per_rev=round(4 * si("feedback.lines")),
        has_index=si("feedback.index") > 0,
        has_halls=si("feedback.halls") > 0,
        bus_voltage=bus_voltage(filled),
        goal=Goal(
            distance=si("goal.distance") * scale,
            move_time=si("goal.move_time"),
            window=si("goal.window") * scale,
            settling_time=si("goal.settling_time"),
            following_error=si("goal.following_error") * scale,
            dwell=si("goal.dwell"),
            repeats=round(si("goal.repeats")),
            travel=si("procedure.travel") * scale,
            velocity=si("procedure.velocity") * scale,
        ),
        robustness=Robustness(
            phase_margin=si("tuning.phase_margin"),
            gain_margin_db=si("tuning.gain_margin"),
            sensitivity_peak=si("tuning.sensitivity_peak"),
        ),
        current_bandwidth=si("current.bandwidth"),
        phasing_share=si("phasing.current"),
    )
