"""Plot descriptions for the page: series with x, y, style and quantity, axes with units."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from cadrel.core.twin import TwinRecord
from cadrel.web.projects.models import Axis
from cadrel.web.projects.understanding import unit_of
from cadrel.web.runs.models import Run
from cadrel.web.runs.shape import reduce_min_max

RESPONSES = {"plant": "what is controlled", "open": "open", "closed": "closed"}
PAIRS = 700  # min/max pairs: more than a laptop's plot is wide
# channel -> quantity (decides colour and axis), label, style
CHANNELS: dict[str, tuple[str, str, str]] = {
    "position": ("position", "Position", "solid"),
    "position_ref": ("position", "Position, commanded", "dashed"),
    "following_error": ("error", "Following error", "solid"),
    "velocity": ("velocity", "Velocity", "solid"),
    "velocity_ref": ("velocity", "Velocity, commanded", "dashed"),
    "acceleration_ref": ("acceleration", "Acceleration, commanded", "dashed"),
    "torque_cmd": ("torque", "Torque, commanded", "dashed"),
    "i_d": ("current", "Current d", "solid"),
    "i_q": ("current", "Current q", "solid"),
    "i_d_ref": ("current", "Current d, commanded", "dashed"),
    "i_q_ref": ("current", "Current q, commanded", "dashed"),
    "v_d": ("voltage", "Voltage d", "solid"),
    "v_q": ("voltage", "Voltage q", "solid"),
    "v_bus": ("voltage", "DC bus", "solid"),
    "counts": ("counts", "Counts", "solid"),
    "hall": ("state", "Hall state", "solid"),
    "index_seen": ("state", "Index pulses", "solid"),
    "index_count": ("counts", "Counts at index", "solid"),
    "vector_angle": ("angle", "Vector angle", "dashed"),
    "angle_el": ("angle", "Electrical angle", "solid"),
    "excitation": ("excitation", "Excitation", "dashed"),
    "profile_active": ("state", "Profile active", "solid"),
    "voltage_limited": ("state", "Voltage limited", "solid"),
    "current_limited": ("state", "Current limited", "solid"),
    "signal_cos": ("signal", "Cosine signal", "solid"),
    "signal_sin": ("signal", "Sine signal", "dashed"),
    "brake_voltage": ("voltage", "Brake voltage", "solid"),
    "chopper": ("state", "Chopper", "solid"),
    "bus_limited": ("state", "Braking limited by the bus", "solid"),
    "second_counts": ("counts", "Counts on the load", "solid"),
    "load_position": ("position", "Position of the load", "solid"),
    "apart": ("error", "Motor ahead of the load", "dashed"),
    "shaft_el": ("angle", "Shaft, electrical", "solid"),
    "twin_position": ("position", "Position, twin", "twin"),
    "twin_following_error": ("error", "Following error, twin", "twin"),
    "twin_i_q": ("current", "Current q, twin", "twin"),
}
UNITS = {
    "torque": "N·m",
    "current": "A peak",
    "voltage": "V",
    "counts": "counts",
    "state": "",
    "signal": "of 1 Vpp",
    "angle": "rad",
    "excitation": "",
    "acceleration": "rad/s²",
    "inductance": "mH",
}
# injection point -> the quantity an excitation has there
INJECTED = {
    "torque": "torque",
    "velocity": "velocity",
    "position": "position",
    "current_d": "current",
    "current_q": "current",
    "voltage_d": "voltage",
    "voltage_q": "voltage",
}
SHOWN = {
    "hand_test": ("counts", "hall"),
    "commutation": ("vector_angle", "counts", "hall"),
    "current_step": ("i_d", "i_d_ref"),
    "load": ("velocity", "i_q"),
    "velocity_step": ("velocity", "velocity_ref"),
    "position_step": ("position", "position_ref"),
    "brake_load": ("i_q", "position"),
    "brake_times": ("position", "brake_voltage"),
    "stop": ("velocity_ref", "velocity", "v_bus", "i_q", "chopper"),
    "acceptance": ("position", "position_ref", "i_q", "following_error", "twin_following_error", "twin_i_q", "apart"),
    "climb": ("position", "position_ref", "i_q", "following_error"),
}


def units_of_axis(axis: Axis) -> dict[str, tuple[str, float]]:
    """Return unit and factor of every quantity for an axis."""
    unit, per = unit_of(axis)
    table = {q: (u, 1.0) for q, u in UNITS.items()}
    return {**table, "position": (unit, per), "error": (unit, per), "velocity": (f"{unit}/s", per)}


def time_series(
    run: Run,
    names: Sequence[str] | None,
    units: dict[str, tuple[str, float]],
    *,
    ghost: bool = False,
    as_recorded: bool = False,
) -> list[dict[str, Any]]:
    """Return the channels of a run as plot series, reduced to min/max pairs. Time in ms.

    Of repeated steps the mean is shown, or all there is, `as_recorded`.
    """
    series = []
    arrays = run.arrays() if as_recorded else run.shown()
    for name in names if names is not None else arrays:
        if name not in arrays:
            continue
        y = arrays[name]
        quantity, label, style = CHANNELS.get(name, ("state", name, "solid"))
        unit, factor = units[
            INJECTED.get(run.excitation.get("point", ""), quantity) if name == "excitation" else quantity
        ]
        index, values = reduce_min_max(y, pairs=PAIRS)
        series.append(
            {
                "label": f"{label}, run {run.number}" if ghost else label,
                "quantity": "model" if style == "twin" else quantity,
                "like": quantity,
                "unit": unit,
                "style": "ghost" if ghost else "solid" if style == "twin" else style,
                "x": (index * (run.period * 1e3)).astype(np.float32),
                "y": (values * factor).astype(np.float32),
                "key": name,
            }
        )
    return series


def twin_plot(record: TwinRecord, axis: Axis) -> dict[str, Any]:
    """Return the plot of a move that only the twin has made."""
    units = units_of_axis(axis)
    channels = {
        "position": record.position, "position_ref": record.position_ref, "i_q": record.current,
        "following_error": record.position_ref - record.position,
    }  # fmt: skip
    series = []
    for name, y in channels.items():
        quantity, label, style = CHANNELS[name]
        unit, factor = units[quantity]
        index, values = reduce_min_max(y.astype(np.float32), pairs=PAIRS)
        series.append({
            "label": label, "quantity": quantity, "unit": unit, "style": style, "key": name,
            "x": (index * (record.period * 1e3)).astype(np.float32), "y": (values * factor).astype(np.float32),
        })  # fmt: skip
    return {"title": "The move on the twin: nothing has moved", "kind": "time", "x_label": "ms", "series": series,
            "id": "twin"}  # fmt: skip


def plots_of(axis: Axis, step: str, runs: Sequence[Run], pinned: Sequence[Run]) -> list[dict[str, Any]]:
    """Return the plots of a procedure step: the newest run of each kind, with pinned runs behind it."""
    units = units_of_axis(axis)
    kinds: dict[str, list[Run]] = {}
    for run in runs:
        kinds.setdefault(run.kind, []).append(run)
    plots: list[dict[str, Any]] = []
    aside: list[dict[str, Any]] = []  # of a loop's page: what is beside it
    for kind, of_kind in kinds.items():
        newest = of_kind[0]
        if newest.channels and kind in SHOWN:
            plots.append(_time_plot(kind, newest, of_kind, pinned, units))
        if newest.curves.get("predicted_open"):
            plots.append(_bode_plot(newest, "open"))
            plots.append(_bode_plot(newest, "closed"))
        if newest.curves.get("plant_measured"):
            plots.append(_plant_plot(newest))
        if newest.curves.get("friction"):
            plots.append(_friction_plot(newest, units))
        if newest.curves.get("shaft"):
            (aside if step == "velocity" else plots).append(_shaft_plot(newest))
        if newest.curves.get("saturation"):
            plots.append(_saturation_plot(newest))
        if newest.curves.get("torque"):
            plots.append(_turn_plot(newest))
        if newest.curves.get("responses"):
            plots += [_response_plot(newest, which) for which in RESPONSES]
    return plots + aside


def _time_plot(
    kind: str, newest: Run, of_kind: Sequence[Run], pinned: Sequence[Run], units: dict[str, tuple[str, float]]
) -> dict[str, Any]:
    # Where the load has a device of its own, its position is what the loop compares, and what was predicted.
    own = "load_position" if "load_position" in newest.channels else "position"
    names = [own if name == "position" else name for name in SHOWN[kind]]
    series = time_series(newest, names, units)
    behind = [r for r in pinned if r.kind == kind and r.pk != newest.pk]
    if not behind and kind.endswith("_step") and len(of_kind) > 1:
        behind = [of_kind[1]]
    for run in behind:
        series += time_series(run, names[:1], units, ghost=True)
    if "predicted_step" in newest.curves:
        quantity = CHANNELS[names[0]][0]
        unit, factor = units[quantity]
        c = newest.curves
        series.append(
            {
                "label": "Predicted",
                "quantity": "model",
                "unit": unit,
                "style": "solid",
                "key": "predicted",
                "x": [1e3 * t for t in c["time"]],
                "y": [factor * y for y in c["predicted_step"]],
                "like": quantity,
            }
        )
    return {
        "title": f"{newest.title}{mean_of(newest)}",
        "kind": "time",
        "x_label": "ms",
        "series": series,
        "run": newest.number,
        "run_id": newest.pk,
        "id": f"{kind}-{newest.pk}",
    }


def mean_of(run: Run) -> str:
    """Return of how many repeats a step's plot is the mean, for its title."""
    repeat = run.excitation.get("repeat", 0)
    if not repeat or not run.kind.endswith("_step"):
        return ""
    return f", mean of {len(next(iter(run.arrays().values()))) // int(repeat) - 1} repeats"


