"""Benches for commutation, drawn: every kind of device with its imperfections, stiction, gravity, faults."""

import math
from dataclasses import dataclass, replace

import numpy as np

from cadrel.cli.draws import draw_bench
from cadrel.core.parameters import Entry
from cadrel.core.simulation import FAULTS, RigTruth

# Device, Halls, index; and how often each is drawn.
ARRANGEMENTS = (
    ("incremental", True, True), ("incremental", True, False), ("incremental", False, True),
    ("incremental", False, False), ("sincos", True, True), ("sincos", False, True), ("resolver", False, False),
    ("resolver", False, False), ("serial", False, False), ("serial", False, False), ("halls", True, False),
    ("halls", True, False),
)  # fmt: skip
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
    truth = _device(rng, truth)
    entries = dict(values)
    entries |= _device_entries(truth, halls=halls, index=index)
    if truth.brake_torque:
        entries |= {"brake.fitted": {"value": "drive"}}
    if linear:
        entries = _straightened(entries, truth)
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


def _device(rng: np.random.Generator, t: RigTruth) -> RigTruth:
    zero = float(rng.uniform(0, 2 * math.pi))
    halls = {
        "hall_hysteresis_deg": float(rng.uniform(0, 4)),
        "hall_spacing": int(rng.choice([120, 120, 120, 60])),
    }
    changes: dict[str, object] = {"index_angle": zero, **(halls if t.has_halls else {})}
    if t.device in ("sincos", "resolver"):
        share = 0.04 if t.device == "sincos" else 0.015
        changes |= {
            "signal_offset_cos": float(rng.uniform(-share, share)),
            "signal_offset_sin": float(rng.uniform(-share, share)),
            "signal_gain": float(rng.uniform(1 - 2 * share, 1 + 2 * share)),
            "signal_quadrature_deg": float(rng.uniform(-60 * share, 60 * share)),
            "signal_noise": float(rng.uniform(0.0005, 0.003)),
            "encoder_lines": int(rng.choice([256, 512, 1024, 2048])),
        }
    if t.device == "incremental" and rng.random() < 0.3:
        changes |= {"lost_counts": float(rng.uniform(0, 0.5))}
    if t.device == "resolver":
        fitting = [n for n in (1, 2, 3) if t.pole_pairs % n == 0]
        changes |= {"resolver_pairs": int(rng.choice(fitting)), "excitation_phase_deg": float(rng.uniform(-40, 40))}
    if t.device == "serial":
        changes |= {
            "single_turn_bits": int(rng.choice([13, 17, 19, 20, 23])),
            "multi_turn_bits": int(rng.choice([0, 12])),
            "trailing_bits": int(rng.choice([0, 0, 1, 4])),
            "word_latency": float(rng.uniform(5e-6, 60e-6)),
            "word_checksum": str(rng.choice(["crc6", "crc6", "none"])),
        }
    return replace(t, **changes)  # type: ignore[arg-type]


def _device_entries(t: RigTruth, *, halls: bool, index: bool) -> dict[str, Entry]:
    rows: dict[str, float | str] = {"feedback.kind": t.device}
    if t.device in ("incremental", "sincos"):
        rows |= {
            "feedback.lines": t.encoder_lines,
            "feedback.halls": str(int(halls)),
            "feedback.index": str(int(index)),
        }
    if t.has_halls:
        rows |= {"feedback.hall_spacing": str(t.hall_spacing)}
    if t.device == "resolver":
        rows |= {"feedback.resolver_pairs": t.resolver_pairs}
    if t.device == "serial":
        rows |= {
            "feedback.single_turn_bits": t.single_turn_bits, "feedback.multi_turn_bits": t.multi_turn_bits,
            "feedback.trailing_bits": t.trailing_bits, "feedback.crc": t.word_checksum,
        }  # fmt: skip
    return {k: {"value": v, "source": "sheet"} for k, v in rows.items()}


def _straightened(entries: dict[str, Entry], t: RigTruth) -> dict[str, Entry]:
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
