"""Points and labels of the entry steps' drawings, in the user units of a 500-wide SVG; the templates draw them."""

import math
from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from cadrel.core.feedback import SerialWord, layout_of
from cadrel.core.mechanics import Mechanism, MoveDemand
from cadrel.core.motion import Profile, sample_profile
from cadrel.core.motor import Motor, torque_speed_envelope
from cadrel.core.parameters import DeviceKind, Entry, choice_of
from cadrel.core.power import BrakeSequence

FloatArray = NDArray[np.float64]
LEFT, WIDTH, BASE, HEIGHT = 46.0, 440.0, 196.0, 180.0
RPM = 60 / math.tau
Picture = dict[str, Any]
HALL_120 = ((1, 0, 1), (1, 0, 0), (1, 1, 0), (0, 1, 0), (0, 1, 1), (0, 0, 1))  # H1 H2 H3 in sequence
HALL_60 = ((0, 0, 0), (1, 0, 0), (1, 1, 0), (1, 1, 1), (0, 1, 1), (0, 0, 1))


def _points(x: FloatArray, y: FloatArray) -> str:
    return " ".join(f"{a:.1f},{b:.1f}" for a, b in zip(x, y, strict=True))


def round_ticks(top: float) -> list[float]:
    """Return three to six round values from zero up to `top`."""
    step = 10.0 ** math.floor(math.log10(top / 3))
    step = next(s for s in (step, 2 * step, 5 * step, 10 * step) if top / s <= 6)
    return [k * step for k in range(int(top / step + 1e-9) + 1)]


def _x_axis(top: float) -> list[tuple[str, str]]:
    return [(f"{LEFT + WIDTH * v / top:.1f}", f"{v:.4g}") for v in round_ticks(top)]


def _y_axis(top: float) -> list[tuple[str, str]]:
    return [(f"{BASE - HEIGHT * v / top:.1f}", f"{v:.4g}") for v in round_ticks(top)]


def torque_map(motor: Motor, bus: float, *, peak: float, continuous: float, demand: MoveDemand | None) -> Picture:
    """Torque over speed, or force over velocity: peak and continuous regions, and a move's operating points."""
    straight = motor.metres_per_rad
    per_speed, per_torque = (straight, 1 / straight) if straight else (RPM, 1.0)
    top = 1.05 * motor.speed_max
    if motor.base_speed is None:
        top = min(motor.no_load_speed(bus), top)
    speed = np.linspace(0, top, 80)
    reach = torque_speed_envelope(motor, speed, current=peak, bus_voltage=bus)
    held = torque_speed_envelope(motor, speed, current=continuous, bus_voltage=bus)
    high = 1.08 * max(float(reach.max()), demand.torque_peak if demand else 0.0)
    if demand:
        top = max(top, 1.02 * demand.speed_top)

    def area(torque: FloatArray) -> str:
        inner = _points(LEFT + WIDTH * speed / top, BASE - HEIGHT * torque / high)
        return f"{LEFT},{BASE} {inner} {LEFT + WIDTH * speed[-1] / top:.1f},{BASE}"

    picture: Picture = {
        "kind": "torque",
        "peak": area(reach),
        "continuous": area(held),
        "x": _x_axis(top * per_speed),
        "y": _y_axis(high * per_torque),
        "x_name": "velocity, m/s" if straight else "speed, rpm",
        "y_name": "force, N" if straight else "torque, N·m",
        "name": "Force over velocity" if straight else "Torque over speed",
        "bus": f"{bus:.0f} V",
    }
    if demand:
        x, y = LEFT + WIDTH * np.abs(demand.speed) / top, BASE - HEIGHT * np.abs(demand.torque) / high
        picture["move"] = _points(x[::2], y[::2])
        picture["rms"] = f"{BASE - HEIGHT * demand.torque_rms / high:.1f}"
    return picture


def profile_picture(profile: Profile, per: float, unit: str) -> Picture:
    """Position and velocity of the goal's move."""
    t = np.linspace(0, profile.duration, 120)
    x, v, _ = sample_profile(profile, t) * per
    across = LEFT + WIDTH * t / t[-1]
    return {
        "kind": "profile",
        "position": _points(across, BASE - HEIGHT * x / (1.05 * x.max())),
        "velocity": _points(across, BASE - HEIGHT * v / (1.05 * v.max())),
        "x": _x_axis(1e3 * t[-1]),
        "y_position": _y_axis(1.05 * float(x.max())),
        "y_velocity": _y_axis(1.05 * float(v.max())),
        "unit": unit,
        "top_position": f"{x.max():.4g} {unit}",
        "top_velocity": f"{v.max():.4g} {unit}/s",
    }


def quadrature_picture(*, has_index: bool) -> Picture:
    """A, B and index over two periods, moving forward."""

    def wave(shift: float, base: int) -> str:
        path, high = [f"M60 {base if shift else base - 20}"], not shift
        for k in range(1, 9):
            edge = 60 + 45 * k
            if (k % 2 == 0) != bool(shift):
                path.append(f"H{edge} V{base - (0 if high else 20)}")
                high = not high
        return " ".join([*path, "H420"])

    return {
        "kind": "quadrature",
        "signals": [("A", wave(0, 40), 36), ("B", wave(1, 80), 76)],
        "index": "M60 120 H195 V100 H240 V120 H420" if has_index else "",
        "edges": [60 + 45 * k for k in range(9)],
    }


