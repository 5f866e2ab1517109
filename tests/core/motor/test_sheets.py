"""Sheets in every convention against values worked out by hand, and mislabelled pairs that must be named."""

import math

import pytest

from cadrel.core.errors import UnusableInput
from cadrel.core.motor import check_motor, motor_from_sheet
from cadrel.core.parameters import Entry, EntryProblem, check_entry

# The same made-up motor printed in many ways: R = 1.2 ohm, L = 3.6 mH per phase, psi = 0.08 Wb, p = 4, Ic = 5 A peak.
# Worked out by hand: Kt = 1.5 x 4 x 0.08 = 0.48 N·m/A peak = 0.678823 N·m/A rms; Ke per phase peak = 0.32 V·s/rad,
# line to line peak 0.554256, line to line rms 0.391918 V·s/rad = 41.0416 V/krpm.
BASE: dict[str, Entry] = {
    "sheet.resistance": {"value": 2.4, "unit": "ohm", "convention": "line_to_line"},
    "sheet.inductance": {"value": 7.2, "unit": "mH", "convention": "line_to_line"},
    "sheet.back_emf": {"value": 0.391918358845308, "unit": "V·s/rad", "convention": "ll_rms"},
    "sheet.torque_constant": {"value": 0.48, "unit": "N·m/A", "convention": "per_peak"},
    "sheet.poles": {"value": 8, "convention": "poles"},
    "sheet.current_continuous": {"value": 5.0, "unit": "A", "convention": "peak"},
    "sheet.current_peak": {"value": 15.0, "unit": "A", "convention": "peak"},
    "sheet.torque_continuous": {"value": 2.4, "unit": "N·m"},
    "sheet.inertia": {"value": 1.1, "unit": "kg·cm²"},
    "sheet.speed_max": {"value": 5000, "unit": "rpm"},
}
PRINTED: list[tuple[str, Entry]] = [
    ("sheet.resistance", {"value": 1.2, "unit": "ohm", "convention": "phase"}),
    ("sheet.resistance", {"value": 2400, "unit": "mohm", "convention": "line_to_line"}),
    ("sheet.resistance", {"value": 1.2e6, "unit": "µohm", "convention": "phase"}),
    ("sheet.inductance", {"value": 3.6, "unit": "mH", "convention": "phase"}),
    ("sheet.inductance", {"value": 7200, "unit": "µH", "convention": "line_to_line"}),
    ("sheet.inductance", {"value": 0.0036, "unit": "H", "convention": "phase"}),
    ("sheet.back_emf", {"value": 0.32, "unit": "V·s/rad", "convention": "phase_peak"}),
    ("sheet.back_emf", {"value": 0.22627416997969522, "unit": "V·s/rad", "convention": "phase_rms"}),
    ("sheet.back_emf", {"value": 0.5542562584220407, "unit": "V·s/rad", "convention": "ll_peak"}),
    ("sheet.back_emf", {"value": 41.04159446, "unit": "V/krpm", "convention": "ll_rms"}),
    ("sheet.back_emf", {"value": 58.04157834, "unit": "mV/rpm", "convention": "ll_peak"}),
    ("sheet.back_emf", {"value": 391.918358845, "unit": "mV·s/rad", "convention": "ll_rms"}),
    ("sheet.torque_constant", {"value": 0.678822509939086, "unit": "N·m/A", "convention": "per_rms"}),
    ("sheet.torque_constant", {"value": 480, "unit": "mN·m/A", "convention": "per_peak"}),
    ("sheet.torque_constant", {"value": 4.2483578, "unit": "lb·in/A", "convention": "per_peak"}),
    ("sheet.torque_constant", {"value": 67.973725, "unit": "oz·in/A", "convention": "per_peak"}),
    ("sheet.poles", {"value": 4, "convention": "pairs"}),
    ("sheet.current_continuous", {"value": 3.5355339059327378, "unit": "A", "convention": "rms"}),
    ("sheet.current_continuous", {"value": 5000, "unit": "mA", "convention": "peak"}),
    ("sheet.current_peak", {"value": 10.606601717798213, "unit": "A", "convention": "rms"}),
    ("sheet.inertia", {"value": 1100, "unit": "g·cm²"}),
    ("sheet.inertia", {"value": 1.1e-4, "unit": "kg·m²"}),
    ("sheet.inertia", {"value": 110, "unit": "kg·mm²"}),
    ("sheet.inertia", {"value": 9.7358e-4, "unit": "lb·in·s²"}),
    ("sheet.speed_max", {"value": 523.5987755982989, "unit": "rad/s"}),
    ("sheet.speed_max", {"value": 83.33333333333333, "unit": "1/s"}),
]


