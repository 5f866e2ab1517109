"""A linear motor on a scale with Halls, from its sheet to the accepted move."""

import math
from dataclasses import replace

import pytest

from cadrel.cli.commission import commission_in_process
from cadrel.core.axis import understand, unsupported
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth
from tests.conftest import rig_of, values_of

PITCH = 0.032  # [m] N to N
PER = PITCH / math.tau  # [m] of travel to a radian of the equivalent motor
COIL, CARRIAGE = 1.6, 6.2  # [kg]
FORCE_CONSTANT = 42.0  # [N/A peak]


def rig() -> RigTruth:
    """The same bench: one electrical turn of the linear motor is one turn of a motor with one pole pair."""
    reduced = COIL * CARRIAGE / (COIL + CARRIAGE)
    resonance = math.tau * 210
    return rig_of(
        "tile-pusher", pole_pairs=1, resistance=2.3, inductance_d=8.7e-3, inductance_q=9e-3,
        flux_linkage=FORCE_CONSTANT * PER / 1.5, inertia_motor=COIL * PER**2, inertia_load=CARRIAGE * PER**2,
        stiffness=resonance**2 * reduced * PER**2, damping=0.08 * resonance * reduced * PER**2,
        coulomb_motor=3 * PER, coulomb_load=8 * PER, viscous_motor=2 * PER**2, viscous_load=4 * PER**2,
        stribeck_speed=0.02 / PER, torque_load=0.0, encoder_lines=1600, index_angle=1.0, start_angle=0.3,
        stop_low=-1e9, stop_high=1e9, drive_current_peak=17.0, drive_current_continuous=6.0,
    )  # fmt: skip


def sheet() -> dict[str, Entry]:
    """As printed, a little off the truth; magnets stated N to S."""
    rows: dict[str, tuple[float | str, str, str]] = {
        "sheet.kind": ("linear", "", ""),
        "sheet.resistance": (4.7, "ohm", "line_to_line"),
        "sheet.inductance": (18, "mH", "line_to_line"),
        "sheet.force_constant": (60, "N/A", "per_rms"),
        "sheet.pitch": (16, "mm", "n_s"),
        "sheet.current_continuous": (2.4, "A", "rms"),
        "sheet.current_peak": (8, "A", "rms"),
        "sheet.mass_moving": (1.6, "kg", ""),
        "sheet.velocity_max": (3, "m/s", ""),
        "feedback.period": (20, "µm", ""),
        "mechanics.load_mass": (5, "kg", ""),
        "power.supply_kind": ("ac", "", ""),
        "power.supply_voltage": (230, "V", ""),
        "limit.velocity": (1200, "mm/s", ""),
        "limit.acceleration": (18, "m/s²", ""),
        "limit.quick_stop": (30, "m/s²", ""),
        "limit.jerk": (900, "m/s³", ""),
        "limit.travel_min": (-1600, "mm", ""),
        "limit.travel_max": (1600, "mm", ""),
        "limit.following_error": (8, "mm", ""),
        "goal.distance": (300, "mm", ""),
        "goal.move_time": (480, "ms", ""),
        "goal.window": (0.02, "mm", ""),
        "goal.settling_time": (60, "ms", ""),
        "goal.following_error": (0.3, "mm", ""),
        "goal.dwell": (300, "ms", ""),
        "goal.repeats": (3, "", ""),
        "procedure.travel": (500, "mm", ""),
        "procedure.velocity": (500, "mm/s", ""),
    }
    made: dict[str, Entry] = {}
    for key, (value, unit, convention) in rows.items():
        entry: Entry = {"value": value, "source": "sheet"}
        if unit:
            entry["unit"] = unit
        if convention:
            entry["convention"] = convention
        made[key] = entry
    return made


def test_a_linear_motor_is_commissioned_from_its_sheet() -> None:
    truth = rig()
    result, _ = commission_in_process(sheet(), truth, seed=3)
    assert result.status == "proven", result.reason
    found = {f.kind: f.value for o in result.outcomes.values() for f in o.findings}
    # One pole pair: the true offset is the index's angle, 1 rad.
    assert math.degrees(abs(math.remainder(found["commutation"] - 1.0, math.tau))) < 2
    assert found["load"] / PER**2 == pytest.approx(COIL + CARRIAGE, rel=0.05)
    assert found["coulomb"] / PER == pytest.approx(11.0, rel=0.10)  # [N]
    assert "kg" in result.outcomes["load"].summary
    assert result.outcomes["acceptance"].accepted


@pytest.mark.parametrize("kind", ["dc", "stepper", "induction", "voice_coil"])
def test_a_motor_the_drive_cannot_run_is_refused_in_words(kind: str) -> None:
    axis = understand(values_of("tile-pusher"))
    assert unsupported(axis) == ""
    assert "it cannot run one of the kind" in unsupported(replace(axis, motor=replace(axis.motor, kind=kind)))