def hall_picture(spacing: int) -> Picture:
    """Three Hall signals over one electrical turn, their states below."""
    table = HALL_60 if spacing == 60 else HALL_120
    signals = []
    for line in range(3):
        base = 40 + 40 * line
        path = [f"M60 {base - 20 * table[0][line]}"]
        for k, row in enumerate(table):
            path.append(f"V{base - 20 * row[line]} H{60 + 60 * (k + 1)}")
        signals.append((f"H{line + 1}", " ".join(path), base - 4))
    states = [(90 + 60 * k, a + 2 * b + 4 * c) for k, (a, b, c) in enumerate(table)]
    return {
        "kind": "halls",
        "signals": signals,
        "states": states,
        "edges": [60 + 60 * k for k in range(7)],
        "spacing": spacing,
    }


def circle_picture(kind: DeviceKind, *, periods: float, per: str) -> Picture:
    """Sine and cosine of one period, and the circle they draw."""
    phase = np.linspace(0, math.tau, 61)
    across = 190 + 290 * phase / math.tau
    return {
        "kind": "circle",
        "sine": _points(across, 80 - 48 * np.sin(phase)),
        "cosine": _points(across, 80 - 48 * np.cos(phase)),
        "periods": f"{periods:.6g}",
        "per": per,
        "what": "resolver turn" if kind.converts_signals else "signal period",
        "unit": "after demodulation" if kind.converts_signals else "1 Vpp",
    }


def word_picture(word: SerialWord) -> Picture:
    """The word's bit fields in the order sent."""
    fields = layout_of(word)
    total = sum(f.bits for f in fields)
    least = 26.0  # a field must stay readable
    spare = 480.0 - least * len(fields)
    boxes, at = [], 10.0
    for field in fields:
        width = least + spare * field.bits / total
        boxes.append(
            {
                "name": field.name,
                "bits": field.bits,
                "x": f"{at:.1f}",
                "width": f"{width:.1f}",
                "middle": f"{at + width / 2:.1f}",
            }
        )
        at += width
    return {"kind": "word", "boxes": boxes, "total": total, "protocol": word.protocol.replace("_", "-").upper()}


def mechanism_picture(m: Mechanism, values: Mapping[str, Entry]) -> Picture:
    """The mechanism with its numbers: motor, stages, last element, load."""
    turn = f"{math.tau * m.unit_per_rad:.4g} {m.unit} per motor turn"
    mass = float(values.get("mechanics.load_mass", {}).get("value") or 0)
    unit = str(values.get("mechanics.load_mass", {}).get("unit", "kg"))
    orientation = choice_of(values, "mechanics.orientation")
    return {
        "kind": "mechanism",
        "element": m.kind,
        "stages": f"{m.ratio:.4g} : 1" if m.ratio != 1 else "",
        "turn": turn if m.kind != "linear" else "",
        "load": f"{mass:g} {unit}" if mass and m.is_linear else f"{1e4 * m.inertia_reflected:.3g} kg·cm² at the motor",
        "orientation": orientation,
        "tilt": {"horizontal": 0, "vertical": -90, "incline": -30}[orientation] if m.is_linear else 0,
        "force": f"{m.torque_constant_load * m.motor_rad_per_load:.4g} N" if m.torque_constant_load else "",
    }


def brake_picture(sequence: BrakeSequence, *, pull_in: float, hold: float) -> Picture:
    """Enable, torque, brake voltage and brake over the time of opening and of closing."""
    span = 1.25 * max(sequence.voltage_lowered, sequence.move_after + 0.02)
    per = 210.0 / span
    on, opened, move, lowered = (
        60 + per * t for t in (sequence.voltage_on, sequence.open_after, sequence.move_after, sequence.voltage_lowered)
    )
    end = 60 + 210.0
    close = 180.0 / (1.6 * sequence.power_off_after + 1e-3)
    begin = end + 20
    closed, off = (begin + close * t for t in (sequence.closed_after, sequence.power_off_after))
    last = 488.0
    return {
        "kind": "brake",
        "rows": [
            ("motor torque", f"M60 40 H60 V20 H{off:.0f} V40 H{last:.0f}", 36),
            ("brake voltage", f"M60 80 H{on:.0f} V60 H{lowered:.0f} V70 H{begin:.0f} V80 H{last:.0f}", 76),
            ("brake open", f"M60 120 H{opened:.0f} V100 H{closed:.0f} V120 H{last:.0f}", 116),
            ("motion", f"M60 160 H{move:.0f} V140 H{begin:.0f} V160 H{last:.0f}", 156),
        ],
        "marks": [
            (f"{on:.0f}", f"{1e3 * sequence.voltage_on:.0f}"),
            (f"{move:.0f}", f"{1e3 * sequence.move_after:.0f}"),
            (f"{lowered:.0f}", f"{1e3 * sequence.voltage_lowered:.0f}"),
            (f"{begin:.0f}", "0"),
            (f"{off:.0f}", f"{1e3 * sequence.power_off_after:.0f}"),
        ],
        "begin": f"{begin:.0f}",
        "volts": f"{pull_in:.3g} V, then {hold:.3g} V",
    }
