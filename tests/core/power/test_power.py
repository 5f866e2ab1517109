"""Bus, braking energy, resistors and the holding brake against handbook relations."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from cadrel.core.axis import braking_of, check_brake, check_braking, check_power, check_travel, planned_move
from cadrel.core.parameters import Entry
from cadrel.core.power import (
    StopOnBus,
    brake_sequence,
    braking_demand,
    bus_voltage,
    combinations,
    fits_class,
    stop_on_bus,
)
from tests.conftest import values_of

BASE = dict(
    inertia=2e-3, speed=300.0, deceleration=3000.0, friction=0.0, load=0.0, torque_constant=0.6, resistance_loss=0.0,
    capacitance=500e-6, bus=325.0, threshold=390.0, resistor=60.0, stops=2.0, cycle=1.5,
)  # fmt: skip


def test_kinetic_energy_less_capacitors_is_what_the_resistor_burns() -> None:
    # Handbook sizing (common practice of drive makers): E = J w²/2 - C (U2² - U1²)/2; P = n E / t; peak = U²/R.
    found = braking_demand(**BASE)
    assert found.kinetic == pytest.approx(90.0)
    assert found.capacitors == pytest.approx(0.5 * 500e-6 * (390**2 - 325**2))
    assert found.to_resistor == pytest.approx(90.0 - found.capacitors)
    assert found.power_continuous == pytest.approx(2 * found.to_resistor / 1.5)
    assert found.power_peak == pytest.approx(390**2 / 60)
    # It must take the power at the start of the stop, torque times speed: 6 N·m x 300 rad/s = 1800 W.
    assert found.resistance_largest == pytest.approx(390**2 / 1800)


def test_friction_and_copper_lessen_what_comes_back() -> None:
    free = braking_demand(**BASE)
    rubbing = braking_demand(**(BASE | {"friction": 1.5}))
    assert free.to_resistor - rubbing.to_resistor == pytest.approx(1.5 * 300 * 0.1 / 2)  # torque times angle turned
    warm = braking_demand(**(BASE | {"resistance_loss": 1.8}))
    assert warm.copper == pytest.approx(1.8 * (6 / 0.6) ** 2 * 0.1)
    # Second way: the power that comes back, summed over small times, as long as it does come back.
    t = np.linspace(0, 0.1, 200_001)
    back = np.maximum(6 * 300 * (1 - t / 0.1) - 1.8 * (6 / 0.6) ** 2, 0.0)
    assert warm.back == pytest.approx(float(np.trapezoid(back, t)), rel=1e-6)
    assert free.back - warm.copper < warm.back < free.back  # towards the end the winding relieves nothing


def test_a_sinking_load_gives_back_its_height_and_a_rising_one_takes_it() -> None:
    sinking = braking_demand(**(BASE | {"load": 2.0, "speed": -300.0}))
    rising = braking_demand(**(BASE | {"load": 2.0}))
    assert sinking.potential == pytest.approx(2.0 * 15.0)
    assert rising.potential == pytest.approx(-2.0 * 15.0)


@given(st.floats(1e-6, 1.0), st.floats(1, 600), st.floats(0, 5))
def test_energy_never_appears_from_nowhere(inertia: float, speed: float, friction: float) -> None:
    found = braking_demand(**(BASE | {"inertia": inertia, "speed": speed, "friction": friction}))
    assert 0 <= found.to_resistor <= found.kinetic
    balance = found.kinetic - found.friction - found.copper - found.capacitors
    assert found.to_resistor == pytest.approx(max(0.0, balance), abs=1e-9)


def test_resistors_join_in_series_and_parallel() -> None:
    found = combinations(each=100.0, power=100.0, low=40.0, high=60.0, wanted_power=150.0)
    assert (found[0].series, found[0].parallel, found[0].resistance, found[0].power) == (1, 2, 50.0, 200.0)
    for c in combinations(each=33.0, power=50.0, low=20.0, high=50.0, wanted_power=180.0):
        assert c.count <= 6
        assert 20 <= 33 * c.series / c.parallel <= 50
        assert c.power == 50 * c.count >= 180
    assert combinations(each=100.0, power=10.0, low=1.0, high=5.0, wanted_power=10.0) == []


@pytest.mark.parametrize(
    ("volts", "kind", "bus"), [(120, "ac", 170), (220, "ac", 311), (400, "ac3", 566), (48, "dc", 48)]
)
def test_the_bus_is_the_peak_of_the_line(volts: float, kind: str, bus: float) -> None:
    # Common practice: 120 V ac -> 170 V dc, 220 V -> 311 V; three-phase the same from line to line.
    values: dict[str, Entry] = {
        "power.supply_kind": {"value": kind},
        "power.supply_voltage": {"value": volts, "unit": "V"},
    }
    assert bus_voltage(values) == pytest.approx(bus, abs=0.5)


@pytest.mark.parametrize(
    ("volts", "kind", "drive", "state", "says"),
    [
        (400, "ac3", "ac230", "wrong", "Do not switch it on"),
        (230, "ac", "dc80", "wrong", "Do not switch it on"),
        (230, "ac", "ac400", "wrong", "It will not start"),
        (230, "ac", "ac230", "agrees", "325 V"),
        (48, "dc", "dc80", "agrees", "48 V"),
    ],
)
def test_a_wrong_supply_class_is_warned_of(volts: float, kind: str, drive: str, state: str, says: str) -> None:
    values: dict[str, Entry] = {
        "power.supply_kind": {"value": kind},
        "power.supply_voltage": {"value": volts, "unit": "V"},
        "power.drive_class": {"value": drive},
    }
    check = next(c for c in check_power(values) if c.title == "Supply class")
    assert check.state == state
    assert says in check.detail
    assert fits_class(325.0, "unknown") is None


def test_torque_comes_before_the_brake_opens_and_control_stays_until_it_holds() -> None:
    found = brake_sequence(release_delay=0.06, engage_delay=0.04, pull_in_time=0.2)
    assert 0 < found.voltage_on < found.open_after < found.move_after
    assert found.voltage_lowered >= found.open_after
    assert found.power_off_after > found.closed_after == 0.04


def pusher(**changes: Entry) -> dict[str, Entry]:
    return {**values_of("tile-pusher"), **{k.replace("__", "."): v for k, v in changes.items()}}


@pytest.mark.parametrize(
    ("resistor", "power", "minimum", "title", "state", "says"),
    [
        (0.0, None, None, "Braking energy", "wrong", "nowhere to go"),
        (60.0, 200.0, None, "Braking energy", "agrees", "burns the rest"),
        (20.0, None, 40.0, "Brake resistor", "wrong", "less than the 40 ohm"),
        (60.0, 2.0, None, "Resistor's power", "wrong", "the resistor stands 2 W"),
        (9000.0, None, None, "Brake resistor", "wrong", "too little at the start"),
    ],
)
def test_resistors_are_judged_against_the_cycle(
    resistor: float, power: float | None, minimum: float | None, title: str, state: str, says: str
) -> None:
    values = pusher(
        power__brake_resistor={"value": resistor, "unit": "ohm"},
        power__bus_capacitance={"value": 50, "unit": "µF"},
        mechanics__load_mass={"value": 60, "unit": "kg"},
    )
    if power is not None:
        values["power.brake_power"] = {"value": power, "unit": "W"}
    if minimum is not None:
        values["power.brake_minimum"] = {"value": minimum, "unit": "ohm"}
    check = next(c for c in check_braking(values) if c.title == title)
    assert check.state == state, check.detail
    assert says in check.detail


def test_the_planned_move_of_the_demonstration_brakes_less_than_its_kinetic_energy() -> None:
    values = pusher()
    demand, plan = braking_of(values), planned_move(values)
    assert demand.kinetic == pytest.approx(0.5 * plan.axis.inertia * (demand.kinetic * 2 / plan.axis.inertia))
    assert 0 <= demand.to_resistor < demand.kinetic
    assert math.isfinite(demand.power_continuous)


LIFT = values_of("kiln-car-lift")


@pytest.mark.parametrize(
    ("share", "state", "says"), [(3.0, "agrees", "It holds"), (1.2, "look", "1.5 times"), (0.7, "wrong", "It slips")]
)
def test_the_brakes_torque_is_judged_against_what_hangs(share: float, state: str, says: str) -> None:
    load = abs(planned_move(LIFT).axis.mechanism.torque_constant_load)
    assert load > 0
    check = check_brake({**LIFT, "brake.torque": {"value": share * load, "unit": "N·m"}})[0]
    assert check.state == state, check.detail
    assert says in check.detail


def test_without_a_brake_or_its_torque_nothing_is_said() -> None:
    assert check_brake({k: e for k, e in LIFT.items() if k != "brake.torque"}) == []
    assert check_brake(pusher()) == []


def test_travel_limits_must_be_in_order_and_hold_the_goal() -> None:
    plan = planned_move(pusher())
    distance = pusher()["goal.distance"]
    swapped = pusher(limit__travel_min={"value": 400, "unit": "mm"}, limit__travel_max={"value": -400, "unit": "mm"})
    assert check_travel(plan, swapped)[0].state == "wrong"
    assert "lower end lies above" in check_travel(plan, swapped)[0].detail
    short = pusher(
        limit__travel_min={"value": 0, "unit": "mm"},
        limit__travel_max={"value": 0.5 * float(distance["value"]), "unit": str(distance["unit"])},
    )
    assert check_travel(plan, short)[0].state == "wrong"
    assert check_travel(plan, pusher())[0].state == "agrees"


def test_the_hardest_stop_is_the_quick_stop_and_the_mechanism_swallows_its_part() -> None:
    gentle = pusher(
        limit__quick_stop={"value": 1.0, "unit": "m/s²"}, limit__acceleration={"value": 1.0, "unit": "m/s²"}
    )
    hard = pusher(
        limit__quick_stop={"value": 200.0, "unit": "m/s²"}, limit__acceleration={"value": 1.0, "unit": "m/s²"}
    )
    assert braking_of(hard).copper > braking_of(gentle).copper  # more torque for it
    assert braking_of(hard).resistance_largest < braking_of(gentle).resistance_largest
    lossy = pusher(mechanics__efficiency={"value": 50, "unit": "%"})
    assert braking_of(lossy).kinetic < braking_of(pusher(mechanics__efficiency={"value": 100, "unit": "%"})).kinetic


def on_the_bus(power: np.ndarray, **changes: float) -> StopOnBus:
    usual = dict(
        period=1e-4, bus=325.0, nominal=325.0, capacitance=500e-6, threshold=390.0, trips_at=430.0, resistor=60.0,
        reaction=0,
    )  # fmt: skip
    return stop_on_bus(power, **(usual | changes))  # type: ignore[arg-type]


def stop_of(watts: float, seconds: float) -> np.ndarray:
    """What a constant deceleration gives back: a line from so many watts to nothing."""
    return -watts * np.linspace(1, 0, round(seconds / 1e-4))


def test_the_energy_of_a_stop_is_the_bus_the_resistor_and_nothing_else() -> None:
    found = on_the_bus(stop_of(1500.0, 0.1))
    back, capacitors = 75.0, 0.5 * 500e-6 * (found.peak**2 - 325.0**2)
    assert found.case == "resistor"
    # What is left over is what the bus still holds when all is over: between where a chopper opens and its threshold.
    assert back - capacitors - 1.0 < found.energy < back - 0.5 * 500e-6 * ((0.97 * 390) ** 2 - 325**2) + 1.0


@pytest.mark.parametrize(
    ("watts", "changes", "case"),
    [
        (10.0, {}, "nothing"),  # half a joule: a volt and a half
        (150.0, {}, "capacitors"),
        (1500.0, {}, "resistor"),
        (1500.0, {"resistor": 0.0}, "stretched"),
        (1500.0, {"resistor": 0.0, "reaction": 1}, "fault"),
        (1500.0, {"resistor": 0.0, "reaction": 2}, "coasted"),
        (9000.0, {"resistor": 200.0, "reaction": 1}, "fault"),  # more than it burns
        (5.0, {"bus": 389.0, "burns": 1.0}, "resistor"),  # the chopper was on when it was told to stop
    ],
)
def test_each_case_has_its_stop(watts: float, changes: dict[str, float], case: str) -> None:
    assert on_the_bus(stop_of(watts, 0.1), **changes).case == case


def test_the_rectifier_gives_what_is_taken() -> None:
    found = on_the_bus(np.full(2000, 800.0))
    assert found.case == "nothing"
    assert found.peak == pytest.approx(325.0)
