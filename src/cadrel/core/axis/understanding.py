"""The axis as understood: motor, encoder, mechanism, supply, goal."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

from cadrel.core.feedback import FeedbackDevice, SecondDevice, device_from_entries, second_from_entries
from cadrel.core.mechanics import Mechanism, mechanism_from_entries
from cadrel.core.motor import Motor, motor_from_sheet
from cadrel.core.parameters import (
    REGISTRY,
    Entry,
    Parameter,
    check_entry,
    choice_of,
    defaults,
    field_of,
    is_given,
    is_required,
)
from cadrel.core.power import bus_voltage, chopper_threshold

MOVES_ON, WIDEST_DRIFT = 2.0, 0.35  # times what a resonance was seen to move; share
NO_OVERSHOOT_DB = 0.5  # of the load above the command, where it must not overshoot: what an identification is off by


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


def load_peak_of(asked_db: float, matters: str) -> float:
    """Return by how much the load may swing above the command: hardly, where it must not overshoot. [dB]"""
    return min(asked_db, NO_OVERSHOOT_DB) if matters == "overshoot" else asked_db


@dataclass(frozen=True, slots=True, kw_only=True)
class Robustness:
    """What the tuner must honour."""

    phase_margin: float  # [rad]
    gain_margin_db: float
    sensitivity_peak: float
    resonance_drift: float = 0.05  # every margin holds with each resonance so much lower and higher
    resonance_rise: float = 0.0  # share by which it lies higher than measured once its play is closed
    closed_damping: float = 1.0  # of the damping measured: what is left of it then
    resonance_softer: float = 0.0  # share by which it was seen higher before: its drift below is from there
    inertia_least: float = 0.7  # of the one measured; the loop stays stable from here
    inertia_most: float = 1.5  # to here
    ripple: float = 0.1  # of the continuous current, rms, that the device's noise may make at rest
    load_peak_db: float = 2.0  # of the load's motion over the commanded position
    matters: str = "settling"  # most: "settling", "disturbance", "overshoot"
    motor_inertia: float = 0.0  # [kg·m²] of the whole, as entered; 0: not told
    seen_hz: float = math.inf  # a plant without a spring was measured up to here; one may hide beyond
    step: float = 0.0  # [rad of the motor] of what a device tells in bare steps; 0: it tells what lies between
    grip: float = math.inf  # [N·m/rad] friction over the smallest swing that is told, of which it holds no less
    unsure: float = 1.0  # times what an identification may be off by: beyond the spread by so much it stays stable

    def drift_where_it_moves(self, share: float) -> float:
        """Return the drift that a resonance asks for which was seen to move by a share; no loop is held over more than
        `WIDEST_DRIFT` of it."""
        return self.resonance_drift + MOVES_ON * share

    def where_friction_is(self, friction: float) -> "Robustness":
        """Return what must be honoured where dry friction [N·m] is known.

        A swing of width w meets it as 8 F / (pi w) at the most, in torque over angle; one that stays within a step of
        the device is not told to the loop, whatever friction does to it.
        """
        return self if self.step <= 0.0 else replace(self, grip=8 * friction / (math.pi * self.step))

    def where_it_moves(
        self, share: float, *, rise: float = 0.0, damping: float = 1.0, softer: float = 0.0, seen_hz: float = math.inf
    ) -> "Robustness":
        """Return what must be honoured where a resonance moves with amplitude, measured up to `seen_hz`.

        Its drift is wider by twice the `share` by which it was seen to move, for amplitudes that were not measured; it
        is higher by the `rise` once play is closed, and has a share of its `damping` left. Where play explains that it
        lies lower than it was seen before, its drift below is from there: from a share `softer` higher.
        """
        drift = min(self.drift_where_it_moves(share), WIDEST_DRIFT)
        return replace(
            self, resonance_drift=drift, resonance_rise=rise, closed_damping=damping, resonance_softer=softer,
            seen_hz=seen_hz,
        )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Braking:
    """Where the energy of a stop may go."""

    threshold: float  # [V] at which the resistor is switched on
    capacitance: float  # [F]
    resistor: float = 0.0  # [ohm] 0: none
    resistor_power: float = 0.0  # [W] for ever; 0: not entered
    stops: float = 1.0  # in a cycle
    cycle: float = 1.0  # [s]


@dataclass(frozen=True, slots=True, kw_only=True)
class AxisModel:
    """Everything the procedures know beforehand of an axis."""

    motor: Motor
    mechanism: Mechanism
    feedback: FeedbackDevice
    bus_voltage: float  # [V]
    goal: Goal
    robustness: Robustness
    current_bandwidth: float  # [Hz]
    phasing_share: float  # of continuous current
    power_up: str = "alignment"  # how the angle is found where nothing tells it: "alignment" or "search"
    braking: Braking
    brake: str = "none"  # who operates it: "none" is there, "drive" or "controller"
    brake_by_pin: bool = False  # it holds by a pin in a hole, not by friction
    brake_torque: float = 0.0  # [N·m] of its sheet; 0: not entered
    second: SecondDevice | None = None

    @property
    def counts_per_rev(self) -> float:
        """Counts per motor revolution, of a linear motor per magnetic pitch."""
        return self.feedback.counts_per_turn

    @property
    def has_index(self) -> bool:
        """Whether an index pulse is described."""
        return self.feedback.has_index

    @property
    def has_halls(self) -> bool:
        """Whether Hall signals are described."""
        return self.feedback.has_halls

    @property
    def knows_angle_at_power_up(self) -> bool:
        """Whether the device, or Halls, tell the rotor's angle before anything moved."""
        return self.feedback.has_halls or self.feedback.is_absolute

    @property
    def has_brake(self) -> bool:
        """Whether enabling opens a holding brake, by the drive or by a controller at the drive's signal."""
        return self.brake != "none"

    @property
    def inertia(self) -> float:
        """Motor and entered load together, at the motor. [kg·m²]"""
        return self.motor.inertia + self.mechanism.inertia_reflected


