"""Warnings and advice about mechanics, power and limits, once enough of the axis is entered."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from cadrel.core.axis.understanding import AxisModel, understand
from cadrel.core.mechanics import MoveDemand, demand_of_move, mechanism_from_entries
from cadrel.core.motion import Profile, move_profile
from cadrel.core.motor import Check, Motor, reader_of, torque_speed_envelope
from cadrel.core.parameters import Entry, choice_of, is_given
from cadrel.core.power import RATED_RISE, BrakingDemand, braking_demand, bus_voltage, chopper_threshold, fits_class

COMFORTABLE_RATIO = 10.0  # load to motor inertia; far more can be tuned
ABSURD_RATIO = 100.0
VELOCITY_RESERVE = (1.1, 1.2)  # velocity limit over the fastest move
WARM = 40.0  # [K] over the air from which a resistor's place matters
HOLDING_RESERVE = 1.5  # brake torque over the load's
RPM = 60 / (2 * math.pi)


def shown_torque(motor: Motor, torque: float) -> str:
    """Return a torque as one reads it: N·m, of a straight motor N."""
    if motor.metres_per_rad is None:
        return f"{torque:.3g} N·m"
    return f"{torque / motor.metres_per_rad:.3g} N"


def shown_speed(motor: Motor, speed: float) -> str:
    """Return a motor speed as one reads it: rpm, of a straight motor m/s."""
    return f"{speed * RPM:.0f} rpm" if motor.metres_per_rad is None else f"{speed * motor.metres_per_rad:.3g} m/s"


@dataclass(frozen=True, slots=True)
class PlannedMove:
    """The goal's move within the limits, and what it asks of the motor."""

    axis: AxisModel
    profile: Profile
    demand: MoveDemand


def planned_move(values: Mapping[str, Entry]) -> PlannedMove:
    """Return the goal's move. Raises `CoreError` while something is missing."""
    axis = understand(values)
    si = reader_of(values)
    scale = axis.mechanism.motor_rad_per_load
    profile = move_profile(
        axis.goal.distance,
        velocity=si("limit.velocity") * scale,
        acceleration=si("limit.acceleration") * scale,
        jerk=si("limit.jerk") * scale,
    )
    return PlannedMove(
        axis, profile, demand_of_move(profile, axis.mechanism, inertia=axis.inertia, dwell=axis.goal.dwell)
    )


def current_limit(values: Mapping[str, Entry], motor: Motor) -> float:
    """Return the smaller of motor and drive peak current. [A peak]"""
    if is_given(values, "power.drive_current_peak"):
        return min(motor.current_peak, reader_of(values)("power.drive_current_peak"))
    return motor.current_peak


def current_continuous(values: Mapping[str, Entry], motor: Motor) -> float:
    """Return the smaller of motor and drive continuous current. [A peak]"""
    if is_given(values, "power.drive_current_continuous"):
        return min(motor.current_continuous, reader_of(values)("power.drive_current_continuous"))
    return motor.current_continuous


def check_mechanics(values: Mapping[str, Entry], motor: Motor) -> list[Check]:
    """Return warnings about gear, inertia and holding. Raises `EntryProblem`."""
    m = mechanism_from_entries(values)
    ratio = m.inertia_reflected / motor.inertia
    said = f"{ratio:.3g} : 1, load to motor; up to {COMFORTABLE_RATIO:.0f} : 1 is comfortable."
    if ratio > ABSURD_RATIO and m.ratio != 1:
        turned = ratio * m.ratio**4
        said += f" With the gear the other way round it would be {turned:.3g} : 1; is it entered upside down?"
    elif ratio > COMFORTABLE_RATIO:
        said += " More can be tuned."
    state = "agrees" if ratio <= COMFORTABLE_RATIO else "look" if ratio <= ABSURD_RATIO else "wrong"
    checks = [Check("Inertia ratio", state, said)]  # type: ignore[arg-type]
    if m.ratio < 1:
        checks.append(
            Check(
                "Gear", "look",
                f"The output turns {1 / m.ratio:.3g} times as fast as the motor. A reducing gear is entered the other way "
                f"round, as {1 / m.ratio:.3g}.",
            )
        )  # fmt: skip
    if m.torque_constant_load:
        checks.append(_holding(values, m.torque_constant_load, motor, current_continuous(values, motor)))
    return checks


