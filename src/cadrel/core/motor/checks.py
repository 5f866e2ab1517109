"""Checks that catch a wrong convention, each with the numbers it compared."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from cadrel.core.motor.winding import Motor, motor_from_sheet
from cadrel.core.parameters import Entry, check_entry, parameter
from cadrel.core.quantities import CONVENTIONS

AGREE = 0.12  # [1] sheets round, and Kt is often given warm: 12 % apart still counts as the same
NEAR_MISS = 0.06  # [1] a relabelled pair must fit this well before the tool names it


@dataclass(frozen=True, slots=True)
class Check:
    """One comparison: what was compared, how it came out, and what would mend it."""

    title: str
    state: Literal["agrees", "look", "wrong"]
    detail: str
    relabel: dict[str, str] = field(default_factory=dict)  # parameter key -> convention that would agree


def check_motor(values: Mapping[str, Entry], *, bus_voltage: float | None = None) -> list[Check]:
    """Return every check that the given entries allow.

    Parameters
    ----------
    values : mapping of key to Entry
        Printed entries of the motor step; must be complete enough for `motor_from_sheet`.
    bus_voltage : float, optional
        DC bus, for the speed check. [V]

    Raises
    ------
    EntryProblem
        An entry cannot be understood.
    """
    motor = motor_from_sheet(values)
    checks = [
        *_constants_agree(values, motor),
        *_torque_agrees(values, motor),
        _current_ratio(motor),
        _time_constant(motor),
    ]
    if bus_voltage:
        checks.append(_speed_within_bus(motor, bus_voltage))
    return checks


def _given(values: Mapping[str, Entry], key: str) -> bool:
    return values.get(key, {}).get("value") not in (None, "")


def _with(values: Mapping[str, Entry], key: str, convention: str) -> dict[str, Entry]:
    return {**values, key: {**values[key], "convention": convention}}


def _constants_agree(values: Mapping[str, Entry], motor: Motor) -> list[Check]:
    """Kt against Ke: with the dq model Kt [N·m/A_peak] = 1.5 x Ke [V_peak per phase s/rad]."""
    if not (_given(values, "sheet.torque_constant") and _given(values, "sheet.back_emf")):
        return []
    kt = check_entry("sheet.torque_constant", values["sheet.torque_constant"])
    from_ke = 1.5 * check_entry("sheet.back_emf", values["sheet.back_emf"])
    apart = kt / from_ke - 1
    said = f"Kt as stated is {kt:.4g} N·m per A peak; Ke as stated makes {from_ke:.4g}, {abs(apart):.0%} apart."
    if abs(apart) <= AGREE:
        return [Check("Torque constant and back-EMF", "agrees", said)]
    keys = ("sheet.torque_constant", "sheet.back_emf")
    fits: list[tuple[float, str, str]] = []
    for key in keys:
        for other in CONVENTIONS[parameter(key).convention or ""]:
            if other.key == values[key].get("convention"):
                continue
            changed = _with(values, key, other.key)
            ratio = check_entry(keys[0], changed[keys[0]]) / (1.5 * check_entry(keys[1], changed[keys[1]]))
            fits.append((abs(math.log(ratio)), key, other.key))
    fits = sorted(f for f in fits if f[0] <= NEAR_MISS)
    if not fits:
        return [
            Check(
                "Torque constant and back-EMF",
                "wrong",
                said + " No other convention makes them agree; look for a slipped digit or unit.",
            )
        ]
    # Several relabellings can give the same factor (rms for peak on either side); the torque tells which.
    key, convention = _likelier(values, fits)
    label = dict((c.key, c.label) for c in CONVENTIONS[parameter(key).convention or ""])[convention]
    hint = f" They agree if the {parameter(key).label.lower()} is {label}."
    return [Check("Torque constant and back-EMF", "wrong", said + hint, {key: convention})]


def _likelier(values: Mapping[str, Entry], fits: list[tuple[float, str, str]]) -> tuple[str, str]:
    if _given(values, "sheet.torque_continuous"):
        torque = check_entry("sheet.torque_continuous", values["sheet.torque_continuous"])
        current = check_entry("sheet.current_continuous", values["sheet.current_continuous"])

        def misfit(fit: tuple[float, str, str]) -> float:
            changed = _with(values, fit[1], fit[2])
            kt = check_entry("sheet.torque_constant", changed["sheet.torque_constant"])
            return abs(math.log(kt * current / torque))

        best = min(fits, key=misfit)
        return best[1], best[2]
    return fits[0][1], fits[0][2]


def _torque_agrees(values: Mapping[str, Entry], motor: Motor) -> list[Check]:
    if not _given(values, "sheet.torque_continuous"):
        return []
    printed = check_entry("sheet.torque_continuous", values["sheet.torque_continuous"])
    computed = motor.torque_constant * motor.current_continuous
    ratio = computed / printed
    said = f"Kt times continuous current is {computed:.4g} N·m; the sheet prints {printed:.4g}."
    if abs(ratio - 1) <= AGREE:
        return [Check("Continuous torque", "agrees", said)]
    if abs(ratio / math.sqrt(2) - 1) <= NEAR_MISS and values["sheet.current_continuous"].get("convention") == "rms":
        return [
            Check(
                "Continuous torque",
                "wrong",
                said + " They agree if the current is peak of sine.",
                {"sheet.current_continuous": "peak"},
            )
        ]
    if abs(ratio * math.sqrt(2) - 1) <= NEAR_MISS and values["sheet.current_continuous"].get("convention") == "peak":
        return [
            Check(
                "Continuous torque",
                "wrong",
                said + " They agree if the current is rms.",
                {"sheet.current_continuous": "rms"},
            )
        ]
    return [Check("Continuous torque", "look", said + " Rated torque at rated speed is lower than stall torque.")]


def _current_ratio(motor: Motor) -> Check:
    ratio = motor.current_peak / motor.current_continuous
    said = f"Peak is {ratio:.2g} times continuous; 2 to 6 is usual."
    if ratio < 1:
        return Check("Peak and continuous current", "wrong", said + " Peak cannot be below continuous.")
    return Check("Peak and continuous current", "agrees" if 2 <= ratio <= 6 else "look", said)


def _time_constant(motor: Motor) -> Check:
    tau = 1e3 * motor.electrical_time_constant
    said = f"L / R is {tau:.3g} ms; 0.3 to 30 ms is usual."
    return Check("Electrical time constant", "agrees" if 0.3 <= tau <= 30 else "look", said)


def _speed_within_bus(motor: Motor, bus_voltage: float) -> Check:
    rpm = 60 / (2 * math.pi)
    no_load = motor.no_load_speed(bus_voltage)
    said = (
        f"{bus_voltage:.0f} V lets it reach {no_load * rpm:.0f} rpm unloaded; "
        f"the sheet allows {motor.speed_max * rpm:.0f}."
    )
    if no_load < 0.5 * motor.speed_max or no_load > 6 * motor.speed_max:
        return Check("Speed at this bus voltage", "look", said)
    return Check("Speed at this bus voltage", "agrees", said)