@pytest.mark.parametrize(
    ("key", "entry"), PRINTED, ids=[f"{k} {e.get('unit', '')} {e.get('convention', '')}" for k, e in PRINTED]
)
def test_every_way_to_print_it_is_the_same_motor(key: str, entry: Entry) -> None:
    values = {**BASE, key: entry}
    if key == "sheet.torque_constant":
        values.pop("sheet.back_emf")
    motor = motor_from_sheet(values)
    close = 2e-5  # imperial values are printed to five digits; the others are exact
    assert motor.resistance == pytest.approx(1.2, rel=close)
    assert motor.inductance == pytest.approx(3.6e-3, rel=close)
    assert motor.flux_linkage == pytest.approx(0.08, rel=close)
    assert motor.pole_pairs == 4
    assert motor.current_continuous == pytest.approx(5.0, rel=close)
    assert motor.current_peak == pytest.approx(15.0, rel=close)
    assert motor.inertia == pytest.approx(1.1e-4, rel=close)
    assert motor.speed_max == pytest.approx(523.5987756, rel=close)
    assert [c.title for c in check_motor(values) if c.state == "wrong"] == []


def test_derived_values_are_those_worked_out_by_hand() -> None:
    motor = motor_from_sheet(BASE)
    assert motor.torque_constant == pytest.approx(0.48)
    assert motor.electrical_time_constant == pytest.approx(3e-3)
    assert motor.short_circuit_current == pytest.approx(0.08 / 3.6e-3)
    assert motor.winding_loss(5.0) == pytest.approx(1.5 * 1.2 * 25)
    assert motor.motor_constant == pytest.approx(0.48 / math.sqrt(1.8))
    assert motor.mechanical_time_constant == pytest.approx(1.5 * 1.2 * 1.1e-4 / 0.48**2)
    assert motor.no_load_speed(300.0) == pytest.approx(300 / math.sqrt(3) / 0.32)


MISLABELLED = [
    ("sheet.torque_constant", "per_rms", "per_peak"),
    ("sheet.back_emf", "ll_peak", "ll_rms"),
    ("sheet.back_emf", "phase_rms", "ll_rms"),
    ("sheet.back_emf", "phase_peak", "ll_rms"),
]


def changes_of(values: dict[str, Entry]) -> list[set[tuple[str, str, str]]]:
    """What the checks offer, the likeliest first."""
    offers = [r for c in check_motor(values) for r in c.remedies]
    return [{(c.key, c.field, c.value) for c in offer} for offer in offers]


@pytest.mark.parametrize(("key", "wrong", "right"), MISLABELLED)
def test_a_wrong_label_is_noticed_and_the_right_one_named(key: str, wrong: str, right: str) -> None:
    values = {**BASE, key: {**BASE[key], "convention": wrong}}
    check = next(c for c in check_motor(values) if c.title.startswith("Torque constant"))
    assert check.state == "wrong"
    assert "apart" in check.detail
    assert "They agree if the" in check.detail
    assert changes_of(values)[0] == {(key, "convention", right)}


@pytest.mark.parametrize(("printed", "wrong", "right"), [(5.0, "rms", "peak"), (5.0 / math.sqrt(2), "peak", "rms")])
def test_a_current_with_the_wrong_label_shows_in_the_torque(printed: float, wrong: str, right: str) -> None:
    values = {**BASE, "sheet.current_continuous": {"value": printed, "unit": "A", "convention": wrong}}
    check = next(c for c in check_motor(values) if c.title == "Continuous torque")
    assert check.state == "wrong"
    assert changes_of(values)[0] == {("sheet.current_continuous", "convention", right)}


def test_a_wrong_unit_is_named_where_the_numbers_tell() -> None:
    values = {**BASE, "sheet.back_emf": {"value": 41.04, "unit": "V·s/rad", "convention": "ll_rms"}}
    assert ("sheet.back_emf", "unit", "V/krpm") in changes_of(values)[0]
    values = {**BASE, "sheet.inertia": {"value": 1.1, "unit": "kg·m²"}}
    assert changes_of(values)[0] == {("sheet.inertia", "unit", "kg·cm²")}