def _bode_plot(run: Run, which: str) -> dict[str, Any]:
    c = run.curves
    suffix = "_open" if which == "open" else ""
    series = []
    for key, label, style in ((f"predicted{suffix}", "Predicted", "solid"), (f"measured{suffix}", "Measured", "dots")):
        if key in c:
            series.append({"label": label, "style": style, "f": c[key]["f"], "db": c[key]["db"], "deg": c[key]["deg"]})
    margins = run.metrics
    return {
        "title": f"{c['loop'].capitalize()} loop, {which}",
        "kind": "bode",
        "series": series,
        "which": which,
        "marks": margins
        if which == "open"
        else {"bandwidth_hz": margins.get("bandwidth_hz"), "bandwidth_90_hz": margins.get("bandwidth_90_hz")},
        "predicted": c.get("predicted_margins"),
        "run": run.number,
        "run_id": run.pk,
        "id": f"{which}-{run.pk}",
    }


def _friction_plot(run: Run, units: dict[str, tuple[str, float]]) -> dict[str, Any]:
    """Friction over speed: what was measured, the curve through it, and what held the axis at rest."""
    c, (unit, factor) = run.curves["friction"], units["velocity"]

    def series(key: str, label: str, style: str, speed: list[float], torque: list[float]) -> dict[str, Any]:
        return {
            "label": label, "quantity": "torque" if style == "dots" else "model", "like": "torque",
            "unit": UNITS["torque"], "style": style, "key": key, "x": [factor * v for v in speed], "y": torque,
        }  # fmt: skip

    measured = [series("friction", "Measured, half of both ways", "dots", c["speed"], c["torque"])]
    if c["breakaway"] is not None:
        measured.append(series("breakaway", "Broke away from rest", "dots", [0.0], [c["breakaway"]]))
    curve = series("curve", "Curve through them", "solid", c["curve_speed"], c["curve"])
    return {
        "title": "Friction over speed", "kind": "time", "x_label": unit, "series": [curve, *measured],
        "run": run.number, "run_id": run.pk, "id": f"friction-{run.pk}",
    }  # fmt: skip


