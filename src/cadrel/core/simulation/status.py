"""What of the kernel's state a status shows."""

import math
from typing import Any

from cadrel.core.simulation import layout
from cadrel.core.simulation.device import rotor_angle
from cadrel.core.simulation.received import signals_now
from cadrel.core.simulation.running import MODES, Running

MODE_NAMES = {code: name for name, code in MODES.items()}
QUALITIES = ("unknown", "sector", "edge", "index", "aligned")


def shown(running: Running) -> dict[str, Any]:
    """Return motion, current, device and angle as the drive knows them."""
    s, c = running.state, running.settings
    now = layout.snapshot(s)
    is_on = now["mode"] != layout.OFF
    of_position = now["mode"] == layout.POSITION
    quality = QUALITIES[now["angle_quality"]]
    phase = now["counts"] % 4
    return {
        "mode": MODE_NAMES.get(now["mode"], "off"),
        "position": now["position"],
        "velocity": now["velocity"],
        "current": math.hypot(now["meas_d"], now["meas_q"]) if is_on else 0.0,
        "v_bus": now["meas_bus"],
        "place": now["place"],
        "following_error": now["position_ref"] - now["place"] if of_position else 0.0,
        "counts": now["counts"] - now["count_zero"],
        "levels": [int(phase in (1, 2)), int(phase in (2, 3))],  # of A and B at the input
        "hall": now["hall"],
        "index_seen": now["index_seen"],
        "index_counts": now["index_count"] - now["count_zero"],
        "moving": bool(now["moving"] or now["stopping"]),
        "angle_quality": "absolute" if quality == "index" and c.is_absolute else quality,
        "angle": now["angle_used"],
        "vector_angle": now["vec_angle"],
        "catching": bool(now["catching"]),
        "shaft_angle": float(rotor_angle(s, c)),
        "second": now["second"],
        "signals": signals_now(s, running.plant, c),
        "words": now["words"],
        "word_errors": now["word_errors"],
        "resistor_hot": bool(now["resistor_hot"]),
    }
