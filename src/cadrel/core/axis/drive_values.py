"""What the drive should hold, computed from what was entered."""

import math
from collections.abc import Mapping

from cadrel.core.axis.understanding import AxisModel, understand
from cadrel.core.control import Rates
from cadrel.core.feedback import layout_of, telegram_time
from cadrel.core.parameters import DRIVE_KEYS, REGISTRY, Entry, check_entry, default_drive_values
from cadrel.core.quantities import from_si, units_of

UNDERVOLTAGE_SHARE = 0.7  # of the nominal bus; common practice
ALONE_HZ = 30.0  # crossover on the motor alone, where delay and a shaft's resonance leave room on every drawn axis
START_TORQUE_FILTER_HZ = 150.0  # a resonance above is weaker for it, and the slow loop hardly notices
START_BANDWIDTH_HZ = 12.0  # velocity loop before anything is identified; survives ten times the inertia either way


def initial_gains(axis: AxisModel, rates: Rates | None = None) -> dict[str, float]:
    """Return gains to start with: the current loop from R and L, the others careful. SI, by drive key."""
    motor = axis.motor
    velocity = careful_velocity(axis.inertia, axis.motor.inertia, START_BANDWIDTH_HZ)
    gain = current_gain(motor.inductance, axis.current_bandwidth, rates)
    return {
        "current.gain": gain,
        "current.reset_time": motor.electrical_time_constant,
        **velocity,
        "velocity.torque_filter": START_TORQUE_FILTER_HZ,
        "position.gain": velocity["velocity.gain"] / axis.inertia / 6,
    }


def careful_velocity(inertia: float, inertia_motor: float, crossover_hz: float) -> dict[str, float]:
    """Return velocity gain and reset time, by drive key, that hold the load as a whole and the motor alone.

    Parameters
    ----------
    inertia, inertia_motor : float
        Of everything that moves, and of the motor alone, at the motor shaft. [kg·m²]
    crossover_hz : float
        Wanted with everything moving. [Hz]

    Notes
    -----
    Above the resonance of a shaft the loop meets the motor alone: a gain made for a load of twenty times its inertia
    crosses over there at twenty times the frequency, where delay makes it run away whatever the damping. So the gain
    stays below what is calm on the motor alone, and the loop is the slower for it.
    """
    gain = 2 * math.pi * min(inertia * crossover_hz, inertia_motor * ALONE_HZ)
    return {"velocity.gain": gain, "velocity.reset_time": 5 * inertia / gain}


def current_gain(inductance: float, bandwidth_hz: float, rates: Rates | None = None) -> float:
    """Return the PI gain that, with the pole cancelled, gives the wanted -3 dB bandwidth. [V/A]

    Notes
    -----
    With delay Td the cancelled loop is w_c e^{-s Td} / s, whose closed-loop -3 dB point lies above w_c. The
    crossover is found by fixed-point iteration on |T(j w_B)| = 1 / sqrt(2), Td = 1.5 ticks.
    """
    delay = 1.5 * (rates or Rates()).current
    wanted = 2 * math.pi * bandwidth_hz
    low, high = 0.05 * wanted, wanted
    for _ in range(60):
        middle = 0.5 * (low + high)
        loop = middle / wanted
        # L(jw) = loop * (-j) e^{-j w Td}
        real, imaginary = -loop * math.sin(wanted * delay), -loop * math.cos(wanted * delay)
        closed = math.hypot(real, imaginary) / math.hypot(1 + real, imaginary)
        low, high = (middle, high) if closed < math.sqrt(0.5) else (low, middle)
    return low * inductance