def _shaft_plot(run: Run) -> dict[str, Any]:
    """Torque through the shaft over its twist: as it swung, and the spring with its gap."""
    c = run.curves["shaft"]

    def series(key: str, label: str, style: str, x: list[float], y: list[float]) -> dict[str, Any]:
        return {
            "label": label, "quantity": "torque", "unit": UNITS["torque"], "style": style, "key": key, "x": x, "y": y,
        }  # fmt: skip

    spring = "Spring behind its play" if c["has_gap"] else "Spring; no play stands out"
    return {
        "title": "Torque through the shaft over its twist", "kind": "time", "x_label": "° of twist",
        "series": [
            series("shaft", "As it swung", "dots", c["twist_deg"], c["torque"]),
            series("spring", spring, "solid", c["along_deg"], c["spring"]),
        ],
        "run": run.number, "run_id": run.pk, "id": f"shaft-{run.pk}",
    }  # fmt: skip


def _saturation_plot(run: Run) -> dict[str, Any]:
    """Inductance of both axes over their current, and what small currents showed."""
    c = run.curves["saturation"]
    unit = UNITS["inductance"]

    def series(key: str, label: str, quantity: str, style: str, x: list[float], y: list[float]) -> dict[str, Any]:
        return {
            "label": label, "quantity": quantity, "like": "inductance", "unit": unit, "style": style, "key": key,
            "x": x, "y": y,
        }  # fmt: skip

    rows = [
        series(key, f"Inductance {key}", quantity, "solid", c[key]["current"], c[key]["inductance"])
        for key, quantity in (("q", "inductance"), ("d", "model"))
    ]
    rows.append(
        series("small", "At small currents, q", "inductance", "dots", [c["small"]["current"]], [c["small"]["q"]])
    )
    return {
        "title": "Inductance over current", "kind": "time", "x_label": UNITS["current"], "series": rows,
        "run": run.number, "run_id": run.pk, "id": f"saturation-{run.pk}",
    }  # fmt: skip


