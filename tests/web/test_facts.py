"""The right half of an entry step: rows, checks and pictures of every kind of axis."""

import re

import pytest
from django.template.loader import render_to_string

from cadrel.core.parameters import Entry
from cadrel.web.route.facts import understood_of
from cadrel.web.route.facts.pictures import HALL_60, HALL_120, hall_picture, quadrature_picture, round_ticks
from tests.conftest import values_of
from tests.core.motor.made_up_sheets import SHEETS
from tests.core.motor.test_made_up_sheets import entries_of

AXES = ["tile-pusher", "glaze-table", "reject-gate", "glaze-arm", "kiln-car-lift", "spray-carriage"]
STEPS = ["motor", "feedback", "mechanics", "power", "limits"]
NUMBER = re.compile(r"-?\d+(?:\.\d+)?")


def rows_of(step: str, values: dict[str, Entry]) -> dict[str, str]:
    return {label: f"{value} {unit}".strip() for label, value, unit in understood_of(step, values).rows}


@pytest.mark.parametrize("name", AXES)
@pytest.mark.parametrize("step", STEPS)
def test_every_step_of_every_demo_axis_is_understood_and_drawn(name: str, step: str) -> None:
    facts = understood_of(step, values_of(name))
    assert facts.problem is None
    assert facts.rows
    assert not [c for c in facts.checks if c.state == "wrong"]
    assert "nan" not in str(facts).lower()
    for picture in facts.pictures:
        drawn = render_to_string("route/_picture.html", {"p": picture})
        assert "<svg" in drawn
        assert 'aria-label="' in drawn
        for points in re.findall(r'points="([^"]*)"', drawn):
            for x, y in (pair.split(",") for pair in points.split()):
                assert -1 <= float(x) <= 501, points[:80]
                assert -1 <= float(y) <= 230


@pytest.mark.parametrize(("name", "kind", "rows"), SHEETS, ids=[s[0] for s in SHEETS])
def test_every_made_up_sheet_has_a_map_once_the_supply_is_known(name: str, kind: str, rows: list[object]) -> None:
    values = entries_of(kind, rows)  # type: ignore[arg-type]
    values |= {"power.supply_kind": {"value": "dc"}, "power.supply_voltage": {"value": 325.0, "unit": "V"}}
    facts = understood_of("motor", values)
    assert facts.problem is None, facts.problem
    (picture,) = facts.pictures
    straight = kind in ("linear", "voice_coil")
    assert picture["x_name"] == ("velocity, m/s" if straight else "speed, rpm")
    assert picture["y_name"] == ("force, N" if straight else "torque, N·m")
    heights = [float(p.split(",")[1]) for p in picture["peak"].split()]
    held = [float(p.split(",")[1]) for p in picture["continuous"].split()]
    assert all(a <= b + 1e-6 for a, b in zip(heights, held, strict=True))  # peak never lies inside continuous


def test_what_is_wrong_stands_above_what_agrees() -> None:
    values = values_of("kiln-car-lift")
    values["sheet.back_emf"] = {**values["sheet.back_emf"], "convention": "ll_peak"}
    order = ["wrong", "look", "agrees"]
    states = [order.index(c.state) for c in understood_of("motor", values).checks]
    assert states == sorted(states)
    assert states[0] == 0


def test_a_straight_axis_is_said_in_metres_and_newtons() -> None:
    values = values_of("spray-carriage")
    motor, mechanics, limits = (rows_of(s, values) for s in ("motor", "mechanics", "limits"))
    assert motor["Force per A rms"].endswith("N/A")
    assert mechanics["Total mass"] == "7.8 kg"
    assert mechanics["Move: peak of the motor"].endswith(" N")
    assert limits["Motor speed then"] == "1.2 m/s"
    assert rows_of("feedback", values)["One count"] == "19.53 nm"
    texts = " ".join(c.detail for s in STEPS for c in understood_of(s, values).checks)
    assert "rpm" not in texts
    assert "N·m" not in texts


def test_a_percentage_is_understood_beside_what_it_is_of() -> None:
    values = values_of("glaze-arm")
    assert values["sheet.current_peak"]["unit"] == "%"
    picture = understood_of("motor", values).pictures[0]
    assert picture["bus"] == "566 V"
    assert "move" in picture  # the planned move's operating points, since limits and goal are known


def test_an_unfinished_step_says_what_is_missing_and_nothing_else() -> None:
    facts = understood_of("motor", {"sheet.resistance": {"value": 2.0, "unit": "ohm"}})
    assert facts.problem is not None
    assert "is empty; type the value as printed" in facts.problem
    assert (facts.rows, facts.checks, facts.pictures) == ([], [], [])


@pytest.mark.parametrize("top", [0.003, 0.9, 1.0, 7.3, 42.0, 999.0, 4423.0, 1.2e6])
def test_ticks_are_round_and_few(top: float) -> None:
    ticks = round_ticks(top)
    assert ticks[0] == 0
    assert ticks[-1] <= top * (1 + 1e-9)
    assert 3 <= len(ticks) <= 7
    step = ticks[1]
    assert f"{step:.0e}"[0] in "125"


def test_quadrature_is_two_waves_a_quarter_apart() -> None:
    # Quadrature (IEC 60050-351; common to every incremental encoder's sheet): A leads B by 90° moving forward.
    edges = {}
    for name, path, _ in quadrature_picture(has_index=True)["signals"]:
        edges[name] = [int(x) for x in re.findall(r"H(\d+) V", path)]
    assert [b - a for a, b in zip(edges["A"], edges["A"][1:], strict=False)] == [90] * (len(edges["A"]) - 1)
    assert [b - a for a, b in zip(edges["B"], edges["B"][1:], strict=False)] == [90] * (len(edges["B"]) - 1)
    assert (edges["A"][0] - edges["B"][0]) % 90 == 45
    assert quadrature_picture(has_index=False)["index"] == ""


def test_halls_change_one_signal_at_a_time() -> None:
    # Six-step table of three Halls 120° apart: 5-1-3-2-6-4, H1 the lowest bit; 60° apart 0-1-3-7-6-4 (common practice).
    assert [s for _, s in hall_picture(120)["states"]] == [5, 1, 3, 2, 6, 4]
    assert [s for _, s in hall_picture(60)["states"]] == [0, 1, 3, 7, 6, 4]
    for table in (HALL_120, HALL_60):
        for now, then in zip(table, (*table[1:], table[0]), strict=True):
            assert sum(a != b for a, b in zip(now, then, strict=True)) == 1
