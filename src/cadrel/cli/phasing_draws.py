"""Benches for commutation, drawn: every kind of device with its imperfections, stiction, gravity, faults."""

import math
from dataclasses import dataclass, replace

import numpy as np

from cadrel.cli.device_draws import ARRANGEMENTS, device_entries, draw_device
from cadrel.cli.draws import draw_bench
from cadrel.core.parameters import Entry
from cadrel.core.simulation import FAULTS, RigTruth

LINEAR_SHARE = 0.25  # of incremental, sin/cos and serial
PITCH = 0.032  # [m] N to N, of the linear ones


@dataclass(frozen=True, slots=True)
class DrawnBench:
    """A rig, what an engineer would know of it, and how it is arranged."""

    truth: RigTruth
    values: dict[str, Entry]
    device: str
    linear: bool
    loaded: bool  # stiction or gravity beyond the usual


def draw_phasing_bench(rng: np.random.Generator, *, loaded: bool | None = None) -> DrawnBench:
    """Return a bench without wiring faults; half of them with stiction to 30 % and gravity to 20 % of rated torque."""
    truth, values = draw_bench(rng)
    device, halls, index = ARRANGEMENTS[rng.integers(len(ARRANGEMENTS))]
    linear = device in ("incremental", "sincos", "serial") and rng.random() < LINEAR_SHARE
    if linear:
        truth = replace(truth, pole_pairs=1, flux_linkage=truth.flux_linkage * truth.pole_pairs)
    rated = 1.5 * truth.pole_pairs * truth.flux_linkage * truth.drive_current_continuous / 1.5
    loaded = bool(rng.random() < 0.5) if loaded is None else loaded
    truth = replace(truth, device=device, halls_fitted=halls, torque_load=0.0)
    if loaded:
        truth = _loaded(rng, truth, rated)
    truth = draw_device(rng, truth)
    entries = dict(values)
    entries |= device_entries(truth, halls=halls, index=index)
    if truth.brake_torque:
        entries |= {"brake.fitted": {"value": "drive"}}
    if linear:
        entries = straightened(entries, truth)
    return DrawnBench(truth, entries, device, linear, loaded)


def _loaded(rng: np.random.Generator, t: RigTruth, rated: float) -> RigTruth:
    stiction = rated * float(rng.uniform(0.05, 0.30))
    gravity = rated * float(rng.uniform(-0.20, 0.20))
    coulomb = stiction / t.breakaway_ratio
    braked = abs(gravity) > 0.8 * coulomb or rng.random() < 0.3
    if braked and rng.random() < 0.1:
        braked = False  # nobody thought of it: to be refused
    return replace(
        t, coulomb_motor=0.4 * coulomb, coulomb_load=0.6 * coulomb, torque_load=gravity,
        brake_torque=1.5 * rated if braked else 0.0,
    )  # fmt: skip


def straightened(entries: dict[str, Entry], t: RigTruth) -> dict[str, Entry]:
    """Return the same axis as the sheet of a linear motor: one pitch is one turn, one pair of poles."""
    per = PITCH / (2 * math.pi)  # [m] to a radian
    result = {
        k: v for k, v in entries.items()
        if k.startswith(("power.", "brake.", "feedback.", "sheet.resistance", "sheet.inductance", "sheet.current"))
    }  # fmt: skip

    def put(key: str, value: float | str, unit: str = "", convention: str = "") -> None:
        entry: Entry = {"value": value, "source": "sheet"}
        if unit:
            entry["unit"] = unit
        if convention:
            entry["convention"] = convention
        result[key] = entry

    def of(key: str) -> float:
        return float(entries[key]["value"])

    put("sheet.kind", "linear")
    put("sheet.pitch", 500 * PITCH, "mm", "n_s")
    put("sheet.back_emf_linear", t.flux_linkage * math.sqrt(3) / per, "V·s/m", "ll_peak")
    put("sheet.mass_moving", of("sheet.inertia") * 1e-4 / per**2, "kg")
    put("sheet.velocity_max", of("sheet.speed_max") * per, "m/s")
    put("mechanics.load_mass", of("mechanics.load_inertia") * 1e-4 / per**2, "kg")
    if t.device == "serial":
        put("feedback.resolution", PITCH / 2.0**t.single_turn_bits * 1e9, "nm")
        put("feedback.position_bits", t.single_turn_bits + t.multi_turn_bits)
        for key in ("feedback.single_turn_bits", "feedback.multi_turn_bits"):
            result.pop(key, None)
    elif t.device in ("incremental", "sincos"):
        result.pop("feedback.lines", None)
        put("feedback.period", PITCH / t.encoder_lines * 1e6, "µm")
    metres = {"rev": PITCH, "°": PITCH / 360}
    for key in ("limit.velocity", "limit.acceleration", "limit.quick_stop", "limit.jerk", "limit.travel_min",
                "limit.travel_max", "limit.following_error", "procedure.travel", "procedure.velocity", "goal.distance",
                "goal.window", "goal.following_error"):  # fmt: skip
        unit, _, rest = entries[key]["unit"].partition("/")
        put(key, of(key) * metres[unit] * 1e3, "mm" + (f"/{rest}" if rest else ""))
    for key in ("goal.move_time", "goal.settling_time", "goal.dwell", "goal.repeats"):
        result[key] = entries[key]
    return result


def with_fault(bench: DrawnBench, *codes: str) -> DrawnBench:
    """Return a bench with wiring faults."""
    return replace(bench, truth=replace(bench.truth, faults=codes))


def possible_faults(bench: DrawnBench) -> list[str]:
    """Return the faults a bench can have, those that need an index or Halls only where these are described."""
    index = bench.values.get("feedback.index", {}).get("value") == "1"
    return [c for c, f in FAULTS.items() if f.befalls(bench.truth) and (c != "index_missing" or index)]
