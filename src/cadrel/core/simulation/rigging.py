"""The plant made from a rig in physical terms."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from cadrel.core.errors import UnusableInput
from cadrel.core.power import RATED_RISE
from cadrel.core.simulation.layout import NOTHING, STILL_WATER, TICK, Plant, Waves
from cadrel.core.simulation.truth import DEAD_LAWS, RigTruth

HALL_SEQUENCE = (1, 3, 2, 6, 4, 5)
MIRRORED_SEQUENCE = (1, 5, 4, 6, 2, 3)
MOST_SWING = 0.5  # [rad] of presliding friction in a tick: above, its integration would not be stable
UNKIND = (
    "inertia_third", "backlash_deg", "transmission_error", "cogging", "torque_ripple", "friction_wave",
    "presliding_deg", "saturation_current", "winding_heat", "base_inertia", "scale_error", "line_jitter",
)  # fmt: skip
NO_HALLS = 7  # what open inputs show


@dataclass(frozen=True, slots=True)
class TrueRig:
    """What the kernel needs of a rig."""

    plant: Plant
    start_angle: float


def hall_codes(truth: RigTruth) -> np.ndarray:
    """Return what the drive's inputs show in the six sectors, forward, with all that is wired wrongly."""
    if not truth.has_halls or truth.unplugged:
        return np.full(6, NO_HALLS, dtype=np.int64)
    ring = MIRRORED_SEQUENCE if truth.halls_mirrored else HALL_SEQUENCE
    codes = []
    for code in ring:
        hall = {1: code & 1, 2: code >> 1 & 1, 3: code >> 2 & 1}
        if truth.hall_spacing == 60:
            hall[2] = 1 - hall[2]
        for number in truth.hall_inverted:
            hall[number] = 1 - hall[number]
        for number in truth.hall_dead:
            hall[number] = 0
        codes.append(sum(hall[int(wire)] << k for k, wire in enumerate(truth.hall_wires)))
    return np.array(codes, dtype=np.int64)


def _waves(listed: tuple[tuple[float, float, float], ...], scale: float = 1.0) -> Waves:
    """Return four waves for the kernel, what is not listed still. Raises `UnusableInput` for more."""
    if len(listed) > len(STILL_WATER):
        raise UnusableInput(
            what=f"{len(listed)} harmonics are listed.", remedy=f"A rig has up to {len(STILL_WATER)} of each kind."
        )
    given = [(float(order), scale * float(size), math.radians(phase)) for order, size, phase in listed]
    return tuple([*given, *STILL_WATER][: len(STILL_WATER)])  # type: ignore[return-value]


def _bristles(coulomb: float, inertia: float, truth: RigTruth) -> tuple[float, float]:
    """Stiffness and damping of presliding friction; its swing is half of critically damped. Raises `UnusableInput`."""
    if not truth.presliding_deg or not coulomb:
        return 0.0, 0.0
    stiffness = coulomb * truth.breakaway_ratio / math.radians(truth.presliding_deg)
    if math.sqrt(stiffness / inertia) * TICK > MOST_SWING:
        raise UnusableInput(
            what=f"Friction that builds up within {truth.presliding_deg:.3g}° swings faster than the stand-in follows.",
            remedy="Give it a longer presliding, or none.",
        )
    return stiffness, math.sqrt(stiffness * inertia)


def _unkindness(truth: RigTruth) -> dict[str, Any]:
    """What `unkind.py` works on, and whether anything of it is there."""
    bristle_motor, damping_motor = _bristles(truth.coulomb_motor, truth.inertia_motor, truth)
    bristle_load, damping_load = _bristles(truth.coulomb_load, truth.inertia_load, truth)
    plain = RigTruth.__dataclass_fields__
    unkind = any(getattr(truth, key) != plain[key].default for key in UNKIND)
    return dict(
        unkind=int(unkind),
        inertia_third=truth.inertia_third,
        stiffness_third=truth.stiffness_third,
        damping_third=truth.damping_third,
        backlash=math.radians(truth.backlash_deg) / 2,
        transmission=_waves(truth.transmission_error, math.radians(1.0)),
        cogging=_waves(truth.cogging),
        ripple=_waves(truth.torque_ripple),
        friction_wave=_waves(truth.friction_wave),
        bristle_motor=bristle_motor,
        bristle_damping_motor=damping_motor,
        bristle_load=bristle_load,
        bristle_damping_load=damping_load,
        saturation=truth.saturation_current,
        magnetised=truth.magnet_current,
        winding_share=truth.resistance / truth.phase_resistance,
        winding_heat=truth.winding_heat,
        winding_cooling=truth.winding_cooling,
        base_inertia=truth.base_inertia,
        base_stiffness=truth.base_stiffness,
        base_damping=truth.base_damping,
        scale_error=_waves(truth.scale_error, math.radians(1.0)),
        line_jitter=truth.line_jitter,
        periods_of_lines=float(truth.encoder_lines),
    )


