"""The power step."""

import math
from collections.abc import Mapping

from cadrel.core.axis import braking_of, check_brake, check_braking, check_power
from cadrel.core.errors import CadrelError
from cadrel.core.motor import Check, reader_of
from cadrel.core.parameters import Entry, choice_of, is_given
from cadrel.core.power import brake_sequence, bus_voltage, chopper_threshold, combinations
from cadrel.web.route.facts.pictures import brake_picture
from cadrel.web.route.facts.shape import Facts


def power_facts(values: Mapping[str, Entry]) -> Facts:
    """Return bus, braking energy, resistor, brake sequence and warnings. Raises `CadrelError`."""
    bus, si = bus_voltage(values), reader_of(values)
    facts = Facts(checks=check_power(values))
    facts.rows = [
        ("Nominal DC bus", f"{bus:.0f}", "V"),
        ("Undervoltage threshold", f"{0.7 * bus:.0f}", "V"),
        ("Largest phase voltage", f"{bus / math.sqrt(3):.0f}", "V peak"),
        ("Chopper switches at", f"{chopper_threshold(values, bus):.0f}", "V"),
    ]
    try:
        demand = braking_of(values)
        facts.checks += check_braking(values) + check_brake(values)
    except CadrelError:
        facts.checks.append(Check("Braking energy", "look", "Worked out once motor, mechanics and limits are entered."))
    else:
        facts.rows += [
            ("Kinetic energy at the velocity limit", f"{demand.kinetic:.3g}", "J"),
            ("Lost in friction and copper", f"{demand.friction + demand.copper:.3g}", "J"),
            ("Left for the resistor, per stop", f"{demand.to_resistor:.3g}", "J"),
            ("Resistor, continuous", f"{demand.power_continuous:.3g}", "W"),
        ]
        if demand.to_resistor:
            facts.rows.append(("Largest resistor that takes the peak", f"{demand.resistance_largest:.3g}", "ohm"))
        if demand.power_peak:
            facts.rows.append(("Resistor, peak", f"{demand.power_peak / 1e3:.3g}", "kW"))
        if demand.to_resistor and is_given(values, "power.brake_minimum") and is_given(values, "power.brake_power"):
            facts.checks.append(_combination(values, demand.resistance_largest, demand.power_continuous))
    if choice_of(values, "brake.fitted") != "none":
        sequence = brake_sequence(
            release_delay=si("brake.release_delay"),
            engage_delay=si("brake.engage_delay"),
            pull_in_time=si("brake.pull_in_time"),
        )
        facts.pictures.append(
            brake_picture(sequence, pull_in=si("brake.pull_in_voltage"), hold=si("brake.hold_voltage"))
        )
        facts.rows += [
            ("Motion starts after enable", f"{1e3 * sequence.move_after:.0f}", "ms"),
            ("Controller stays on after standstill", f"{1e3 * sequence.power_off_after:.0f}", "ms"),
        ]
    return facts


def _combination(values: Mapping[str, Entry], largest: float, power: float) -> Check:
    si = reader_of(values)
    each = si("power.brake_resistor")
    found = combinations(
        each=each or 1.0, power=si("power.brake_power"), low=si("power.brake_minimum"), high=largest, wanted_power=power
    )
    if not each or not found:
        return Check(
            "Resistors joined", "look", "Up to six resistors of this kind cannot be joined to fit; choose another."
        )
    best = found[0]
    if best.count == 1:
        return Check("Resistors joined", "agrees", "One of them is enough.")
    how = f"{best.parallel} strings of {best.series}" if best.series > 1 else f"{best.parallel} in parallel"
    if best.parallel == 1:
        how = f"{best.series} in series"
    return Check(
        "Resistors joined",
        "look",
        f"{how} of {each:.3g} ohm make {best.resistance:.3g} ohm for {best.power:.3g} W, and fit.",
    )