def _holding(values: Mapping[str, Entry], load: float, motor: Motor, current: float) -> Check:
    held = motor.torque_constant * current
    share = abs(load) / held
    said = f"Standing still takes {shown_torque(motor, abs(load))} at the motor, {share:.0%} of what it holds for ever."
    if choice_of(values, "brake.fitted") == "none":
        return Check("Load at standstill", "look", said + " Without a holding brake it sags when power goes.")
    return Check("Load at standstill", "agrees" if share < 0.8 else "wrong", said)


def check_move(plan: PlannedMove, values: Mapping[str, Entry], bus: float) -> list[Check]:
    """Return whether motor and drive can make the planned move: peak torque at each speed, rms torque, speed."""
    motor, demand = plan.axis.motor, plan.demand
    peak = current_limit(values, motor)
    reach = torque_speed_envelope(motor, np.abs(demand.speed), current=peak, bus_voltage=bus)
    worst = float(np.max(np.abs(demand.torque) / np.maximum(reach, 1e-12)))
    held = motor.torque_constant * current_continuous(values, motor)
    return [
        Check(
            "Peak torque of the move", "agrees" if worst <= 0.7 else "look" if worst <= 1 else "wrong",
            f"It takes up to {shown_torque(motor, demand.torque_peak)}, {worst:.0%} of what motor, drive and bus reach at that speed; "
            "leave a third in reserve.",
        ),
        Check(
            "Continuous torque of the move", "agrees" if demand.torque_rms <= 0.9 * held else "wrong",
            f"Move and dwell average {shown_torque(motor, demand.torque_rms)} rms; motor and drive hold {shown_torque(motor, held)} for ever.",
        ),
    ]  # fmt: skip


def braking_of(values: Mapping[str, Entry]) -> BrakingDemand:
    """Return what the hardest stop gives back: the quick stop from the velocity limit, a hanging load sinking.

    Raises `CoreError`.
    """
    si = reader_of(values)
    axis = understand(values)
    m, motor, bus = axis.mechanism, axis.motor, bus_voltage(values)
    speed = si("limit.velocity") * m.motor_rad_per_load
    share = m.efficiency  # what the mechanism itself swallows of what the load gives back
    return braking_demand(
        inertia=motor.inertia + share * m.inertia_reflected,
        speed=-math.copysign(speed, m.torque_constant_load) if m.torque_constant_load else speed,
        deceleration=max(si("limit.quick_stop"), si("limit.acceleration")) * m.motor_rad_per_load,
        friction=m.torque_friction,
        load=share * m.torque_constant_load,
        torque_constant=motor.torque_constant,
        resistance_loss=motor.winding_loss(1.0),
        capacitance=si("power.bus_capacitance"),
        bus=bus,
        threshold=chopper_threshold(values, bus),
        resistor=si("power.brake_resistor"),
        stops=si("power.stops_per_cycle"),
        cycle=si("power.cycle_time"),
    )


def check_power(values: Mapping[str, Entry]) -> list[Check]:
    """Return warnings about the supply class, the threshold and the brake's voltages. Raises `EntryProblem`."""
    si = reader_of(values)
    bus = bus_voltage(values)
    checks = []
    fits = fits_class(bus, choice_of(values, "power.drive_class"))
    if fits is not None:
        name = choice_of(values, "power.drive_class")
        words = {"dc80": "up to 80 V dc", "ac230": "the 230 V class", "ac400": "the 400 V class"}[name]
        said = f"The bus will have {bus:.0f} V; the drive is built for {words}."
        if not fits:
            said += " Do not switch it on." if bus > 375 or name == "dc80" else " It will not start."
        checks.append(Check("Supply class", "agrees" if fits else "wrong", said))
    threshold = chopper_threshold(values, bus)
    checks.append(
        Check(
            "Chopper threshold", "agrees" if 1.08 * bus <= threshold <= 1.5 * bus else "wrong",
            f"It switches at {threshold:.0f} V, {threshold / bus:.2f} times the nominal bus; mains may be 8 % high.",
        )
    )  # fmt: skip
    if choice_of(values, "brake.fitted") != "none":
        checks.append(_brake_voltage(bus, si("brake.pull_in_voltage"), si("brake.hold_voltage")))
    return checks