def test_two_wrong_labels_at_once_are_named_together() -> None:
    values = {
        **BASE,
        "sheet.motor_constant": {"value": 0.48 / math.sqrt(1.8), "unit": "N·m/√W"},
        "sheet.time_constant_electrical": {"value": 3.0, "unit": "ms"},
        "sheet.resistance": {**BASE["sheet.resistance"], "convention": "phase"},
        "sheet.inductance": {**BASE["sheet.inductance"], "convention": "phase"},
    }
    both = {("sheet.resistance", "convention", "line_to_line"), ("sheet.inductance", "convention", "line_to_line")}
    assert changes_of(values)[0] == both


def test_a_slipped_digit_is_not_taken_for_a_label() -> None:
    values = {**BASE, "sheet.torque_constant": {"value": 4.8, "unit": "N·m/A", "convention": "per_peak"}}
    check = next(c for c in check_motor(values) if c.title.startswith("Torque constant"))
    assert check.state == "wrong"
    assert check.remedies == ()
    assert "slipped digit" in check.detail


def test_a_peak_below_continuous_and_a_bus_too_low_are_said() -> None:
    values = {**BASE, "sheet.current_peak": {"value": 2.0, "unit": "A", "convention": "peak"}}
    states = {c.title: c.state for c in check_motor(values, bus_voltage=24.0)}
    assert states["Peak and continuous current"] == "wrong"
    assert states["Speed at this bus voltage"] == "look"


def test_percent_and_per_mil_are_of_the_other_current() -> None:
    # Common practice: 2000 per mil of 2 A rated are 4 A.
    values = {**BASE, "sheet.current_continuous": {"value": 2.0, "unit": "A", "convention": "peak"}}
    values["sheet.current_peak"] = {"value": 2000, "unit": "‰"}
    assert motor_from_sheet(values).current_peak == pytest.approx(4.0)
    values["sheet.current_peak"] = {"value": 350, "unit": "%"}
    assert motor_from_sheet(values).current_peak == pytest.approx(7.0)
    del values["sheet.current_continuous"]
    with pytest.raises(EntryProblem, match="in parts of the continuous current; type that"):
        check_entry("sheet.current_peak", values["sheet.current_peak"], values)


def test_a_convention_of_another_kind_of_motor_is_refused_in_words() -> None:
    values: dict[str, Entry] = {"sheet.kind": {"value": "dc"}}
    entry: Entry = {"value": 2.4, "unit": "ohm", "convention": "line_to_line"}
    with pytest.raises(EntryProblem, match="'line to line' does not fit a motor of the kind 'brushed dc'"):
        check_entry("sheet.resistance", entry, values)


def test_temperature_mounting_and_cable_change_what_is_understood() -> None:
    # Copper 0.00393 per kelvin (IEC 60028): 1.393 times at 120 °C; 25 m of 1.5 mm² at 0.017241 ohm·mm²/m: 0.28735 ohm.
    values: dict[str, Entry] = {
        **BASE,
        "sheet.temperature_winding": {"value": 120, "unit": "°C"},
        "sheet.mounting_share": {"value": 70, "unit": "%"},
        "cable.length": {"value": 25, "unit": "m"},
        "cable.section": {"value": 1.5, "unit": "mm²"},
    }
    motor = motor_from_sheet(values)
    assert motor.resistance == pytest.approx(1.2 * 1.393 + 0.28735, rel=1e-6)
    assert motor.flux_linkage == pytest.approx(0.08 * (1 - 0.0011 * 100))
    assert motor.current_continuous == pytest.approx(3.5)
    assert motor_from_sheet({**values, "cable.length": {"value": 82.02099737532808, "unit": "ft"}}) == motor


def test_a_fahrenheit_sheet_is_the_same_motor() -> None:
    warm = {**BASE, "sheet.temperature_winding": {"value": 100, "unit": "°C"}}
    fahrenheit = {**BASE, "sheet.temperature_winding": {"value": 212, "unit": "°F"}}
    assert motor_from_sheet(fahrenheit).resistance == pytest.approx(motor_from_sheet(warm).resistance, rel=1e-12)


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"sheet.speed_rated": (1500, "rpm")}, "slip of 0.0%"),
        ({"sheet.speed_rated": (3200, "rpm")}, "above the synchronous speed"),
        ({"sheet.voltage_rated": (230, "V")}, "efficiency of 1"),
        ({"sheet.power_factor": (0.98, "")}, "no magnetising current"),
    ],
)
def test_a_nameplate_that_contradicts_itself_is_refused_in_words(
    changes: dict[str, tuple[float, str]], said: str
) -> None:
    plate = {
        "sheet.power_rated": (1.5, "kW"), "sheet.speed_rated": (1420, "rpm"), "sheet.frequency_rated": (50, "Hz"),
        "sheet.voltage_rated": (400, "V"), "sheet.current_rated": (3.4, "A"), "sheet.power_factor": (0.81, ""),
        "sheet.inertia": (33, "kg·cm²"), "sheet.speed_max": (3000, "rpm"),
    }  # fmt: skip
    values: dict[str, Entry] = {k: {"value": v, "unit": u} for k, (v, u) in {**plate, **changes}.items()}
    values["sheet.kind"] = {"value": "induction"}
    with pytest.raises(UnusableInput, match=said):
        motor_from_sheet(values)


