"""Identified values belong to the motor, load and wiring they were found on; with another they fall away."""

import math
from collections.abc import Mapping

from cadrel.core.axis.drive_values import drive_values
from cadrel.core.axis.understanding import AxisModel, understand
from cadrel.core.errors import CoreError
from cadrel.core.parameters import REGISTRY, Entry

OF_THE_MOTOR = ("motor.resistance", "motor.inductance", "motor.flux_linkage", "current.")
OF_THE_LOAD = ("load.inertia", "velocity.", "position.gain", "position.shaping")
SHOWN = ("motor.resistance", "motor.inductance", "motor.flux_linkage", "load.inertia")
SAME = 1e-9  # relative: what differs by less was not typed anew


def fallen_identified(before: Mapping[str, Entry], after: Mapping[str, Entry]) -> list[str]:
    """Return the keys of identified entries that belonged to another motor or load than the one now described.

    Parameters
    ----------
    before, after : mapping of str to Entry
        An axis's entries before and after a change.

    Notes
    -----
    A motor is another one if its resistance, inductance, flux, pole pairs or inertia differ; then everything found on
    it goes, the load too, since its torque was weighed by that motor's flux. A load is another one if its reflected
    inertia or ratio differ. Entries that cannot be understood are compared as they were typed.
    """
    held = [k for k, e in after.items() if e.get("source") in ("identified", "elsewhere") and k in REGISTRY]
    if not held:
        return []
    motor, load = _differ(before, after)
    prefixes = (OF_THE_MOTOR + OF_THE_LOAD) if motor else OF_THE_LOAD if load else ()
    return [k for k in held if prefixes and k.startswith(prefixes)]


def _differ(before: Mapping[str, Entry], after: Mapping[str, Entry]) -> tuple[bool, bool]:
    """Whether the motor is another one, and whether the load is."""
    try:
        old, new = understand(before), understand(after)
    except CoreError:
        changed = {k for k in {*before, *after} if _typed(before.get(k)) != _typed(after.get(k))}
        return any(k.startswith("sheet.") for k in changed), any(k.startswith("mechanics.") for k in changed)
    motor = not _same(_motor(old), _motor(new))
    return motor, motor or not _same(_load(old), _load(new))


def _motor(axis: AxisModel) -> tuple[float, ...]:
    m = axis.motor
    return (m.resistance, m.inductance, m.flux_linkage, float(m.pole_pairs), m.inertia)


def _load(axis: AxisModel) -> tuple[float, ...]:
    return (axis.mechanism.inertia_reflected, axis.mechanism.motor_rad_per_load)


def _same(a: tuple[float, ...], b: tuple[float, ...]) -> bool:
    return all(math.isclose(x, y, rel_tol=SAME, abs_tol=1e-30) for x, y in zip(a, b, strict=True))


def _typed(entry: Entry | None) -> tuple[object, object, object] | None:
    return None if entry is None else (entry.get("value"), entry.get("unit"), entry.get("convention"))


def from_the_sheet(values: Mapping[str, Entry]) -> dict[str, float]:
    """Return what the sheet alone says of the values that may be identified. SI, by drive key. Raises `CoreError`."""
    plain = {k: e for k, e in values.items() if k not in SHOWN}
    computed = drive_values(plain)
    return {k: computed[k] for k in SHOWN}
