"""Printed entries of any kind of motor -> Motor."""

import math
from collections.abc import Callable, Mapping
from typing import Any

from cadrel.core.errors import UnusableInput
from cadrel.core.motor.cable import cable_resistance
from cadrel.core.motor.induction import InductionModel, Nameplate, model_from_nameplate
from cadrel.core.motor.winding import REFERENCE_TEMPERATURE, Motor, copper_factor, magnet_factor
from cadrel.core.parameters import REGISTRY, Entry, check_entry, choice_of, defaults, is_given

Reader = Callable[[str], float]
TWO_PI = 2 * math.pi
STEPS_PER_PAIR = 4  # of a two-phase stepper
BY_MAGNETS = ("sheet.torque_constant", "sheet.back_emf", "sheet.force_constant", "sheet.back_emf_linear")


def reader_of(values: Mapping[str, Entry]) -> Reader:
    """Return a function from key to SI value; absent entries count with their default. It raises `EntryProblem`.

    Resistance and constants are those at 20 °C, whatever temperature they are printed at.
    """
    filled = {**defaults(), **values}

    def si(key: str) -> float:
        value = check_entry(key, filled.get(key, {}), filled)
        if key == "sheet.resistance":
            return value / copper_factor(si("sheet.resistance_at"))
        if key in BY_MAGNETS:
            return value / magnet_factor(si("sheet.constants_at"), si("sheet.magnet_coefficient"))
        return value

    return si


def motor_from_sheet(values: Mapping[str, Entry]) -> Motor:
    """Return the motor understood from printed entries, at the winding temperature entered, behind its cable.

    The flux linkage is taken from the back-EMF constant if printed, else from the torque or force constant: volts are
    measured more exactly than torque, and saturation does not enter.

    Raises
    ------
    EntryProblem
        A required entry is missing or cannot be right.
    UnusableInput
        No constant is given, or a nameplate contradicts itself.
    """
    si = reader_of(values)
    kind = choice_of(values, "sheet.kind")
    motor = {
        "rotary": _rotary, "linear": _linear, "dc": _dc, "voice_coil": _voice_coil, "stepper": _stepper,
        "induction": _induction,
    }[kind](values, si)  # fmt: skip
    if motor.kind != "induction":
        motor = motor.at(si("sheet.temperature_winding"))
    if si("cable.length") > 0:
        motor = motor.with_cable(cable_resistance(length=si("cable.length"), section=si("cable.section")))
    return motor


def _constant(values: Mapping[str, Entry], si: Reader, *, voltage: str, torque: str, per_amp: float) -> float:
    """Linkage from the back-EMF constant [V peak per rad/s electrical x pairs], or from torque / `per_amp`."""
    if is_given(values, voltage):
        return si(voltage)
    if is_given(values, torque):
        return si(torque) / per_amp
    a, b = REGISTRY[torque].label, REGISTRY[voltage].label
    raise UnusableInput(
        what=f"Neither {a.lower()} nor {b.lower()} is given.",
        remedy="Type one of the two; with both, one checks the other.",
    )


def _magnets(si: Reader) -> dict[str, Any]:
    return {
        "resistance": si("sheet.resistance"),
        "inductance": si("sheet.inductance"),
        "current_continuous": si("sheet.current_continuous") * si("sheet.mounting_share"),
        "current_peak": si("sheet.current_peak"),
        "temperature": REFERENCE_TEMPERATURE,
        "magnet_coefficient": si("sheet.magnet_coefficient"),
    }


def _rotary(values: Mapping[str, Entry], si: Reader) -> Motor:
    pairs = round(si("sheet.poles"))
    emf = _constant(values, si, voltage="sheet.back_emf", torque="sheet.torque_constant", per_amp=1.5)
    return Motor(
        **_magnets(si), pole_pairs=pairs, flux_linkage=emf / pairs, inertia=si("sheet.inertia"),
        speed_max=si("sheet.speed_max"),
    )  # fmt: skip


