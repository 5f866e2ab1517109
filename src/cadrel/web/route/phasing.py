"""What the commutation sheet draws beside its runs: dial, Hall sectors and edges, signal error, noted readings."""

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.feedback import SignalCircle
from cadrel.core.identification.halls import MIRRORED, NORMAL, SIXTY_MASK
from cadrel.core.parameters import choice_of
from cadrel.procedures import plan_commutation, plan_power_up
from cadrel.web.projects.models import Axis
from cadrel.web.runs.models import Run

RADIUS, RIM = 88.0, 100.0
WORTH = 5.0  # [°] an edge so far off is worth a look
LEFT, WIDTH, MIDDLE, HALF = 46.0, 430.0, 70.0, 58.0


def phasing_context(axis: Axis, model: AxisModel, notes: list[dict[str, Any]]) -> dict[str, Any]:
    """Return the context of the dial, the Hall table, the signal error and phasing by hand."""
    newest = {kind: axis.runs.filter(kind=kind).first() for kind in ("commutation", "signal_circle")}
    turned = newest["commutation"]
    edges = turned.metrics.get("hall_edges_deg", []) if turned else []
    per = model.mechanism.unit_per_rad
    inverted = choice_of(axis.values, "feedback.direction") == "1"
    context: dict[str, Any] = {
        "known": turned is not None,
        "ticks": [_tick(a) for a in (0, 90, 180, 270)],
        "has_halls": model.has_halls,
        "has_index": model.has_index,
        "serial": model.feedback.serial is not None,
        "analog": model.feedback.kind.has_sine,
        "continuous": f"{model.motor.current_continuous / math.sqrt(2):.2f}",
        "travel": f"{plan_commutation(model).travel * per:.3g} {model.mechanism.unit}",
        "after_inverting": "fall as they now rise, or rise as they now fall," if not inverted else "run as wired again",
        "after_exchanging": "phases run as wired again, forward is the other way round"
        if choice_of(axis.values, "motor.phase_order") == "1"
        else "the motor's forward is the other way round, counts stay as they are",
        "notes": [{**n, "offset": math.remainder(n["vector"] - n["shaft"], 360)} for n in notes],
    }
    if turned is not None and len(edges) == 6:
        ring = MIRRORED if turned.metrics.get("hall_mirrored") else NORMAL
        mask = SIXTY_MASK if model.feedback.hall_spacing == 60 else 0
        states = [state ^ mask for state in ring]
        context |= {
            "run": turned.number,
            "sectors": [_sector(edges[k], edges[(k + 1) % 6], states[k], edges) for k in range(6)],
            "edges": [_edge(edges, k, states[k]) for k in range(6)],
        }
    if (run := newest["signal_circle"]) is not None:
        context |= {"residual": _residual(run), "circle_run": run.number}
    return context


def power_up_text(model: AxisModel, values: Mapping[str, float]) -> str:
    """Return what the search at power-up does; empty where the device tells the angle."""
    return "" if model.knows_angle_at_power_up else plan_power_up(model, values).text


def _at(angle_deg: float, radius: float) -> tuple[str, str]:
    a = math.radians(angle_deg)
    return f"{radius * math.cos(a):.1f}", f"{-radius * math.sin(a):.1f}"


def _tick(angle: float) -> dict[str, str]:
    (x1, y1), (x2, y2), (x, y) = _at(angle, RIM - 5), _at(angle, RIM + 4), _at(angle, RIM + 17)
    return {"x1": x1, "y1": y1, "x2": x2, "y2": y2, "x": x, "y": f"{float(y) + 4:.1f}", "text": f"{angle}°"}


def _even_start(edges: list[float]) -> float:
    """Angle of the even grid that fits the six edges best. [°]"""
    gaps = np.exp(1j * np.radians([e - 60 * k for k, e in enumerate(edges)]))
    return math.degrees(float(np.angle(gaps.mean())))


def _sector(begin: float, end: float, state: int, edges: list[float]) -> dict[str, Any]:
    span = (end - begin) % 360
    (x1, y1), (x2, y2) = _at(begin, RADIUS), _at(begin + span, RADIUS)
    (ex1, ey1), (ex2, ey2) = _at(begin, RADIUS - 12), _at(begin, RIM)
    x, y = _at(begin + span / 2, 60)
    off = abs(math.remainder(begin - _even_start(edges), 60))
    return {
        "state": state, "path": f"M0 0 L{x1} {y1} A{RADIUS} {RADIUS} 0 0 0 {x2} {y2} Z", "x": x,
        "y": f"{float(y) + 5:.1f}", "x1": ex1, "y1": ey1, "x2": ex2, "y2": ey2, "off": off > WORTH,
    }  # fmt: skip


def _edge(edges: list[float], k: int, state: int) -> dict[str, Any]:
    expected = (_even_start(edges) + 60 * k) % 360
    off = math.remainder(edges[k] - expected, 360)
    return {
        "state": state, "expected": expected, "measured": edges[k] % 360, "off": f"{off:+.1f}",
        "worth": abs(off) > WORTH,
    }  # fmt: skip


def _residual(run: Run) -> dict[str, Any]:
    """Angle error over one signal period, before and after, as two polylines. [°]

    Both read the circle of the way back, which the correction was not fitted to.
    """
    m = run.metrics
    held, fitted, judge = (SignalCircle(**m[k]) for k in ("held", "fitted", "judge"))
    phi = np.linspace(0, 2 * math.pi, 121)

    def error(correction: SignalCircle) -> np.ndarray:
        gap = np.degrees(np.angle(np.exp(1j * (correction.phase(*judge.signals(phi)) - phi))))
        return np.asarray(gap - gap[:-1].mean())

    before, after = error(held), error(fitted if m["corrected"] else held)
    high = max(float(np.abs(before).max()), float(np.abs(after).max()), 1e-3)
    x = LEFT + WIDTH * phi / (2 * math.pi)

    def line(y: np.ndarray) -> str:
        return " ".join(f"{a:.1f},{MIDDLE - HALF * b / high:.1f}" for a, b in zip(x, y, strict=True))

    return {
        "raw": line(before), "corrected": line(after), "before": f"{m['error_before_deg']:.2f}",
        "after": f"{m['error_after_deg']:.3f}",
        "y_ticks": [{"at": MIDDLE - HALF * s + 4, "text": f"{s * high:+.2g}°"} for s in (-1, 1)],
        "x_ticks": [{"at": LEFT + WIDTH * k / 4, "text": f"{90 * k}°"} for k in range(5)],
    }  # fmt: skip