CONSTANTS = {
    "rotary": ("sheet.torque_constant", "sheet.back_emf"),
    "dc": ("sheet.torque_constant", "sheet.back_emf"),
    "stepper": ("sheet.torque_constant", "sheet.back_emf", "sheet.holding_torque"),
    "linear": ("sheet.force_constant", "sheet.back_emf_linear"),
    "voice_coil": ("sheet.force_constant", "sheet.back_emf_linear"),
}
PLATE = ("sheet.voltage_rated", "sheet.frequency_rated", "sheet.speed_rated")  # what an induction motor needs besides


def feedback_of(values: Mapping[str, Entry], motor: Motor) -> FeedbackDevice:
    """Return the device on a motor. Raises `EntryProblem`."""
    turn = None if motor.metres_per_rad is None else 2 * math.pi * motor.metres_per_rad
    return device_from_entries(values, pole_pairs=motor.pole_pairs, metres_per_turn=turn)


def missing_entries(values: Mapping[str, Entry], step: str | None = None) -> list[str]:
    """Return the labels of required parameters without a value, of one step or of all."""
    missing = [
        p.label
        for p in REGISTRY.values()
        if (step is None or p.step == step) and is_required(p, values) and not is_given(values, p.key)
    ]
    if step in (None, "motor"):
        constants = CONSTANTS.get(choice_of(values, "sheet.kind"), ())
        if constants and not any(is_given(values, k) for k in constants):
            labels = [REGISTRY[k].label for k in constants]
            missing.append(" or ".join([labels[0], *(label[0].lower() + label[1:] for label in labels[1:])]))
        if choice_of(values, "sheet.kind") == "induction":
            missing += [REGISTRY[k].label for k in PLATE if not is_given(values, k)]
    return missing


def is_needed(p: Parameter, values: Mapping[str, Entry]) -> bool:
    """Whether a parameter is among those that are needed: by itself, or as one of several that serve."""
    if p.required:
        return True
    kind = choice_of(values, "sheet.kind")
    return p.key in CONSTANTS.get(kind, ()) or (kind == "induction" and p.key in PLATE)


def unsupported(axis: AxisModel) -> str:
    """Return why the drives known so far cannot run an axis, in words; empty if they can.

    Drives here control synchronous motors. Everything else can be entered, checked and kept.
    """
    kind = axis.motor.kind
    if kind not in ("rotary", "linear"):
        return f"The drive controls synchronous motors; it cannot run one of the kind '{_choice('sheet.kind', kind)}'."
    if axis.second is not None and axis.second.closes_velocity:
        return (
            "The drive takes velocity from the device on the motor only. Choose that one as "
            f"{field_of('feedback.velocity_from')}; the position loop may use the second device."
        )
    return ""


def too_coarse(axis: AxisModel) -> str:
    """Return why loops beyond current cannot be closed on a device, in words; empty if they can."""
    if axis.feedback.kind.tells_sectors_only:
        return (
            "Halls alone are too coarse to tune velocity and position loops; the axis can be jogged on them. Fit a "
            f"finer device, and enter it as {field_of('feedback.kind')}."
        )
    return ""


def _choice(key: str, option: str) -> str:
    return dict(REGISTRY[key].choices)[option]


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
        return check_entry(key, filled.get(key, {}), filled)

    mechanism = mechanism_from_entries(filled)
    scale = mechanism.motor_rad_per_load
    motor = motor_from_sheet(filled)
    feedback = feedback_of(filled, motor)
    return AxisModel(
        motor=motor,
        mechanism=mechanism,
        feedback=feedback,
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
            resonance_drift=si("tuning.resonance_drift"),
            inertia_least=si("tuning.inertia_least"),
            inertia_most=si("tuning.inertia_most"),
            ripple=si("tuning.ripple"),
            load_peak_db=load_peak_of(si("tuning.load_peak"), choice_of(filled, "tuning.matters")),
            matters=choice_of(filled, "tuning.matters"),
            motor_inertia=motor.inertia,
            step=feedback.count_angle if feedback.kind.counts_lines else 0.0,
        ),
        current_bandwidth=si("current.bandwidth"),
        phasing_share=si("phasing.current"),
        power_up=choice_of(filled, "phasing.power_up"),
        brake=choice_of(filled, "brake.fitted"),
        brake_by_pin=choice_of(filled, "brake.fitted") != "none" and choice_of(filled, "brake.kind") == "pin",
        brake_torque=si("brake.torque") if is_given(filled, "brake.torque") else 0.0,
        braking=Braking(
            threshold=chopper_threshold(filled, bus_voltage(filled)),
            capacitance=si("power.bus_capacitance"),
            resistor=si("power.brake_resistor"),
            resistor_power=si("power.brake_power") if is_given(filled, "power.brake_power") else 0.0,
            stops=si("power.stops_per_cycle"),
            cycle=si("power.cycle_time"),
        ),
        second=second_from_entries(filled),
    )