def _linear(values: Mapping[str, Entry], si: Reader) -> Motor:
    per_rad = si("sheet.pitch") / TWO_PI
    emf = _constant(values, si, voltage="sheet.back_emf_linear", torque="sheet.force_constant", per_amp=1.5)
    return Motor(
        **_magnets(si), kind="linear", pole_pairs=1, flux_linkage=emf * per_rad, metres_per_rad=per_rad,
        inertia=si("sheet.mass_moving") * per_rad**2, speed_max=si("sheet.velocity_max") / per_rad,
    )  # fmt: skip


def _dc(values: Mapping[str, Entry], si: Reader) -> Motor:
    emf = _constant(values, si, voltage="sheet.back_emf", torque="sheet.torque_constant", per_amp=1.0)
    return Motor(
        **_magnets(si), kind="dc", phases=2, pole_pairs=1, flux_linkage=emf, inertia=si("sheet.inertia"),
        speed_max=si("sheet.speed_max"),
    )  # fmt: skip


def _voice_coil(values: Mapping[str, Entry], si: Reader) -> Motor:
    emf = _constant(values, si, voltage="sheet.back_emf_linear", torque="sheet.force_constant", per_amp=1.0)
    return Motor(
        **_magnets(si), kind="voice_coil", phases=2, pole_pairs=1, flux_linkage=emf, metres_per_rad=1.0,
        inertia=si("sheet.mass_moving"), speed_max=si("sheet.velocity_max"),
    )  # fmt: skip


def _stepper(values: Mapping[str, Entry], si: Reader) -> Motor:
    pairs, odd = divmod(round(si("sheet.steps")), STEPS_PER_PAIR)
    if odd:
        raise UnusableInput(
            what=f"{round(si('sheet.steps'))} steps a turn are no whole number of pole pairs: four steps make one.",
            remedy="Type full steps: 200 for 1.8°.",
        )
    given = any(is_given(values, k) for k in ("sheet.back_emf", "sheet.torque_constant"))
    if not given and is_given(values, "sheet.holding_torque"):
        emf = si("sheet.holding_torque") / si("sheet.current_continuous")
    else:
        emf = _constant(values, si, voltage="sheet.back_emf", torque="sheet.torque_constant", per_amp=1.0)
    return Motor(
        **_magnets(si), kind="stepper", phases=2, pole_pairs=pairs, flux_linkage=emf / pairs,
        inertia=si("sheet.inertia"), speed_max=si("sheet.speed_max"),
    )  # fmt: skip


def nameplate_model(values: Mapping[str, Entry]) -> InductionModel:
    """Return what an induction motor's plate says. Raises as `motor_from_sheet`."""
    si = reader_of(values)
    return model_from_nameplate(
        Nameplate(
            power=si("sheet.power_rated") if is_given(values, "sheet.power_rated") else None,
            torque=si("sheet.torque_rated") if is_given(values, "sheet.torque_rated") else None,
            voltage=si("sheet.voltage_rated"),
            current=si("sheet.current_rated") / math.sqrt(2),
            frequency=si("sheet.frequency_rated"),
            speed=si("sheet.speed_rated"),
            power_factor=si("sheet.power_factor"),
            breakdown_ratio=si("sheet.breakdown_ratio"),
        )
    )


def _induction(values: Mapping[str, Entry], si: Reader) -> Motor:
    model = nameplate_model(values)
    return Motor(
        kind="induction",
        resistance=model.resistance_rotor,  # of stator and rotor alike, until it is measured
        inductance=model.leakage * model.inductance_stator,
        flux_linkage=model.flux_linkage,
        pole_pairs=model.pole_pairs,
        current_continuous=si("sheet.current_rated") * si("sheet.mounting_share"),
        current_peak=math.hypot(model.magnetising_current, 0.8 * si("sheet.breakdown_ratio") * model.torque_current),
        inertia=si("sheet.inertia"),
        speed_max=si("sheet.speed_max"),
        magnetising_current=model.magnetising_current,
        slip_rated=model.slip,
        rotor_time_constant=model.rotor_time_constant,
        base_speed=si("sheet.speed_rated"),
        breakdown_ratio=si("sheet.breakdown_ratio"),
    )
