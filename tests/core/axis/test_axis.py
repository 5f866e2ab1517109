"""Entries -> axis -> drive values, and back into entries."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from cadrel.cli.draws import draw_bench
from cadrel.core.axis import (
    careful_velocity,
    drive_values,
    entry_from_drive,
    initial_gains,
    missing_entries,
    understand,
)
from cadrel.core.control import Gains, TwoMass, Winding, spectral_radius
from cadrel.core.errors import UnusableInput
from cadrel.core.parameters import DRIVE_KEYS, REGISTRY, Entry, EntryProblem, check_entry, defaults
from tests.conftest import values_of


def test_a_rack_turns_millimetres_into_motor_radians_by_hand_calculation() -> None:
    # 5:1 gear, 120 mm per output turn: 24 mm per motor turn; 1500 mm/s are 62.5 motor turns a second.
    axis = understand(values_of("tile-pusher"))
    assert axis.mechanism.unit == "mm"
    assert 2 * math.pi * axis.mechanism.unit_per_rad == pytest.approx(24.0)
    held = drive_values(values_of("tile-pusher"))
    assert held["limit.velocity"] == pytest.approx(2 * math.pi * 62.5)
    assert held["limit.travel_max"] == pytest.approx(2 * math.pi * 420 / 24)


def test_mass_and_inertia_are_reflected_by_the_square_of_the_way() -> None:
    # m (h / 2 pi i)², J / i²: every handbook of machine elements.
    axis = understand(values_of("tile-pusher"))
    assert axis.mechanism.inertia_reflected == pytest.approx(13 * (0.120 / (2 * math.pi * 5)) ** 2)
    table = understand(values_of("glaze-table"))
    assert table.mechanism.inertia_reflected == pytest.approx(1250e-4 / 400)
    assert table.mechanism.unit == "°"


def test_a_30_to_1_gear_at_60_rpm_turns_the_load_at_2_rpm() -> None:
    # Common practice.
    values = values_of("glaze-table") | {"mechanics.ratio": {"value": 30.0}}
    axis = understand(values)
    motor = 60 * 2 * math.pi / 60
    assert motor * axis.mechanism.unit_per_rad / 6 == pytest.approx(2.0)  # 1 rpm is 6 °/s


def test_drive_values_are_complete_and_bounded() -> None:
    for name in ("tile-pusher", "glaze-table", "reject-gate"):
        held = drive_values(values_of(name), drive_current_peak=10.0)
        assert set(held) == set(DRIVE_KEYS)
        assert held["limit.current"] <= 10.0
        for key, value in held.items():
            p = REGISTRY[key]
            assert math.isfinite(value)
            if not p.quantity.startswith("axis_"):
                assert p.minimum <= value <= p.maximum, key


def test_an_entry_under_the_drives_own_key_wins_over_the_sheet() -> None:
    values = values_of("tile-pusher")
    values["motor.inductance"] = {"value": 5.1, "unit": "mH", "source": "identified"}
    assert drive_values(values)["motor.inductance"] == pytest.approx(5.1e-3)
    values["limit.current"] = {"value": 4.0, "unit": "A"}
    assert drive_values(values)["limit.current"] == pytest.approx(4.0)


def test_the_current_limit_is_the_smaller_of_motor_and_drive() -> None:
    values = values_of("tile-pusher")
    assert drive_values(values)["limit.current"] == pytest.approx(9.5 * math.sqrt(2))
    assert drive_values(values, drive_current_peak=8.0)["limit.current"] == 8.0


@pytest.mark.parametrize("key", DRIVE_KEYS)
def test_every_drive_value_survives_the_way_into_an_entry_and_back(key: str) -> None:
    for name in ("tile-pusher", "glaze-table"):
        values = values_of(name)
        axis = understand(values)
        before = drive_values(values)
        entry = entry_from_drive(key, before[key], axis=axis)
        after = drive_values({**values, key: entry})
        assert after[key] == pytest.approx(before[key], rel=1e-12, abs=1e-15)


def test_missing_entries_are_named_by_step_and_as_a_whole() -> None:
    assert len(missing_entries({})) > 12
    assert "Lines per revolution" in missing_entries({}, "feedback")
    assert missing_entries(values_of("tile-pusher")) == []
    without = {k: v for k, v in values_of("reject-gate").items() if k != "sheet.back_emf"}
    assert missing_entries(without, "motor") == ["Torque constant or back-EMF constant"]
    with pytest.raises(UnusableInput, match="Neither torque constant"):
        understand(without)


def test_starting_gains_are_careful_with_ten_times_the_inertia_either_way() -> None:
    axis = understand(values_of("tile-pusher"))
    held = drive_values(values_of("tile-pusher"))
    gains = Gains.from_drive(held)
    assert gains.velocity_gain == initial_gains(axis)["velocity.gain"]
    winding = Winding(resistance=axis.motor.resistance, inductance=axis.motor.inductance)
    for factor in (0.1, 1.0, 10.0):
        load = TwoMass(inertia_motor=factor * axis.inertia)
        assert spectral_radius("velocity", load, winding, gains) < 1


def test_the_starting_loop_is_stable_on_every_shaft_however_stiff_and_heavily_loaded() -> None:
    # Drawn until it hurts: ratio to 30, 40 to 1200 Hz, damping from 0.5 %, sheets off by up to a third of the load.
    worst = 0.0
    for number in range(60):
        truth, values = draw_bench(np.random.default_rng([17, number]), wide=True)
        held = drive_values(values)
        load = TwoMass(
            inertia_motor=truth.inertia_motor, inertia_load=truth.inertia_load, stiffness=truth.stiffness,
            damping=truth.damping, viscous=truth.viscous_motor, viscous_load=truth.viscous_load,
        )  # fmt: skip
        winding = Winding(resistance=truth.resistance, inductance=truth.inductance_q, emf=Winding.from_drive(held).emf)
        worst = max(worst, spectral_radius("velocity", load, winding, Gains.from_drive(held)))
        found = careful_velocity(truth.inertia_motor + truth.inertia_load, truth.inertia_motor, 15.0)
        after = Gains.from_drive(held | found)  # as the load run leaves it
        worst = max(worst, spectral_radius("velocity", load, winding, after))
    assert worst < 1.0


@pytest.mark.parametrize(
    ("key", "entry", "says"),
    [
        ("sheet.poles", {"value": 7, "convention": "poles"}, "whole number"),
        ("sheet.poles", {"value": 4.5, "convention": "pairs"}, "whole number"),
        ("sheet.inertia", {"value": 1.35, "unit": "kg·m²", "convention": None}, None),
        ("sheet.inertia", {"value": 1e7, "unit": "kg·m²"}, "too large"),
        ("sheet.inertia", {"value": 1e-9, "unit": "g·cm²"}, "too small"),
        ("sheet.resistance", {"value": 1, "unit": "V"}, "not a unit"),
        ("sheet.resistance", {"value": 1, "unit": "ohm", "convention": "rms"}, "not a way"),
        ("power.supply_kind", {"value": "steam"}, "not one of the choices"),
        ("limit.velocity", {"value": True, "unit": "mm/s"}, None),
    ],
)
def test_an_entry_is_taken_or_refused_with_one_sentence(key: str, entry: Entry, says: str | None) -> None:
    if says is None:
        assert check_entry(key, entry) > 0
    else:
        with pytest.raises(EntryProblem) as caught:
            check_entry(key, entry)
        assert says in caught.value.parts[0]


@given(st.sampled_from(sorted(defaults())))
def test_every_default_is_an_entry_its_own_check_takes(key: str) -> None:
    assert math.isfinite(check_entry(key, defaults()[key]))


def test_the_bound_in_a_refusal_is_itself_acceptable() -> None:
    with pytest.raises(EntryProblem) as caught:
        check_entry("sheet.current_peak", {"value": 9e6, "unit": "mA", "convention": "peak"})
    assert "8e+06 mA" in caught.value.parts[0]
    assert check_entry("sheet.current_peak", {"value": 8e6, "unit": "mA", "convention": "peak"}) == 8000
