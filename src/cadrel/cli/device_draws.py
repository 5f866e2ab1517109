"""Feedback devices of every kind, drawn with their usual imperfections, and what their sheets say."""

import math
from dataclasses import replace

import numpy as np

from cadrel.core.feedback.calculators import START_AND_ACKNOWLEDGE
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth

CLOCK = 10e6  # [Hz] of serial devices
# Device, Halls, index; and how often each is drawn.
ARRANGEMENTS = (
    ("incremental", True, True), ("incremental", True, False), ("incremental", False, True),
    ("incremental", False, False), ("sincos", True, True), ("sincos", False, True), ("resolver", False, False),
    ("resolver", False, False), ("serial", False, False), ("serial", False, False), ("halls", True, False),
    ("halls", True, False),
)  # fmt: skip


def draw_device(rng: np.random.Generator, t: RigTruth) -> RigTruth:
    """Return a rig whose device has its usual imperfections; its kind is set already."""
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
            "word_coding": str(rng.choice(["binary", "binary", "gray"])),
        }
    return replace(t, **changes)  # type: ignore[arg-type]


def device_entries(t: RigTruth, *, halls: bool, index: bool) -> dict[str, Entry]:
    """Return what the device's sheet says of it."""
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
            "feedback.coding": t.word_coding,
        }  # fmt: skip
    entries: dict[str, Entry] = {k: {"value": v, "source": "sheet"} for k, v in rows.items()}
    if t.device == "serial":
        own = max(t.word_latency - (t.word_bits + START_AND_ACKNOWLEDGE["biss_c"]) / CLOCK, 0.0)
        entries["feedback.clock"] = {"value": CLOCK / 1e6, "unit": "MHz", "source": "sheet"}
        entries["feedback.latency"] = {"value": round(1e6 * own, 1), "unit": "µs", "source": "sheet"}
    return entries