def drive_values(
    values: Mapping[str, Entry],
    *,
    drive_current_peak: float | None = None,
    axis: AxisModel | None = None,
    rates: Rates | None = None,
) -> dict[str, float]:
    """Return every drive parameter, SI at the motor shaft.

    An entry under the drive's own key (typed, identified, tuned) wins over what the sheet says.

    Parameters
    ----------
    drive_current_peak : float, optional
        Rating of the connected drive; the current limit never exceeds it. [A peak]
    rates : Rates, optional
        Of the connected drive.
    axis : AxisModel, optional
        What `understand(values)` gave, if it is at hand.

    Raises
    ------
    EntryProblem, UnusableInput
        As `understand`.
    """
    axis = axis or understand(values)
    result = default_drive_values() | _computed(axis) | initial_gains(axis, rates)
    scale = axis.mechanism.motor_rad_per_load
    for key in DRIVE_KEYS:
        entry = values.get(key)
        if entry is not None and entry.get("value") not in (None, ""):
            factor = scale if REGISTRY[key].quantity.startswith("axis_") else 1.0
            result[key] = check_entry(key, entry, values) * factor
        elif REGISTRY[key].quantity.startswith("axis_"):
            result[key] *= scale
    result["feedback.halls"], result["feedback.index"] = float(axis.has_halls), float(axis.has_index)
    # Of a brake that holds by friction no turn is asked, whatever was typed while it was entered as a pin.
    result["brake.free_turn"] = (result["brake.free_turn"] or PIN_TURN) if axis.brake_by_pin else 0.0
    result["limit.current"] = min(
        result["limit.current"] if "limit.current" in values else axis.motor.current_peak,
        axis.motor.current_peak,
        drive_current_peak or math.inf,
    )
    return result


def _computed(axis: AxisModel) -> dict[str, float]:
    motor = axis.motor
    return {
        "motor.resistance": motor.resistance,
        "motor.inductance": motor.inductance,
        "motor.flux_linkage": motor.flux_linkage,
        "motor.pole_pairs": float(motor.pole_pairs),
        "motor.current_continuous": motor.current_continuous,
        "motor.current_peak": motor.current_peak,
        "motor.speed_max": motor.speed_max,
        **_device_values(axis),
        "power.undervoltage": UNDERVOLTAGE_SHARE * axis.bus_voltage,
        "load.inertia": axis.inertia,
        "brake.operation": float(BRAKE_CODES[axis.brake]),
    }


PIN_TURN = math.radians(3.0)  # of the motor: what shows a pin to be out, unless something else is entered
BRAKE_CODES = {"none": 0.0, "drive": 1.0, "controller": 2.0}
CHECKSUM_CODES = {"none": 0.0, "parity": 1.0, "crc6": 6.0}
FLAG_CODES = {"none": 0.0, "low": 1.0, "high": 2.0}


def _device_values(axis: AxisModel) -> dict[str, float]:
    """What the drive's feedback input is set to."""
    device = axis.feedback
    word = device.serial
    return {
        "feedback.device": float(device.kind.code),
        "feedback.counts": device.counts_per_turn,
        "feedback.periods": device.periods_per_turn or 1.0,
        "feedback.word_skip": float(word.trailing_bits) if word else 0.0,
        "feedback.word_length": float(sum(f.bits for f in layout_of(word))) if word else 0.0,
        "feedback.word_checksum": CHECKSUM_CODES[word.crc] if word else 0.0,
        "feedback.word_gray": float(word.coding == "gray") if word else 0.0,
        "feedback.word_error": FLAG_CODES[word.error_bit] if word else 0.0,
        "feedback.word_warning": FLAG_CODES[word.warning_bit] if word else 0.0,
        "feedback.word_latency": telegram_time(device),
        "feedback.second_counts": 0.0 if axis.second is None else axis.second.counts_per_turn,
        "feedback.position_device": float(axis.second is not None and axis.second.closes_position),
    }


def entry_from_drive(key: str, value: float, *, axis: AxisModel, source: str = "identified") -> Entry:
    """Return a drive value as an entry in the parameter's printed unit, so that the project can keep it."""
    p = REGISTRY[key]
    if p.choices:
        return {"value": str(round(value)), "source": source}  # type: ignore[typeddict-item]
    unit = p.unit or units_of(p.quantity)[0]
    if p.quantity.startswith("axis_"):
        value /= axis.mechanism.motor_rad_per_load
        if not axis.mechanism.is_linear:
            unit = next(u for u in units_of(p.quantity) if u.startswith(("°", "rev", "rad")))
    return {"value": from_si(value, quantity=p.quantity, unit=unit), "unit": unit, "source": source}  # type: ignore[typeddict-item]