def _turn_plot(run: Run) -> dict[str, Any]:
    """Torque over a turn of the motor."""
    series = {
        "label": "Cogging", "quantity": "torque", "unit": UNITS["torque"], "style": "solid", "key": "cogging",
        "x": run.curves["angle_deg"], "y": run.curves["torque"],
    }  # fmt: skip
    return {
        "title": "Cogging over a turn of the motor",
        "kind": "time",
        "x_label": "°",
        "series": [series],
        "run": run.number,
        "run_id": run.pk,
        "id": f"turn-{run.pk}",
    }


def _response_plot(run: Run, which: str) -> dict[str, Any]:
    """One of plant, open and closed loop, of every amplitude, the last with the band of two standard deviations."""
    c = run.curves
    series: list[dict[str, Any]] = []
    *before, last = c["responses"]
    series += [{"label": r["label"], "style": "dashed", **_curve(r[which])} for r in before]
    curve = last[which]
    for sign, label in ((1.0, "2 std above"), (-1.0, "2 std below")):
        db = [d + sign * b for d, b in zip(curve["db"], curve["band_db"], strict=True)]
        series.append({"label": label, "style": "ghost", "f": curve["f"], "db": db, "deg": curve["deg"]})
    series.append({"label": last["label"], "style": "solid", **_curve(curve)})
    if which == "plant" and "model" in c:
        series.append({"label": c["model"]["label"], "style": "dashed", **_curve(c["model"])})
    return {
        "title": f"{c['loop'].capitalize()} loop: {RESPONSES[which]}",
        "kind": "bode",
        "which": which,
        "marks": run.metrics if which == "open" else {},
        "run": run.number,
        "run_id": run.pk,
        "id": f"response-{which}-{run.pk}",
        "db_label": c["plant_db"] if which == "plant" else "dB",
        "series": series,
    }


def _curve(curve: dict[str, Any]) -> dict[str, Any]:
    return {k: curve[k] for k in ("f", "db", "deg")}


def _plant_plot(run: Run) -> dict[str, Any]:
    c = run.curves
    return {
        "title": c.get("plant_title", "Plant, torque to speed"),
        "kind": "bode",
        "which": "plant",
        "marks": {},
        "run": run.number,
        "run_id": run.pk,
        "id": f"plant-{run.pk}",
        "db_label": c.get("plant_db", "dB (rad/s per N·m)"),
        "series": [
            {"label": "Model", "style": "solid", **{k: c["plant_model"][k] for k in ("f", "db", "deg")}},
            {
                "label": "Measured",
                "style": "dots",
                **{k: c["plant_measured"][k] for k in ("f", "db", "deg")},
                "coherence": c["plant_measured"]["coherence"],
            },
        ],
    }
