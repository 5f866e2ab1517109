"""What arrives at the drive's feedback connector, as its status and its page of raw signals show it."""

import math
from typing import Any

from cadrel.core.simulation import layout
from cadrel.core.simulation.layout import Plant, Settings
from cadrel.core.simulation.truth import RigTruth


def signals_now(s: Any, plant: Plant, c: Settings) -> dict[str, float] | None:
    """Sine and cosine as they arrive, and after the correction in force; None where there are none."""
    if plant.device not in (layout.SINCOS, layout.RESOLVER):
        return None
    u, v = s.sig_cos - c.signal_offset_cos, (s.sig_sin - c.signal_offset_sin) / c.signal_gain
    v = (v - u * math.sin(c.signal_quadrature)) / math.cos(c.signal_quadrature)
    return {"cos": float(s.sig_cos), "sin": float(s.sig_sin), "u": float(u), "v": float(v)}


def raw_of(s: Any, plant: Plant, truth: RigTruth) -> dict[str, Any]:
    """What arrives before the drive makes counts of it: signals, words and their errors."""
    kind = int(plant.device)
    return {
        "device": kind,
        "cos": float(s.sig_cos),
        "sin": float(s.sig_sin),
        "word": _word_bits(int(s.word), truth.word_bits) if kind == layout.SERIAL else [],
        "words": int(s.words),
        "word_errors": int(s.word_errors),
        "alarm": bool(truth.word_alarm),
        "latency": truth.word_latency,
        "hall_jumps": int(s.hall_jumps),
        "counts": int(s.counts - s.count_zero),
    }


def _word_bits(word: int, bits: int) -> list[int]:
    """The word that arrived last, first bit first; leading and multi-turn bits are zeros of the line."""
    return [(word >> k) & 1 for k in reversed(range(bits))]
