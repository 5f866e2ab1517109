"""Everything that prevents enabling, in plain words, each with what to do and where."""

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from cadrel.core.parameters import BY_CODE, field_of
from cadrel.core.simulation import layout
from cadrel.core.simulation.device import hall_sector
from cadrel.core.simulation.layout import Settings
from cadrel.core.simulation.memory import Memory

WEAK_SIGNAL = 0.25  # of the nominal amplitude: a broken wire, or no excitation


class Blocker(NamedTuple):
    """Code, what is so, what to do, and the step that leads there."""

    code: str
    text: str
    remedy: str
    step: str


def find_blockers(
    state: np.record,
    memory: Memory,
    settings: Settings,
    *,
    switches: Mapping[str, bool],
    fault: str | None,
    device: int,
    mode: str,
) -> list[Blocker]:
    """Return what prevents enabling in a mode. `device`: the kind that is really on the connector."""
    v = memory.working
    found: list[Blocker] = []

    def add(code: str, text: str, remedy: str, step: str) -> None:
        found.append(Blocker(code, text, remedy, step))

    if fault:
        add("fault", f"A fault is active: {fault.replace('_', ' ')}.", "Mend the cause, then reset the fault.", "drive")
    if not switches["safe_torque_off"]:
        add("safe_torque_off", "Safe torque off is open.", "Close the safety circuit.", "drive")
    if not switches["hardware_enable"]:
        add("hardware_enable", "The hardware enable input is low.", "Switch it on.", "drive")
    if state.v_bus < v["power.undervoltage"]:
        text = f"The bus has {state.v_bus:.0f} V, under {v['power.undervoltage']:.0f} V."
        add("undervoltage", text, "Switch the supply on, or correct the supply entered.", "power")
    if settings.brake_operation == 1 and state.v_bus < settings.brake_pull_in_voltage:
        text = f"The bus has {state.v_bus:.0f} V, the brake needs {settings.brake_pull_in_voltage:.0f} V to open."
        add("brake_supply", text, f"Raise the supply, or correct {field_of('brake.pull_in_voltage')}.", "power")
    if memory.restart_needed:
        text = "Changed values wait for a restart of the drive."
        add("restart", text, "Store, then restart the drive.", "drive")
    if v == memory.permanent and v["motor.pole_pairs"] == 1 and v["limit.velocity"] == 10.0:
        add("configuration", "The drive holds factory values only.", "Send the project's values.", "drive")
    elif (blocker := _device_blocker(state, settings, device)) is not None:
        found.append(blocker)
    if mode != "vector":
        if not v["commutation.valid"]:
            text = "The commutation offset has not been found."
            add("commutation", text, "Run the commutation step.", "commutation")
        elif v["feedback.halls"] and hall_sector(state.hall, settings) < 0:
            text = f"The Hall signals show {state.hall}, which no position has."
            add("halls", text, "Check the Hall wires and their supply.", "feedback")
        elif not v["feedback.halls"] and state.angle_quality == layout.ANGLE_UNKNOWN:
            text = "The rotor angle is not known since power-up."
            add("angle", text, "Find the angle in the commutation step; it is needed after every power-up.",
                "commutation")  # fmt: skip
    return found


def _device_blocker(state: np.record, settings: Settings, device: int) -> Blocker | None:
    if settings.device != device:
        return Blocker(
            "device", f"The drive reads {BY_CODE[round(settings.device)].noun}, but nothing answers as that.",
            "Look at its plug, cable and supply first; then at the kind of device entered.", "feedback",
        )  # fmt: skip
    if device in (layout.SINCOS, layout.RESOLVER) and np.hypot(state.sig_cos, state.sig_sin) < WEAK_SIGNAL:
        return Blocker(
            "signals", "Sine and cosine are too weak to be read.", "Check wires, supply and excitation.", "feedback"
        )
    if device == layout.SERIAL and state.word_row > settings.errors_tolerated:
        return Blocker(
            "words", f"The last {state.word_row} words of the device were wrong or reported an error.",
            "Check word layout, checksum and cable.", "feedback",
        )  # fmt: skip
    return None
