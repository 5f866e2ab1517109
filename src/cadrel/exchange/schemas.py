"""JSON Schema 2020-12 of the formats, generated from the registry so that nothing is listed twice."""

from functools import cache
from typing import Any

from cadrel.core.parameters import REGISTRY, Parameter, units_for
from cadrel.core.quantities import CONVENTIONS

DRAFT = "https://json-schema.org/draft/2020-12/schema"
SOURCES = ["sheet", "typed", "computed", "identified", "elsewhere", "default"]


def _entry_schema(p: Parameter) -> dict[str, Any]:
    if p.choices:
        value: dict[str, Any] = {"enum": [key for key, _ in p.choices]}
        properties: dict[str, Any] = {"value": value}
    else:
        units = units_for(p)
        properties = {"value": {"type": "number"}, "unit": {"enum": units}}
        if p.convention:
            properties["convention"] = {"enum": [c.key for c in CONVENTIONS[p.convention]]}
    properties["source"] = {"enum": SOURCES}
    properties["note"] = {"type": "string", "maxLength": 500}
    return {
        "type": "object",
        "title": p.label,
        "description": p.help.what,
        "properties": properties,
        "required": ["value"],
        "additionalProperties": False,
    }


@cache
def axis_schema() -> dict[str, Any]:
    """Return the schema of an axis file."""
    return {
        "$schema": DRAFT,
        "title": "Cadrel axis, version 1",
        "type": "object",
        "properties": {
            "format": {"const": "cadrel-axis"},
            "version": {"const": 1},
            "name": {"type": "string", "maxLength": 200},
            "comment": {"type": "string", "maxLength": 5000},
            "values": {
                "type": "object",
                "properties": {k: _entry_schema(p) for k, p in REGISTRY.items()},
                "additionalProperties": False,
            },
        },
        "required": ["format", "version", "values"],
        "additionalProperties": False,
    }


@cache
def record_schema(kind: str, keys: tuple[str, ...]) -> dict[str, Any]:
    """Return the schema of a motor or feedback file that holds some of these keys."""
    return {
        "$schema": DRAFT,
        "title": f"Cadrel {kind}, version 1",
        "type": "object",
        "properties": {
            "format": {"const": f"cadrel-{kind}"},
            "version": {"const": 1},
            "name": {"type": "string", "maxLength": 120},
            "maker": {"type": "string", "maxLength": 120},
            "part": {"type": "string", "maxLength": 120},
            "comment": {"type": "string", "maxLength": 5000},
            "values": {
                "type": "object",
                "properties": {k: _entry_schema(REGISTRY[k]) for k in keys},
                "minProperties": 1,
                "additionalProperties": False,
            },
        },
        "required": ["format", "version", "values"],
        "additionalProperties": False,
    }