def plant_of(truth: RigTruth, *, rng: np.random.Generator) -> TrueRig:
    """Return plant, Hall pattern and start angle. The start angle is drawn unless the truth gives it.

    Raises `UnusableInput` for a rig that cannot be.
    """
    for key in ("inertia_motor", "inertia_load", "cable_section_mm2"):
        if not getattr(truth, key) > 0.0:
            raise UnusableInput(what=f"The rig's {key} is {getattr(truth, key):.3g}.", remedy="Give more than nought.")
    start = truth.start_angle if truth.start_angle is not None else float(rng.uniform(0, 2 * math.pi))
    edges = np.radians([truth.hall_offset_deg + 60 * k + truth.hall_errors_deg[k] for k in range(6)])
    states = hall_codes(truth)
    wrapped = np.mod(edges, 2 * math.pi)
    order = np.argsort(wrapped)
    plant = Plant(
        resistance=truth.phase_resistance,
        inductance_d=truth.inductance_d,
        inductance_q=truth.inductance_q,
        flux_linkage=truth.flux_linkage,
        pole_pairs=float(truth.pole_pairs),
        inertia_motor=truth.inertia_motor,
        inertia_load=truth.inertia_load,
        stiffness=truth.stiffness,
        damping=truth.damping,
        coulomb_motor=truth.coulomb_motor,
        viscous_motor=truth.viscous_motor,
        coulomb_load=truth.coulomb_load,
        viscous_load=truth.viscous_load,
        breakaway_ratio=truth.breakaway_ratio,
        stribeck_speed=truth.stribeck_speed,
        torque_load=truth.torque_load,
        stop_low=start + truth.stop_low,
        stop_high=start + truth.stop_high,
        stop_stiffness=0.2 * truth.stiffness,
        stop_damping=0.2,
        supply_voltage=truth.supply_voltage,
        supply_resistance=truth.supply_resistance,
        bus_capacitance=truth.bus_capacitance,
        chopper_on=truth.chopper_on,
        chopper_off=truth.chopper_off,
        chopper_resistance=truth.brake_resistor,
        resistor_cooling=truth.resistor_power / RATED_RISE,
        resistor_heat=truth.resistor_heat,
        dead_voltage=truth.dead_voltage,
        dead_current=truth.dead_current,
        dead_law=DEAD_LAWS.index(truth.dead_law),
        current_noise=truth.current_noise,
        current_lsb=truth.current_lsb,
        bus_noise=0.0,
        phase_sign=-1.0 if truth.phases_swapped else 1.0,
        phase_cos=math.cos(2 * math.pi * truth.phases_rotated / 3),
        phase_sin=math.sin(2 * math.pi * truth.phases_rotated / 3),
        open_phase=float(truth.open_phase),
        device=NOTHING if truth.unplugged else truth.device_kind.code,
        counts_per_rev=4.0 * truth.encoder_lines,
        encoder_sign=-1.0 if truth.encoder_inverted else 1.0,
        index_angle=truth.index_angle,
        has_index=0.0 if truth.index_missing or truth.unplugged else 1.0,
        lost_counts=truth.lost_counts,
        hall_edges=tuple(wrapped[order].tolist()),
        hall_states=tuple(states[order].tolist()),
        hall_hysteresis=math.radians(truth.hall_hysteresis_deg),
        play=truth.coupling_play,
        slip=truth.coupling_slip,
        periods=float(truth.resolver_pairs if truth.device_kind.converts_signals else truth.encoder_lines),
        signal_offset_cos=truth.signal_offset_cos,
        signal_offset_sin=truth.signal_offset_sin,
        signal_gain=truth.signal_gain,
        signal_quadrature=math.radians(truth.signal_quadrature_deg),
        signal_noise=truth.signal_noise,
        signal_level=math.cos(math.radians(truth.excitation_phase_deg)) if truth.device_kind.converts_signals else 1.0,
        signals_swapped=float(truth.signals_swapped),
        word_counts=2.0**truth.single_turn_bits,
        word_skip=2.0**truth.trailing_bits,
        word_length=float(truth.word_bits),
        word_error_rate=truth.word_error_rate,
        word_latency=truth.word_latency,
        word_alarm=float(truth.word_alarm),
        word_flags=float(truth.word_flags),
        word_checksum={"crc6": 6.0, "parity": 1.0, "none": 0.0}[truth.word_checksum],
        word_gray=float(truth.word_coding == "gray"),
        current_offset_a=truth.current_offset[0],
        current_offset_b=truth.current_offset[1],
        current_gain_b=1.0 + truth.current_gain_error,
        ripple_shown=2 * truth.sampling_skew / (truth.inductance_d + truth.inductance_q),
        **_unkindness(truth),
        brake_torque=truth.brake_torque,
        pin_play=math.radians(truth.pin_play_deg) / 2 if truth.brake_kind == "pin" else 0.0,
        pin_jam=truth.pin_jam,
        brake_stuck=float(truth.brake_stuck),
        brake_release=truth.brake_release / TICK,
        brake_engage=truth.brake_engage / TICK,
        brake_pull_in=truth.brake_pull_in,
        brake_hold=truth.brake_hold,
        controller_delay=truth.controller_delay / TICK,
        second_counts=truth.second_counts * (-1.0 if truth.second_inverted else 1.0),
    )
    # One type a field: a whole number from a file would make the kernel compile anew.
    values: list[Any] = list(plant)
    kinds = Plant.__annotations__.values()
    typed = [float(v) if kind is float else v for kind, v in zip(kinds, values, strict=True)]
    return TrueRig(Plant._make(typed), start)
