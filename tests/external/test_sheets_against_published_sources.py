"""Data of sheets against published tables and worked relations."""

import math

import pytest

from cadrel.core.motor import COPPER_RESISTIVITY, Motor, Nameplate, cable_resistance, model_from_nameplate
from cadrel.core.motor.induction import InductionModel

# IEC 60228:2004, table 3, class 5, flexible plain copper: largest resistance at 20 °C in ohm/km (from memory).
IEC_60228_CLASS_5 = {
    0.5: 39.0,
    0.75: 26.0,
    1.0: 19.5,
    1.5: 13.3,
    2.5: 7.98,
    4.0: 4.95,
    6.0: 3.30,
    10.0: 1.91,
    16.0: 1.21,
}


@pytest.mark.parametrize(("section", "largest"), IEC_60228_CLASS_5.items())
def test_an_ideal_wire_lies_just_below_the_standards_largest_resistance(section: float, largest: float) -> None:
    ideal = 1000 * cable_resistance(length=1.0, section=section * 1e-6)
    assert 0.84 * largest < ideal < largest


def test_copper_resistivity_is_that_of_the_annealed_standard() -> None:
    # International Annealed Copper Standard, IEC 60028: 1/58 ohm·mm²/m at 20 °C.
    assert pytest.approx(1e-6 / 58, rel=1e-4) == COPPER_RESISTIVITY


def plate(**changes: float) -> InductionModel:
    base = dict(
        power=7500.0, torque=None, voltage=400.0, current=14.9, frequency=50.0, speed=1455 * math.pi / 30,
        power_factor=0.83, breakdown_ratio=2.8,
    )  # fmt: skip
    return model_from_nameplate(Nameplate(**(base | changes)))  # type: ignore[arg-type]


def test_a_nameplate_gives_the_textbook_relations() -> None:
    # n_s = 120 f / poles; s = (n_s - n) / n_s; T = P / w; efficiency = P / (sqrt 3 U I cos phi)
    # (A. E. Fitzgerald, C. Kingsley, S. D. Umans, Electric Machinery, ch. 6; from memory).
    model = plate()
    assert model.pole_pairs == 2
    assert model.synchronous_speed * 30 / math.pi == pytest.approx(120 * 50 / 4)
    assert model.slip == pytest.approx(0.03)
    assert model.torque == pytest.approx(49.22, abs=0.01)
    assert model.efficiency == pytest.approx(7500 / (math.sqrt(3) * 400 * 14.9 * 0.83))


def test_flux_oriented_currents_make_the_rated_torque_and_the_rated_slip() -> None:
    # Rotor-flux orientation: T = 1.5 p psi i_q, slip speed i_q / (T_r i_d) (W. Leonhard, Control of Electrical Drives;
    # from memory).
    model = plate()
    assert 1.5 * model.pole_pairs * model.flux_linkage * model.torque_current == pytest.approx(model.torque)
    slip_speed = model.torque_current / (model.rotor_time_constant * model.magnetising_current)
    assert slip_speed == pytest.approx(model.slip * 2 * math.pi * 50)


@pytest.mark.parametrize("ratio", [1.8, 2.3, 2.8, 3.5])
def test_the_rated_point_lies_on_the_circle_of_the_current(ratio: float) -> None:
    # Heyland (1894), Ossanna (1899): the stator current's end moves on a circle from I_m to I_m + 2 r; its top is the
    # breakdown point (from memory).
    model = plate(breakdown_ratio=ratio)
    radius = ratio * model.torque_current
    reactive = math.sqrt((14.9 * math.sqrt(2)) ** 2 - model.torque_current**2)
    distance = math.hypot(reactive - model.magnetising_current - radius, model.torque_current)
    assert distance == pytest.approx(radius)
    assert model.leakage == pytest.approx(model.magnetising_current / (model.magnetising_current + 2 * radius))


def test_a_four_pole_catalogue_motor_has_usual_values() -> None:
    # Common practice for 7.5 kW, four poles: no-load current 35 to 55 % of rated, total leakage 4 to 12 %, rotor time
    # constant 100 to 400 ms.
    model = plate()
    assert 0.35 < model.magnetising_current / (14.9 * math.sqrt(2)) < 0.55
    assert 0.04 < model.leakage < 0.12
    assert 0.1 < model.rotor_time_constant < 0.4


def test_motor_constants_of_dc_and_ac_descriptions_of_one_machine_agree() -> None:
    # Km = Kt / sqrt(R) with two wires; with three phases T / sqrt(3/2 R i²): the same loss for the same torque
    # (J. R. Hendershot, T. J. E. Miller, Design of Brushless Permanent-Magnet Machines; from memory).
    common = dict(inductance=1e-3, current_continuous=1.0, current_peak=3.0, inertia=1e-4, speed_max=300.0)
    dc = Motor(kind="dc", phases=2, resistance=2.0, flux_linkage=0.5, pole_pairs=1, **common)  # type: ignore[arg-type]
    ac = Motor(resistance=2.0, flux_linkage=0.1, pole_pairs=4, **common)  # type: ignore[arg-type]
    for motor in (dc, ac):
        torque = motor.torque_constant * 2.0
        assert torque / math.sqrt(motor.winding_loss(2.0)) == pytest.approx(motor.motor_constant)
    assert dc.motor_constant == pytest.approx(0.5 / math.sqrt(2.0))
    assert dc.no_load_speed(24.0) == pytest.approx(48.0)  # V / Ke
    assert ac.no_load_speed(300.0) == pytest.approx(300 / math.sqrt(3) / 0.4)


def test_shaft_power_is_air_gap_power_for_every_kind() -> None:
    common = dict(
        resistance=1.0, inductance=1e-3, current_continuous=1.0, current_peak=3.0, inertia=1e-4, speed_max=300.0
    )
    for kind, phases, pairs in (("rotary", 3, 4), ("stepper", 2, 50), ("dc", 2, 1), ("linear", 3, 1)):
        motor = Motor(kind=kind, phases=phases, pole_pairs=pairs, flux_linkage=0.07, **common)  # type: ignore[arg-type]
        speed, current = 120.0, 2.5
        emf = pairs * speed * motor.flux_linkage
        assert motor.torque_constant * current * speed == pytest.approx(0.5 * phases * emf * current)
