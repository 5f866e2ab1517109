"""A rig in physical terms, and the plant made from it."""

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from cadrel.core.errors import UnusableInput
from cadrel.core.simulation.layout import Plant

HALL_SEQUENCE = (1, 3, 2, 6, 4, 5)


@dataclass(frozen=True, slots=True, kw_only=True)
class RigTruth:
    """The true axis and drive hardware. SI, per phase, peak; all of the load reflected to the motor shaft."""

    resistance: float
    inductance_d: float
    inductance_q: float
    flux_linkage: float
    pole_pairs: int
    inertia_motor: float
    inertia_load: float
    stiffness: float = 2000.0  # [N·m/rad]
    damping: float = 0.05  # [N·m·s/rad]
    coulomb_motor: float = 0.0  # [N·m]
    viscous_motor: float = 0.0  # [N·m·s/rad]
    coulomb_load: float = 0.0
    viscous_load: float = 0.0
    breakaway_ratio: float = 1.2  # breakaway over sliding torque
    stribeck_speed: float = 2.0  # [rad/s]
    torque_load: float = 0.0  # [N·m] constant, as gravity makes it
    stop_low: float = -1e9  # [rad] end stops, from the start position
    stop_high: float = 1e9
    encoder_lines: int = 2500
    encoder_inverted: bool = False
    index_angle: float = 1.0  # [rad] mechanical, from a rotor d axis to the index
    hall_errors_deg: tuple[float, ...] = (0.0,) * 6  # electrical, of the six edges
    hall_offset_deg: float = 0.0  # electrical, of all edges together
    halls_mirrored: bool = False
    phases_swapped: bool = False
    start_angle: float | None = None  # [rad] motor angle at power-up; drawn from the seed if absent
    supply_voltage: float = 325.0  # [V dc]
    supply_resistance: float = 1.5
    bus_capacitance: float = 560e-6
    chopper_on: float = 380.0
    chopper_off: float = 370.0
    brake_resistor: float = 0.0  # [ohm] 0: none
    overvoltage: float = 410.0
    dead_voltage: float = 1.0  # [V] lost per phase by dead time
    dead_current: float = 0.1  # [A] at which half of it is lost
    current_noise: float = 0.01  # [A]
    current_lsb: float = 0.005  # [A]
    drive_current_peak: float = 20.0  # [A peak]
    drive_current_continuous: float = 8.0

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> "RigTruth":
        """Return the rig of a parsed file. Raises `UnusableInput` for unknown or missing keys."""
        known = set(cls.__dataclass_fields__)
        unknown = sorted(set(data) - known)
        needed = {
            "resistance",
            "inductance_d",
            "inductance_q",
            "flux_linkage",
            "pole_pairs",
            "inertia_motor",
            "inertia_load",
        }
        missing = sorted(needed - set(data))
        if unknown or missing:
            raise UnusableInput(
                what=f"The rig has unknown keys {unknown} or lacks {missing}.",
                remedy="Compare with docs/formats/rig.md.",
            )
        values = dict(data)
        if "hall_errors_deg" in values:
            values["hall_errors_deg"] = tuple(values["hall_errors_deg"])
        return cls(**values)


@dataclass(frozen=True, slots=True)
class TrueRig:
    """What the kernel needs of a rig."""

    plant: Plant
    hall_edges: np.ndarray = field(repr=False)
    hall_states: np.ndarray = field(repr=False)
    start_angle: float = 0.0


def plant_of(truth: RigTruth, *, rng: np.random.Generator) -> TrueRig:
    """Return plant, Hall pattern and start angle. The start angle is drawn unless the truth gives it."""
    start = truth.start_angle if truth.start_angle is not None else float(rng.uniform(0, 2 * math.pi))
    edges = np.radians([truth.hall_offset_deg + 60 * k + truth.hall_errors_deg[k] for k in range(6)])
    states = np.array(HALL_SEQUENCE if not truth.halls_mirrored else (1, 5, 4, 6, 2, 3), dtype=np.int64)
    wrapped = np.mod(edges, 2 * math.pi)
    order = np.argsort(wrapped)
    plant = Plant(
        resistance=truth.resistance,
        inductance_d=truth.inductance_d,
        inductance_q=truth.inductance_q,
        flux_linkage=truth.flux_linkage,
        pole_pairs=float(truth.pole_pairs),
        inertia_motor=truth.inertia_motor,
        inertia_load=truth.inertia_load,
        stiffness=truth.stiffness,
        damping=truth.damping,
        coulomb_motor=truth.coulomb_motor,
        viscous_motor=truth.viscous_motor,
        coulomb_load=truth.coulomb_load,
        viscous_load=truth.viscous_load,
        breakaway_ratio=truth.breakaway_ratio,
        stribeck_speed=truth.stribeck_speed,
        torque_load=truth.torque_load,
        stop_low=start + truth.stop_low,
        stop_high=start + truth.stop_high,
        stop_stiffness=0.2 * truth.stiffness,
        stop_damping=0.2,
        supply_voltage=truth.supply_voltage,
        supply_resistance=truth.supply_resistance,
        bus_capacitance=truth.bus_capacitance,
        chopper_on=truth.chopper_on,
        chopper_off=truth.chopper_off,
        chopper_resistance=truth.brake_resistor,
        dead_voltage=truth.dead_voltage,
        dead_current=truth.dead_current,
        current_noise=truth.current_noise,
        current_lsb=truth.current_lsb,
        bus_noise=0.0,
        phase_sign=-1.0 if truth.phases_swapped else 1.0,
        counts_per_rev=4.0 * truth.encoder_lines,
        encoder_sign=-1.0 if truth.encoder_inverted else 1.0,
        index_angle=truth.index_angle,
    )
    return TrueRig(plant, wrapped[order], states[order], start)