_POSITIVE = {"type": "number", "exclusiveMinimum": 0}
_NOT_NEGATIVE = {"type": "number", "minimum": 0}
_ANY = {"type": "number"}
_FLAG = {"type": "boolean"}
_HALL_NUMBERS = {"type": "array", "items": {"enum": [1, 2, 3]}, "uniqueItems": True}
_WAVES = {
    "description": "Up to four of order, amplitude, phase [°]",
    "type": "array",
    "maxItems": 4,
    "items": {"type": "array", "items": _ANY, "minItems": 3, "maxItems": 3},
}
RIG_KEYS: dict[str, tuple[dict[str, Any], str]] = {
    "resistance": (_POSITIVE, "Phase resistance [ohm]"),
    "inductance_d": (_POSITIVE, "Phase inductance, d axis [H]"),
    "inductance_q": (_POSITIVE, "Phase inductance, q axis [H]"),
    "flux_linkage": (_POSITIVE, "Peak flux linkage of a phase [Wb]"),
    "pole_pairs": ({"type": "integer", "minimum": 1, "maximum": 100}, "Pole pairs"),
    "inertia_motor": (_POSITIVE, "Rotor inertia [kg·m²]"),
    "inertia_load": (_POSITIVE, "Load inertia, at the motor shaft [kg·m²]"),
    "stiffness": (_POSITIVE, "Between motor and load, at the motor shaft [N·m/rad]"),
    "damping": (_NOT_NEGATIVE, "Between motor and load [N·m·s/rad]"),
    "coulomb_motor": (_NOT_NEGATIVE, "Coulomb friction of the motor [N·m]"),
    "viscous_motor": (_NOT_NEGATIVE, "Viscous friction of the motor [N·m·s/rad]"),
    "coulomb_load": (_NOT_NEGATIVE, "Coulomb friction of the load, at the motor shaft [N·m]"),
    "viscous_load": (_NOT_NEGATIVE, "Viscous friction of the load [N·m·s/rad]"),
    "breakaway_ratio": ({"type": "number", "minimum": 1}, "Breakaway torque over Coulomb torque"),
    "stribeck_speed": (_POSITIVE, "Speed at which 1/e of the extra friction is left [rad/s]"),
    "torque_load": (_ANY, "Constant torque on the load, positive drives forward [N·m]"),
    "stop_low": (_ANY, "Lower end stop, from the start position [rad at the motor]"),
    "stop_high": (_ANY, "Upper end stop, from the start position [rad at the motor]"),
    "encoder_lines": ({"type": "integer", "minimum": 1}, "Lines per motor revolution"),
    "encoder_inverted": (_FLAG, "Counts fall while the motor turns forward"),
    "index_angle": (
        _ANY,
        "Mechanical angle of the index from the rotor's d axis on phase a [rad]; electrical angle "
        "at the index = pole pairs x this",
    ),
    "hall_errors_deg": (
        {"type": "array", "items": _ANY, "minItems": 6, "maxItems": 6},
        "Placement error of the six edges [° electrical]",
    ),
    "hall_offset_deg": (_ANY, "Angle of the edge into state 1 [° electrical]"),
    "halls_mirrored": (_FLAG, "Sequence 1-5-4-6-2-3 forward"),
    "halls_fitted": ({"type": ["boolean", "null"]}, "Hall signals are wired; absent: with incremental and Halls alone"),
    "hall_spacing": ({"enum": [60, 120]}, "Angle between the three Halls [° electrical]"),
    "hall_hysteresis_deg": (_NOT_NEGATIVE, "An edge comes so much later forward than back [° electrical]"),
    "hall_wires": ({"type": "string", "pattern": "^(123|132|213|231|312|321)$"}, "Which Hall is on inputs 1, 2, 3"),
    "hall_inverted": (_HALL_NUMBERS, "Numbers of Halls wired inverted"),
    "hall_dead": (_HALL_NUMBERS, "Numbers of Halls that stay low"),
    "phases_swapped": (_FLAG, "Two motor phases are exchanged"),
    "phases_rotated": ({"enum": [0, 1, 2]}, "Motor wires moved on by so many terminals"),
    "device": ({"enum": ["incremental", "sincos", "resolver", "serial", "halls"]}, "The device on the motor"),
    "unplugged": (_FLAG, "The device is not plugged in"),
    "open_phase": ({"enum": [0, 1, 2, 3]}, "A motor phase that is not connected, 0: none"),
    "index_missing": (_FLAG, "No index pulse arrives"),
    "lost_counts": (_NOT_NEGATIVE, "Counts the input misses per revolution"),
    "coupling_play": (_NOT_NEGATIVE, "Play between shaft and device [rad]"),
    "coupling_slip": ({"type": "number", "minimum": 0, "maximum": 1}, "Share of forward motion the device misses"),
    "signal_offset_cos": (_ANY, "Offset of the cosine, of the amplitude"),
    "signal_offset_sin": (_ANY, "Offset of the sine, of the amplitude"),
    "signal_gain": (_POSITIVE, "Amplitude of the sine over that of the cosine"),
    "signal_quadrature_deg": (_ANY, "By how much the sine is ahead of a quarter period [°]"),
    "signal_noise": (_NOT_NEGATIVE, "Standard deviation of a sample, of the amplitude"),
    "signals_swapped": (_FLAG, "Sine and cosine are exchanged"),
    "resolver_pairs": ({"type": "integer", "minimum": 1, "maximum": 32}, "Pole pairs of the resolver"),
    "excitation_phase_deg": (_ANY, "Phase of the resolver's excitation; the amplitude falls with its cosine [°]"),
    "single_turn_bits": ({"type": "integer", "minimum": 4, "maximum": 32}, "Of a serial device"),
    "multi_turn_bits": ({"type": "integer", "minimum": 0, "maximum": 32}, "Of a serial device"),
    "leading_bits": ({"type": "integer", "minimum": 0, "maximum": 32}, "Sent before the position"),
    "trailing_bits": ({"type": "integer", "minimum": 0, "maximum": 16}, "Sent after the position"),
    "word_checksum": ({"enum": ["crc6", "parity", "none"]}, "Of the serial word"),
    "word_flags": ({"enum": [0, 1, 2]}, "Error bit, or error and warning bit; active low"),
    "word_coding": ({"enum": ["binary", "gray"]}, "Of the position bits"),
    "word_error_rate": ({"type": "number", "minimum": 0, "maximum": 1}, "Share of words that arrive wrong"),
    "word_latency": (_NOT_NEGATIVE, "From sampling to arrival [s]"),
    "word_alarm": (_FLAG, "The device sets its error bit"),
    "brake_torque": (_NOT_NEGATIVE, "Holding brake at the motor [N·m], 0: none"),
    "brake_stuck": (_FLAG, "The brake does not open"),
    "brake_kind": ({"enum": ["clutch", "pin"]}, "Holds by friction, or by a pin in a hole"),
    "pin_play_deg": (_NOT_NEGATIVE, "What a pin leaves free, of the motor, whole [°]"),
    "pin_jam": (_NOT_NEGATIVE, "Torque on a pin above which it does not come out, at the motor [N·m]"),
    "brake_release": (_NOT_NEGATIVE, "From voltage on until it is open [s]"),
    "brake_engage": (_NOT_NEGATIVE, "From voltage off until it holds [s]"),
    "brake_pull_in": (_NOT_NEGATIVE, "Voltage that opens it [V]"),
    "brake_hold": (_NOT_NEGATIVE, "Voltage that keeps it open [V]"),
    "controller_delay": (_NOT_NEGATIVE, "By which a controller that operates the brake is later than the drive [s]"),
    "second_counts": (_NOT_NEGATIVE, "Counts of a device on the load per motor turn, 0: none"),
    "second_inverted": (_FLAG, "It counts the other way"),
    "inertia_third": (_NOT_NEGATIVE, "A third mass behind the load, at the motor shaft [kg·m²], 0: none"),
    "stiffness_third": (_NOT_NEGATIVE, "Between load and third mass [N·m/rad]"),
    "damping_third": (_NOT_NEGATIVE, "Between load and third mass [N·m·s/rad]"),
    "backlash_deg": (_NOT_NEGATIVE, "Whole play between motor and load, at the motor [°]"),
    "transmission_error": (_WAVES, "By which the load leads, [°] at the motor, per motor turn"),
    "cogging": (_WAVES, "Cogging torque [N·m] per motor turn"),
    "torque_ripple": (_WAVES, "Share of the flux, per electrical turn"),
    "friction_wave": (_WAVES, "Share of the load's friction, per turn"),
    "presliding_deg": (_NOT_NEGATIVE, "Way in which friction builds up, at the motor [°], 0: none"),
    "saturation_current": (_NOT_NEGATIVE, "At which inductance has fallen to half [A], 0: it stays"),
    "magnet_current": (_NOT_NEGATIVE, "Current along d that the magnets are worth of that [A]"),
    "winding_heat": (_NOT_NEGATIVE, "Heat capacity of the winding [J/K], 0: it stays cold"),
    "winding_cooling": (_NOT_NEGATIVE, "From winding to air [W/K]"),
    "base_inertia": (
        _NOT_NEGATIVE,
        "Base that gives under the motor's reaction, at the motor [kg·m²], 0: it stands firm",
    ),
    "base_stiffness": (_NOT_NEGATIVE, "Of its feet [N·m/rad]"),
    "base_damping": (_NOT_NEGATIVE, "Of its feet [N·m·s/rad]"),
    "scale_error": (_WAVES, "By which the device on the motor shows too much [°], per motor turn"),
    "line_jitter": (_NOT_NEGATIVE, "By which each line is off, of a line"),
    "current_offset": (
        {"type": "array", "items": _ANY, "minItems": 2, "maxItems": 2},
        "Offset of both current sensors [A]",
    ),
    "current_gain_error": (_ANY, "Gain of the second current sensor over the first, less one"),
    "sampling_skew": (_ANY, "From the middle of the PWM period to where currents are sampled [s]: their ripple shows"),
    "cable_length": (_NOT_NEGATIVE, "Of the motor cable, one way [m]"),
    "cable_section_mm2": (_POSITIVE, "Of its copper [mm²]"),
    "faults": (
        {"type": "array", "items": {"type": "string", "maxLength": 40}, "uniqueItems": True, "maxItems": 20},
        "Codes of wiring faults (rig.md), done to all of the above",
    ),
    "start_angle": ({"type": ["number", "null"]}, "Motor angle at power-up [rad]; drawn from the seed if absent"),
    "supply_voltage": (_POSITIVE, "Bus without load [V dc]"),
    "supply_resistance": (_POSITIVE, "Source resistance behind the rectifier [ohm]"),
    "bus_capacitance": (_POSITIVE, "[F]"),
    "chopper_on": (_POSITIVE, "[V]"),
    "chopper_off": (_POSITIVE, "[V]"),
    "brake_resistor": (_NOT_NEGATIVE, "[ohm], 0: none"),
    "resistor_power": (_NOT_NEGATIVE, "What it stands for ever [W]; 0: it never gets hot"),
    "resistor_heat": (_NOT_NEGATIVE, "Its heat capacity [J/K]"),
    "overvoltage": (_POSITIVE, "Trip of the power stage [V]"),
    "dead_voltage": (_NOT_NEGATIVE, "Voltage lost per phase by the inverter's dead time [V]"),
    "dead_current": (_POSITIVE, "Scale of the law: at it half is lost by the hyperbola [A]"),
    "dead_law": (
        {"enum": ["hyperbola", "tanh", "atan", "exponential", "clipped"]},
        "How the loss grows with a phase current",
    ),
    "current_noise": (_NOT_NEGATIVE, "Standard deviation of a current sample [A]"),
    "current_lsb": (_POSITIVE, "Resolution of a current sample [A]"),
    "drive_current_peak": (_POSITIVE, "Rating of the drive [A peak of sine]"),
    "drive_current_continuous": (_POSITIVE, "Rating of the drive [A peak of sine]"),
}
RIG_REQUIRED = [
    "resistance",
    "inductance_d",
    "inductance_q",
    "flux_linkage",
    "pole_pairs",
    "inertia_motor",
    "inertia_load",
]


