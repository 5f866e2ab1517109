"""The stand-in's own page: wiring faults and imperfections. No part of the engineer's route."""

from dataclasses import dataclass
from typing import Any

from cadrel.core.parameters import kinds_with
from cadrel.web.accounts.roles import require_engineer
from cadrel.web.projects.models import Axis
from cadrel.web.rig.actions import log
from cadrel.web.rig.errors import NotConnected
from cadrel.web.rig.links import stand_in_of


@dataclass(frozen=True, slots=True)
class Imperfection:
    """A rig value the page offers: key, label, unit shown, bounds, the devices it belongs to (none: all)."""

    key: str
    label: str
    unit: str
    low: float
    high: float
    devices: tuple[str, ...] = ()
    whole: bool = False
    waves: bool = False  # order, amplitude and phase [°], up to four


WITH_SINE, WITH_HALLS = kinds_with("has_sine"), kinds_with("may_have_halls")
WITH_LINES, WITH_WORDS = kinds_with("counts_lines"), kinds_with("has_words")
WAVE = 3  # numbers in one
MOST_TEXT, MOST_ORDER = 200, 10_000
NO_STOP = 1e9  # [rad] where the rig has an end stop that nothing reaches
IMPERFECTIONS = (
    Imperfection("signal_offset_cos", "Offset of the cosine", "of the amplitude", -0.3, 0.3, WITH_SINE),
    Imperfection("signal_offset_sin", "Offset of the sine", "of the amplitude", -0.3, 0.3, WITH_SINE),
    Imperfection("signal_gain", "Sine over cosine", "", 0.5, 2.0, WITH_SINE),
    Imperfection("signal_quadrature_deg", "Quadrature error", "°", -30, 30, WITH_SINE),
    Imperfection("signal_noise", "Noise", "of the amplitude", 0, 0.1, WITH_SINE),
    Imperfection("excitation_phase_deg", "Phase of the excitation", "°", -85, 85, kinds_with("converts_signals")),
    Imperfection("lost_counts", "Counts lost", "per turn", 0, 50, WITH_LINES),
    Imperfection("word_error_rate", "Words with a line error", "share", 0, 1, WITH_WORDS),
    Imperfection("word_latency", "Latency", "s", 0, 0.001, WITH_WORDS),
    Imperfection("hall_offset_deg", "Angle of all Halls together", "° el.", -360, 360, WITH_HALLS),
    Imperfection("hall_hysteresis_deg", "Hysteresis of the Halls", "° el.", 0, 30, WITH_HALLS),
    Imperfection("coupling_play", "Play of the coupling", "rad", 0, 1),
    Imperfection("coupling_slip", "Slip of the coupling", "share", 0, 0.5),
    Imperfection("inertia_load", "Inertia of the load", "kg·m²", 1e-9, 1000),
    Imperfection("coulomb_load", "Friction of the load", "N·m", 0, 1000),
    Imperfection("torque_load", "Constant load", "N·m", -1000, 1000),
    Imperfection("backlash_deg", "Backlash between motor and load", "° of the motor", 0, 10),
    Imperfection("presliding_deg", "Way in which friction builds up", "° of the motor", 0, 5),
    Imperfection("cogging", "Cogging per turn: order, size, phase", "N·m, °", 0, 1000, waves=True),
    Imperfection("torque_ripple", "Ripple per el. turn: order, share, phase", "°", 0, 1, waves=True),
    Imperfection("scale_error", "Scale error per turn: order, size, phase", "°, °", 0, 10, waves=True),
    Imperfection("line_jitter", "Each line off by", "of a line", 0, 1, WITH_LINES),
    Imperfection("saturation_current", "Inductance at half at, 0: never", "A", 0, 10_000),
    Imperfection("inertia_third", "A third mass", "kg·m²", 0, 100),
    Imperfection("stiffness_third", "Its coupling", "N·m/rad", 0, 1e7),
    Imperfection("current_gain_error", "Second current sensor over first", "", -0.2, 0.2),
    Imperfection("sampling_skew", "Currents sampled beside the middle of PWM", "s", -3e-5, 3e-5),
    Imperfection("cable_length", "Motor cable, one way", "m", 0, 1000),
    Imperfection("cable_section_mm2", "Its copper", "mm²", 0.05, 1000),
    Imperfection("brake_torque", "Holding brake", "N·m", 0, 1000),
    Imperfection("brake_release", "Brake opens after", "s", 0, 2),
    Imperfection("brake_engage", "Brake holds after", "s", 0, 2),
    Imperfection("brake_resistor", "Brake resistor, 0: none", "ohm", 0, 10_000),
    Imperfection("resistor_power", "What it stands for ever, 0: any", "W", 0, 100_000),
    Imperfection("stop_low", "Lower end stop, from the start", "rad", -NO_STOP, 0),
    Imperfection("stop_high", "Upper end stop, from the start", "rad", 0, NO_STOP),
)


def wiring_of(axis: Axis) -> dict[str, Any]:
    """Return device, possible faults with their state, and imperfections with their values. Raises `LinkError`."""
    if not axis.connected:
        raise NotConnected()
    found = stand_in_of(axis, "page").rig()
    rig = found["rig"]
    shown = [i for i in IMPERFECTIONS if not i.devices or rig["device"] in i.devices]
    return {
        "device": rig["device"],
        "faults": [{**f, "on": f["code"] in rig["faults"]} for f in found["possible"]],
        "imperfections": [{"it": i, "value": _shown(i, rig[i.key])} for i in shown],
    }


def _shown(it: Imperfection, value: Any) -> str:
    if it.waves:
        return "; ".join(" ".join(f"{part:.6g}" for part in wave) for wave in value)
    return "" if abs(value) >= NO_STOP else f"{value:.6g}"


def _waves(it: Imperfection, text: str) -> list[list[float]]:
    """Return what a list of waves says. Raises `ValueError`."""
    waves = [[float(part) for part in wave.split()] for wave in text[:MOST_TEXT].split(";") if wave.strip()]
    if any(len(wave) != WAVE or not it.low <= wave[1] <= it.high or not 0 <= wave[0] <= MOST_ORDER for wave in waves):
        raise ValueError(f"{it.label}: three numbers each, separated by semicolons, as in 24 0.05 20.")
    return waves


def rewire(axis: Axis, posted: Any, *, who: Any) -> str:
    """Set faults and imperfections. Raises `NotConnected`, `LinkError`, `RefusedByDrive`, `ValueError`."""
    require_engineer(who)
    if not axis.connected:
        raise NotConnected()
    changes = {}
    for i in IMPERFECTIONS:
        if posted.get(i.key) == "" and i.key.startswith("stop_"):
            changes[i.key] = i.low if i.key == "stop_low" else i.high  # emptied: there is none
        elif i.waves and i.key in posted:
            changes[i.key] = _waves(i, posted[i.key])  # type: ignore[assignment]
        elif posted.get(i.key):
            value = float(posted[i.key][:40])
            if not i.low <= value <= i.high:
                raise ValueError(f"{i.label}: {i.low:g} to {i.high:g} {i.unit}.")
            changes[i.key] = value
    faults = posted.getlist("fault")
    stand_in_of(axis).rewire(changes, faults)
    log(axis, who, "bench", f"Stand-in rewired: {', '.join(faults) or 'no fault'}.")
    return "Rewired; its supply was switched off and on. Stored values are in force, take control again."