# Copper gains 0.00393 per kelvin from 20 °C (IEC 60228, annealed copper): 31.4 % to 100 °C.
WARM = {**BASE, "sheet.resistance": {"value": 2.4 * 1.3144, "unit": "ohm", "convention": "line_to_line"}}
FITTING: dict[str, Entry] = {
    "sheet.motor_constant": {"value": 0.48 / math.sqrt(1.5 * 1.2), "unit": "N·m/√W"},
    "sheet.time_constant_electrical": {"value": 3.0, "unit": "ms"},
}


def test_a_resistance_printed_warm_is_explained_and_not_called_wrong() -> None:
    checks = check_motor({**WARM, **FITTING})
    assert all(c.state != "wrong" for c in checks)
    odd = [c for c in checks if c.state == "look"]
    assert odd
    assert all("the winding resistance is printed at 100 °C" in c.detail for c in odd)
    (change,) = odd[0].remedies[0]
    mended = change.applied({**WARM, **FITTING})
    assert all(c.state == "agrees" for c in check_motor(mended))


@pytest.mark.parametrize(("entered", "factor", "warm"), [
    (20, 1.0, 20.0), (20, 1.393, 120.0), (20, 0.9214, 0.0), (100, 1.0, 100.0), (100, 1 / 1.3144, 20.0),
])  # fmt: skip
def test_a_resistance_tells_how_warm_its_winding_is(entered: float, factor: float, warm: float) -> None:
    """Copper gains 0.393 % a kelvin of what it has at 20 °C (IEC 60028): 39.3 % to 120 °C."""
    motor = motor_from_sheet({**BASE, "sheet.temperature_winding": {"value": entered, "unit": "°C"}})
    assert motor.warm_as(factor * motor.resistance) == pytest.approx(warm, abs=0.1)


def test_a_temperature_that_is_said_counts_for_resistance_and_constants() -> None:
    at: dict[str, Entry] = {"sheet.resistance_at": {"value": 100, "unit": "°C"}}
    assert motor_from_sheet({**WARM, **at}).resistance == pytest.approx(1.2, rel=1e-4)
    cold = motor_from_sheet(BASE).flux_linkage
    hot = {**BASE, "sheet.constants_at": {"value": 120, "unit": "°C"}}
    assert motor_from_sheet(hot).flux_linkage == pytest.approx(cold / (1 - 0.0011 * 100))  # NdFeB: -0.11 % per kelvin


def test_a_wrong_label_is_still_wrong_though_heat_would_explain_a_part_of_it() -> None:
    values = {**BASE, **FITTING, "sheet.resistance": {"value": 2.4, "unit": "ohm", "convention": "phase"}}
    wrong = [c for c in check_motor(values) if c.state == "wrong"]
    assert wrong
    assert wrong[0].remedies[0][0].value == "line_to_line"


def test_block_commutated_constants_are_equal_numbers_and_make_one_motor() -> None:
    # Two phases conduct a constant current I: mean torque x speed = mean line voltage x I, so the torque constant in
    # N·m per A dc equals the line-to-line back-EMF constant in V·s/rad (Hendershot and Miller, Design of Brushless
    # Permanent-Magnet Motors; the equality follows from the power alone).
    sheet = {
        **BASE,
        "sheet.torque_constant": {"value": 0.53, "unit": "N·m/A", "convention": "per_block"},
        "sheet.back_emf": {"value": 0.53, "unit": "V·s/rad", "convention": "ll_block"},
    }
    kt = check_entry("sheet.torque_constant", sheet["sheet.torque_constant"], sheet)
    ke = check_entry("sheet.back_emf", sheet["sheet.back_emf"], sheet)
    assert kt == pytest.approx(1.5 * ke)
    # A line voltage of amplitude sqrt(3) E, rectified over 60° about its crest, has a mean of 3/pi of that.
    angles = [math.radians(-30 + 60 * (k + 0.5) / 10_000) for k in range(10_000)]
    mean = math.sqrt(3) * ke * sum(math.cos(a) for a in angles) / 10_000
    assert mean == pytest.approx(0.53, rel=1e-6)