def _brake_voltage(bus: float, pull_in: float, hold: float) -> Check:
    if pull_in > bus:
        return Check("Brake voltage", "wrong", f"The bus has {bus:.0f} V; the brake needs {pull_in:.0f} V to open.")
    good = 0.3 * pull_in <= hold <= pull_in
    return Check(
        "Brake voltage", "agrees" if good else "look",
        f"Held open at {hold:.3g} V, {hold / pull_in:.0%} of the pull-in voltage; about half is usual.",
    )  # fmt: skip


def check_braking(values: Mapping[str, Entry]) -> list[Check]:
    """Return whether bus and resistor take what the hardest stop gives back. Raises `CoreError`."""
    si = reader_of(values)
    demand = braking_of(values)
    fitted = si("power.brake_resistor")
    said = (
        f"A stop from the velocity limit gives back {demand.to_resistor + demand.capacitors:.3g} J, of which the capacitors "
        f"take {demand.capacitors:.3g} J."
        if demand.to_resistor
        else f"The capacitors take all that a stop gives back, up to {demand.capacitors:.3g} J."
    )
    if not demand.to_resistor:
        return [Check("Braking energy", "agrees", said)]
    if not fitted:
        return [
            Check("Braking energy", "wrong", said + f" {demand.to_resistor:.3g} J have nowhere to go: fit a resistor.")
        ]
    checks = [Check("Braking energy", "agrees", said + " The resistor burns the rest.")]
    if is_given(values, "power.brake_minimum") and fitted < si("power.brake_minimum"):
        least = si("power.brake_minimum")
        checks.append(
            Check("Brake resistor", "wrong", f"{fitted:.3g} ohm is less than the {least:.3g} ohm the drive stands.")
        )
    elif fitted > demand.resistance_largest:
        checks.append(
            Check(
                "Brake resistor", "wrong",
                f"{fitted:.3g} ohm takes {demand.power_peak:.3g} W at the threshold, too little at the start of the stop; "
                f"up to {demand.resistance_largest:.3g} ohm does.",
            )
        )  # fmt: skip
    if is_given(values, "power.brake_power"):
        power = si("power.brake_power")
        checks.append(
            Check(
                "Resistor's power", "agrees" if demand.power_continuous <= power else "wrong",
                f"The cycle burns {demand.power_continuous:.3g} W on average; the resistor stands {power:.3g} W.",
            )
        )  # fmt: skip
        rise = RATED_RISE * demand.power_continuous / power
        if rise > WARM:
            checks.append(
                Check(
                    "Resistor's heat", "look",
                    f"On average it gets some {rise:.0f} K warmer than its air: free space above it, nothing that burns or "
                    "melts near it, and its thermal switch wired.",
                )
            )  # fmt: skip
    return checks


def check_brake(values: Mapping[str, Entry]) -> list[Check]:
    """Return whether the holding brake's torque holds what hangs, and the move's peak. Raises `CoreError`."""
    if choice_of(values, "brake.fitted") == "none" or not is_given(values, "brake.torque"):
        return []
    holds, plan = reader_of(values)("brake.torque"), planned_move(values)
    motor, load = plan.axis.motor, abs(plan.axis.mechanism.torque_constant_load)
    state = "agrees" if holds >= HOLDING_RESERVE * load else "look" if holds >= load else "wrong"
    said = f"It holds {shown_torque(motor, holds)} at the motor; the load pulls with {shown_torque(motor, load)}."
    if state == "wrong":
        said += " It slips: the load falls as soon as current goes."
    elif state == "look":
        said += f" {HOLDING_RESERVE:g} times the load is usual: worn or oily it holds half."
    peak = plan.demand.torque_peak
    stopped = Check(
        "Brake closing in a move", "agrees" if holds >= peak else "look",
        f"The move takes up to {shown_torque(motor, peak)}; the brake holds {shown_torque(motor, holds)}"
        + ("." if holds >= peak else ", and slips if it closes then: it is made for holding, not for stopping."),
    )  # fmt: skip
    return [Check("Brake holds the load", state, said), stopped, _power_lost(values, plan.axis, holds)]  # type: ignore[arg-type]