def rig_schema() -> dict[str, Any]:
    """Return the schema of a rig file."""
    return {
        "$schema": DRAFT,
        "title": "Cadrel rig, version 1",
        "type": "object",
        "properties": {
            "format": {"const": "cadrel-rig"},
            "version": {"const": 1},
            "name": {"type": "string"},
            "comment": {"type": "string"},
            "truth": {
                "type": "object",
                "properties": {k: {**s, "description": d} for k, (s, d) in RIG_KEYS.items()},
                "required": RIG_REQUIRED,
                "additionalProperties": False,
            },
        },
        "required": ["format", "version", "truth"],
        "additionalProperties": False,
    }


def result_schema() -> dict[str, Any]:
    """Return the schema of a result file."""
    estimated = {
        "type": "object",
        "properties": {"value": _ANY, "unit": {"type": "string"}, "std": {"type": ["number", "null"]}},
        "required": ["value", "unit"],
    }
    criterion = {
        "type": "object",
        "properties": {
            "what": {"type": "string"}, "unit": {"type": "string"}, "asked": _ANY,
            "sense": {"enum": ["at least", "at most"]}, "found": {"type": ["number", "null"]},
            "source": {"type": "string"}, "tolerance": _ANY,
            "needed": {"type": "boolean"}, "passed": {"type": "boolean"},
        },
        "required": ["what", "asked", "sense", "found", "source", "tolerance", "passed"],
    }  # fmt: skip
    verdict = {
        "type": "object",
        "properties": {
            "claim": {"type": "string"},
            "state": {"enum": ["proven", "not proven"]},
            "reason": {"type": "string"},
            "criteria": {"type": "array", "items": criterion},
            "remarks": {"type": "array", "items": {"type": "string"}},
        },
        "required": ["claim", "state", "reason", "criteria"],
        "additionalProperties": False,
    }
    return {
        "$schema": DRAFT,
        "title": "Cadrel result, version 2",
        "type": "object",
        "properties": {
            "format": {"const": "cadrel-result"},
            "version": {"const": 2},
            "status": {"enum": ["proven", "refused", "failed"]},
            "reason": {"type": "string"},
            "identified": {"type": "object", "additionalProperties": estimated},
            "parameters": {"type": "object", "additionalProperties": _ANY},
            "margins": {"type": "object"},
            "verdicts": {"type": "object", "additionalProperties": verdict},
            "acceptance": {"type": "object"},
            "cost": {
                "type": "object",
                "properties": {"drive_time_s": _ANY, "compute_time_s": _ANY},
                "required": ["drive_time_s", "compute_time_s"],
            },
            "events": {"type": "array"},
        },
        "required": [
            "format",
            "version",
            "status",
            "reason",
            "identified",
            "parameters",
            "margins",
            "verdicts",
            "acceptance",
            "cost",
            "events",
        ],
        "additionalProperties": False,
    }
