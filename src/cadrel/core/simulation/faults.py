"""What can be wired or mounted wrongly, each as a change of the rig."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

from cadrel.core.errors import UnusableInput
from cadrel.core.parameters import DEVICE_KINDS, kinds_with
from cadrel.core.simulation.truth import RigTruth

ALL = tuple(DEVICE_KINDS)
SIGNALS = kinds_with("may_have_index")
ON_SHAFT = tuple(k for k in ALL if not DEVICE_KINDS[k].tells_sectors_only)
WITH_SINE, WITH_WORDS = kinds_with("has_sine"), kinds_with("has_words")


@dataclass(frozen=True, slots=True)
class Fault:
    """One fault: code, label, the devices it can befall, the rig with it."""

    code: str
    label: str
    devices: tuple[str, ...]
    apply: Callable[[RigTruth], RigTruth]
    needs_halls: bool = False

    def befalls(self, truth: RigTruth) -> bool:
        """Whether the rig has what the fault concerns."""
        return truth.device in self.devices and (truth.has_halls or not self.needs_halls)


def rated_torque(truth: RigTruth) -> float:
    """Torque at the drive's continuous current. [N·m]"""
    return 1.5 * truth.pole_pairs * truth.flux_linkage * truth.drive_current_continuous


def _doubled_pairs(t: RigTruth) -> RigTruth:
    # The same iron with twice the poles: angle of the index and flux per pair go with it.
    return replace(t, pole_pairs=2 * t.pole_pairs, flux_linkage=t.flux_linkage / 2)


def _other_resolution(t: RigTruth) -> RigTruth:
    if t.device_kind.repeats_in_turn:
        return replace(t, resolver_pairs=t.resolver_pairs + 1)
    if t.device_kind.has_words:  # where the multi-turn field gives the bit, the word stays as long
        return replace(t, single_turn_bits=t.single_turn_bits + 1, multi_turn_bits=max(t.multi_turn_bits - 1, 0))
    return replace(t, encoder_lines=round(1.6 * t.encoder_lines))


def _turned_round(t: RigTruth) -> RigTruth:
    return replace(t, encoder_inverted=not t.encoder_inverted)


def _other_wires(t: RigTruth, order: str) -> RigTruth:
    return replace(t, hall_wires="".join(t.hall_wires[int(k) - 1] for k in order))


def _play(t: RigTruth) -> RigTruth:
    return replace(t, coupling_play=math.radians(40) / t.pole_pairs)


def _brake_closed(t: RigTruth) -> RigTruth:
    return replace(t, brake_torque=max(t.brake_torque, 4 * rated_torque(t)), brake_stuck=True)


def _stiction(t: RigTruth) -> RigTruth:
    return replace(t, coulomb_load=0.45 * rated_torque(t), breakaway_ratio=1.6)


FAULTS: dict[str, Fault] = {
    f.code: f
    for f in (
        Fault("phases_swapped", "Two motor phases swapped", ALL,
              lambda t: replace(t, phases_swapped=not t.phases_swapped)),
        Fault("phases_rotated", "All motor phases moved on by one", ALL, lambda t: replace(t, phases_rotated=1)),
        Fault("ab_swapped", "A and B swapped", SIGNALS, _turned_round),
        Fault("index_missing", "Index wire off", SIGNALS, lambda t: replace(t, index_missing=True)),
        Fault("halls_permuted", "Two Hall wires swapped", ALL, lambda t: _other_wires(t, "213"), True),
        Fault("halls_rotated", "All Hall wires moved on by one", ALL, lambda t: _other_wires(t, "231"), True),
        Fault("hall_inverted", "One Hall inverted", ALL, lambda t: replace(t, hall_inverted=(3,)), True),
        Fault("hall_dead", "One Hall dead", ALL, lambda t: replace(t, hall_dead=(2,)), True),
        Fault("sincos_swapped", "Sine and cosine swapped", WITH_SINE,
              lambda t: replace(t, signals_swapped=not t.signals_swapped)),
        Fault("pole_pairs", "Twice the pole pairs of the sheet, or half the pitch", ALL, _doubled_pairs),
        Fault("resolution", "Another resolution than entered", ON_SHAFT, _other_resolution),
        Fault("mounted_reversed", "Device mounted the other way round", ON_SHAFT,
              _turned_round),
        Fault("loose_coupling", "Coupling of the device has play", ON_SHAFT, _play),
        Fault("brake_closed", "Brake stays closed", ALL, _brake_closed),
        Fault("heavy_load", "Twelve times the inertia", ALL,
              lambda t: replace(t, inertia_load=t.inertia_load + 11 * (t.inertia_motor + t.inertia_load))),
        Fault("vertical_load", "Load hangs, and no brake holds it", ALL,
              lambda t: replace(t, torque_load=0.6 * rated_torque(t), brake_torque=0.0)),
        Fault("stiction", "Gear with strong stiction", ALL, _stiction),
        Fault("low_current", "Far too little current allowed", ALL,
              lambda t: replace(t, drive_current_continuous=0.02 * t.drive_current_continuous,
                                drive_current_peak=0.02 * t.drive_current_continuous)),
        Fault("phase_open", "A motor phase is not connected", ALL, lambda t: replace(t, open_phase=2)),
        Fault("unplugged", "The device is not plugged in", ALL, lambda t: replace(t, unplugged=True)),
        Fault("stop_on_one_side", "End stop close by on one side", ALL,
              lambda t: replace(t, stop_high=1.2 / t.pole_pairs)),
        Fault("end_stop_near", "End stop close by", ALL,
              lambda t: replace(t, stop_high=1.2 / t.pole_pairs, stop_low=-1.2 / t.pole_pairs)),
        Fault("word_errors", "Line errors in one of 30 words", WITH_WORDS,
              lambda t: replace(t, word_error_rate=1 / 30)),
        Fault("word_layout", "Another word layout than entered", WITH_WORDS,
              lambda t: replace(t, trailing_bits=t.trailing_bits + 1, leading_bits=max(t.leading_bits - 1, 0))),
    )
}  # fmt: skip


def wired(truth: RigTruth) -> RigTruth:
    """Return a rig with its listed faults in place. Raises `UnusableInput` for one unknown or impossible there."""
    result = truth
    for code in truth.faults:
        fault = FAULTS.get(code)
        if fault is None or not fault.befalls(truth):
            known = ", ".join(c for c, f in FAULTS.items() if f.befalls(truth))
            raise UnusableInput(what=f"This rig cannot have the fault '{code}'.", remedy=f"It can have: {known}.")
        result = fault.apply(result)
    return replace(result, faults=())