def _power_lost(values: Mapping[str, Entry], axis: AxisModel, holds: float) -> Check:
    """What the brake alone does with the axis at its velocity limit, sinking, when power goes."""
    si, m = reader_of(values), axis.mechanism
    speed, load = si("limit.velocity") * m.motor_rad_per_load, abs(m.torque_constant_load)
    inertia = axis.motor.inertia + m.inertia_reflected
    slows = holds + m.torque_friction - load
    falls = speed * si("brake.engage_delay")
    if slows <= 0:
        return Check("Power lost at speed", "wrong", "The brake cannot stop a load that sinks at the velocity limit.")
    way = falls + 0.5 * inertia * speed**2 / slows
    burnt = 0.5 * inertia * speed**2 * holds / slows
    return Check(
        "Power lost at speed", "agrees" if m.unit_per_rad * way <= _long_way(axis) else "look",
        f"The brake alone stops it from the velocity limit within {m.unit_per_rad * way:.3g} {m.unit}, "
        f"{m.unit_per_rad * falls:.3g} of them before it grips, and takes {burnt:.3g} J: for emergencies only.",
    )  # fmt: skip


def _long_way(axis: AxisModel) -> float:
    """Half of the travel that identification may use, in the axis's unit: more is a long way for an emergency."""
    return axis.mechanism.unit_per_rad * axis.goal.travel / 2


def check_travel(plan: PlannedMove, values: Mapping[str, Entry]) -> list[Check]:
    """Return whether the travel limits are in order and hold the goal and what identification may use."""
    si, axis = reader_of(values), plan.axis
    scale, per, unit = axis.mechanism.motor_rad_per_load, axis.mechanism.unit_per_rad, axis.mechanism.unit
    span = (si("limit.travel_max") - si("limit.travel_min")) * scale
    if span <= 0:
        return [Check("Travel", "wrong", "The lower end lies above the upper one; the drive would not move at all.")]
    wanted = max(axis.goal.distance, axis.goal.travel)
    what = "The move" if axis.goal.distance >= axis.goal.travel else "The travel for identification"
    said = f"{what} takes {wanted * per:.4g} {unit} of the {span * per:.4g} {unit} between the ends."
    return [Check("Travel", "agrees" if wanted <= span else "wrong", said)]


def check_limits(plan: PlannedMove, values: Mapping[str, Entry]) -> list[Check]:
    """Return warnings about the limits against move and motor."""
    si, axis = reader_of(values), plan.axis
    unit, per, motor = axis.mechanism.unit, axis.mechanism.unit_per_rad, axis.motor
    v, top = si("limit.velocity") * axis.mechanism.motor_rad_per_load, plan.demand.speed_top
    goal, took = axis.goal.move_time, plan.profile.duration
    fastest = f"The move reaches {top * per:.4g} {unit}/s, the limit is {v * per:.4g}"
    if top >= 0.999 * v:
        speed = Check("Velocity limit", "agrees", fastest + ": the limit shapes the move.")
    else:
        speed = Check(
            "Velocity limit", "agrees" if v <= 2 * top else "look",
            f"{fastest}; {VELOCITY_RESERVE[0] * top * per:.4g} to {VELOCITY_RESERVE[1] * top * per:.4g} would do.",
        )  # fmt: skip
    current, most = si("limit.current") if is_given(values, "limit.current") else 0.0, current_limit(values, motor)
    checks = [
        Check(
            "Move time", "agrees" if took <= goal else "wrong",
            f"The limits allow {1e3 * took:.0f} ms; the goal is {1e3 * goal:.0f} ms.",
        ),
        speed,
        Check(
            "Motor speed", "agrees" if v <= motor.speed_max else "wrong",
            f"The velocity limit is {shown_speed(motor, v)} at the motor; it stands {shown_speed(motor, motor.speed_max)}.",
        ),
        Check(
            "Quick stop", "agrees" if si("limit.quick_stop") >= si("limit.acceleration") else "look",
            f"It is {si('limit.quick_stop') / si('limit.acceleration'):.2g} times the normal ramp; it should not be gentler.",
        ),
        *check_travel(plan, values),
    ]  # fmt: skip
    if current > most * 1.001:
        checks.append(
            Check(
                "Current limit", "look",
                f"{current:.3g} A peak is above the smaller of motor and drive, {most:.3g} A; that one holds.",
            )
        )  # fmt: skip
    counts = axis.goal.window / axis.feedback.count_angle
    checks.append(
        Check(
            "Window", "agrees" if counts >= 2 else "look",
            f"The window is {counts:.1f} counts of the encoder; two or more can be met.",
        )
    )  # fmt: skip
    return checks
