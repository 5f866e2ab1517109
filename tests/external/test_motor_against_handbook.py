"""Conventions, copper and bus voltage against handbook relations."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import constants

from cadrel.core.axis import understand
from cadrel.core.motor import COPPER_TEMPCO, check_motor, motor_from_sheet, torque_speed_envelope
from cadrel.core.parameters import Entry, check_entry
from cadrel.core.power import bus_voltage
from cadrel.core.quantities import to_si
from tests.conftest import values_of


def entry(value: float, unit: str, convention: str) -> Entry:
    return {"value": value, "unit": unit, "convention": convention}


@given(st.floats(0.01, 20))
def test_torque_and_back_emf_constant_agree_as_the_textbooks_say(ke: float) -> None:
    # Sine motor: Kt [N·m/A_peak] = sqrt(3)/2 Ke [V_peak line to line s/rad]; Kt [N·m/A_rms] = sqrt(3) Ke [V_rms line to
    # line s/rad]. Common to every textbook on permanent-magnet machines.
    peak = check_entry("sheet.torque_constant", entry(math.sqrt(3) / 2 * ke, "N·m/A", "per_peak"))
    rms = check_entry("sheet.torque_constant", entry(math.sqrt(3) * ke, "N·m/A", "per_rms"))
    assert peak == pytest.approx(1.5 * check_entry("sheet.back_emf", entry(ke, "V·s/rad", "ll_peak")), rel=1e-12)
    assert rms == pytest.approx(1.5 * check_entry("sheet.back_emf", entry(ke, "V·s/rad", "ll_rms")), rel=1e-12)


def test_shaft_power_is_air_gap_power_whatever_the_convention() -> None:
    # An invariant that survives two errors cancelling: torque x speed = 3/2 x back-EMF x current, peak values.
    motor = motor_from_sheet(values_of("tile-pusher"))
    speed, current = 200.0, 3.0
    electrical = 1.5 * (motor.pole_pairs * speed * motor.flux_linkage) * current
    assert motor.torque_constant * current * speed == pytest.approx(electrical, rel=1e-12)


@pytest.mark.parametrize(
    ("value", "quantity", "unit", "si"),
    [
        (40.0, "back_emf", "V/krpm", 0.382),  # common practice: 40 V/krpm = 0.382 V·s/rad
        (1.0, "inertia", "lb·in·s²", 0.112985),  # common conversion tables
        (1.0, "torque", "lb·in", constants.lbf * constants.inch),
        (1.0, "torque", "oz·in", constants.lbf / 16 * constants.inch),
        (3000.0, "speed", "rpm", 314.159265),
        (1.0, "axis_acceleration", "g", constants.g),
    ],
)
def test_printed_units_have_the_si_values_of_scipy_and_of_tables(
    value: float, quantity: str, unit: str, si: float
) -> None:
    assert to_si(value, quantity=quantity, unit=unit) == pytest.approx(si, rel=5e-4)  # tables print three digits


def test_copper_rises_by_the_published_coefficient() -> None:
    # IEC 60028: 0.00393 per kelvin at 20 °C (from memory).
    assert COPPER_TEMPCO == 0.00393


@pytest.mark.parametrize(("line", "bus"), [(120.0, 170.0), (220.0, 311.0)])
def test_rectified_mains_is_the_handbook_bus(line: float, bus: float) -> None:
    # Common practice: sqrt(2) x line rms.
    found = bus_voltage({"power.supply_kind": {"value": "ac"}, "power.supply_voltage": {"value": line, "unit": "V"}})
    assert found == pytest.approx(bus, abs=0.5)


def test_counts_are_four_times_the_lines() -> None:
    # Common practice: 2000 lines are 8000 counts.
    values = values_of("tile-pusher") | {"feedback.lines": {"value": 2000}}
    assert understand(values).counts_per_rev == 8000


@pytest.mark.parametrize(
    ("key", "wrong", "right"),
    [
        ("sheet.torque_constant", "per_peak", "per_rms"),
        ("sheet.back_emf", "ll_peak", "ll_rms"),
        ("sheet.back_emf", "phase_rms", "ll_rms"),
    ],
)
def test_a_mislabelled_constant_is_named_with_the_label_that_agrees(key: str, wrong: str, right: str) -> None:
    values = values_of("tile-pusher")
    values[key] = {**values[key], "convention": wrong}
    check = next(c for c in check_motor(values) if c.title.startswith("Torque constant"))
    assert check.state == "wrong"
    assert [(c.key, c.value) for c in check.remedies[0]] == [(key, right)]


@pytest.mark.parametrize("name", ["tile-pusher", "glaze-table", "reject-gate"])
def test_no_correct_sheet_is_accused(name: str) -> None:
    values = values_of(name)
    assert [c for c in check_motor(values, bus_voltage=bus_voltage(values)) if c.state == "wrong"] == []


def test_the_envelope_keeps_the_voltage_and_current_it_is_given() -> None:
    import numpy as np

    motor = motor_from_sheet(values_of("tile-pusher"))
    speed = np.linspace(0, 1.2 * motor.no_load_speed(325), 200)
    torque = torque_speed_envelope(motor, speed, current=motor.current_peak, bus_voltage=325)
    current = torque / motor.torque_constant
    omega = motor.pole_pairs * speed
    volts = np.hypot(motor.resistance * current + omega * motor.flux_linkage, omega * motor.inductance * current)
    driven = current > 0
    assert torque[0] == pytest.approx(motor.torque_constant * motor.current_peak)
    assert np.all(volts[driven] <= 325 / math.sqrt(3) * (1 + 1e-9))
    assert torque[-1] == 0
