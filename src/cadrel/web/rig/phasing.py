"""Phasing by hand: the vector while a button is held, readings noted, an offset taken from them."""

import math
from typing import Any

import numpy as np

from cadrel.core.axis import entry_from_drive
from cadrel.core.identification import offset_by_hand
from cadrel.core.parameters import Entry, check_entry, choice_of
from cadrel.procedures import Finding, Outcome, RunRecord, plan_commutation
from cadrel.procedures.phasing.vector import learn_holding_vector
from cadrel.web.changes.outcomes import keep_outcome
from cadrel.web.changes.values import save_entries
from cadrel.web.projects.models import Axis
from cadrel.web.rig.actions import consent_end, leading, log, send_values
from cadrel.web.rig.errors import NotReady

TURN = 2 * math.pi
LEAST_STD = math.radians(1.0)  # no reading by eye and hand is better
RISE = 0.15  # [s] to the full current
MOST_SPEED = 10.0  # [1/s] electrical turns
AHEAD = TURN  # [rad] a held vector is told to turn so far on


def enable_vector(axis: Axis, *, who: Any, tab: str = "", ticked: float | None = None) -> None:
    """Enable for phasing by hand, within the travel the automatic check states. Raises `NotReady`, `RefusedByDrive`."""
    if axis.jobs.active().exists():
        raise NotReady(what="A run is in progress.", remedy="Wait for its end, or press STOP.")
    drive = leading(axis, who)
    model = axis.understood
    status, travel = drive.status(), plan_commutation(model).travel
    drive.enable(
        "vector",
        guard_low=status["position"] - travel,
        guard_high=status["position"] + travel,
        guard_speed=model.goal.velocity,
        watcher=tab,
        not_after=consent_end(status["time"], ticked),
    )
    if model.has_brake and learn_holding_vector(drive, model):
        log(axis, who, "phasing", "The brake opened for a moment: the vector stands where it holds the load.")
    log(axis, who, "enabled", "Enabled for phasing by hand.")


def hold_vector(
    axis: Axis,
    *,
    who: Any,
    way: float,
    share: float,
    speed: float,
    by: float | None = None,
    target: float | None = None,
    holder: str = "",
) -> float:
    """Renew a held vector: turning one way, or to an angle; with neither its current goes. Returns where it goes. [rad]

    Parameters
    ----------
    way : float
        -1, 0 or 1: turning.
    by, target : float
        A step from where it stands, or the angle such a step led to. [rad]
    share : float
        Of the continuous current, at most 1.
    speed : float
        Electrical turns per second.
    """
    drive = leading(axis, who, "jog")
    current = max(0.0, min(share, 1.0)) * axis.understood.motor.current_continuous
    rate = TURN * max(0.05, min(speed, MOST_SPEED))
    if not way and by is None and target is None:
        drive.release_vector(holder=holder)
        return float(drive.status()["vector_angle"])
    now = drive.status()["vector_angle"]
    if way:
        to = now + math.copysign(AHEAD, way)
    elif target is not None:
        to = target
    else:
        assert by is not None  # one of the three is asked for
        to = now + by
    drive.vector(
        angle=to, rate=rate, current=current, rise=current / RISE, acceleration=rate / 0.2, held=True, holder=holder
    )
    return to


def reading(axis: Axis) -> dict[str, Any]:
    """Return what stands now: vector, shaft by the entered data, Halls, index or None. Angles electrical. [°]"""
    from cadrel.web.rig.links import drive_of

    status, model = drive_of(axis).status(), axis.understood
    sign = -1.0 if choice_of(axis.values, "feedback.direction") == "1" else 1.0
    per_count = sign * TURN / model.counts_per_rev * model.motor.pole_pairs
    return {
        "vector": math.degrees(status["vector_angle"]),
        "shaft": math.degrees((status["counts"] + 0.5) * per_count),
        "counts": status["counts"],
        "hall": status["hall"],
        "index": math.degrees(status["index_counts"] * per_count) if status["index_seen"] else None,
    }


def take_offset(axis: Axis, notes: list[dict[str, Any]], *, who: Any) -> str:
    """Take the offset from noted readings, send it, and keep it as estimated; nothing is closed on it yet.

    Raises `Contradiction`, `NotReady`.
    """
    model = axis.understood
    taken = offset_by_hand([n["vector"] for n in notes], [n["shaft"] for n in notes])
    offset, apart = taken.offset, taken.apart
    drive = leading(axis, who)
    entries: dict[str, Entry | None] = {"commutation.valid": {"value": "0", "source": "computed"}}
    if model.feedback.is_absolute or model.has_index:
        at = 0.0
        if not model.feedback.is_absolute:
            seen = [n["index"] for n in notes if n["index"] is not None]
            if not seen:
                raise NotReady(
                    what="The index has not come yet.", remedy="Turn the vector on until it does, then note again."
                )
            at = math.radians(seen[-1])
        value = math.remainder(offset + at, TURN)
        entries["commutation.offset"] = entry_from_drive("commutation.offset", value, axis=model, source="typed")
    elif model.has_halls:
        raise NotReady(
            what="Without an index the Halls' edges must be learned.", remedy="Run the automatic check for that."
        )
    if drive.status()["mode"] != "off":
        drive.disable()
    save_entries(axis, entries, author=who, cause="offset by hand")
    axis = Axis.objects.select_related("drive", "leader").get(pk=axis.pk)
    send_values(axis, who=who)
    if not model.knows_angle_at_power_up and not model.has_index:
        drive.adopt_angle(offset + math.radians(reading(axis)["shaft"]))
    values = axis.latest_set()
    assert values is not None
    text = f"by hand, {len(notes)} readings within {math.degrees(apart):.1f}°"
    doubt = max(apart, LEAST_STD)
    outcome = Outcome(
        findings=[Finding(kind="commutation", label="Offset by hand", value=offset, unit="rad", std=doubt, run=0)],
        runs=[
            RunRecord(
                kind="by_hand", title="Readings by hand", period=1.0,
                channels={
                    "vector_angle": np.radians([n["vector"] for n in notes]),
                    "shaft_el": np.radians([n["shaft"] for n in notes]),
                },
                excitation={"by": "hand"}, metrics={"offset_deg": math.degrees(offset)},
            )
        ],
        summary=text,
    )  # fmt: skip
    held = drive.read()
    keep_outcome(axis, "commutation", outcome, before=held, after=held, who=who, value_set=values.pk)
    log(axis, who, "phasing", f"Offset taken {text}.")
    return f"Offset taken {text}. It is not proven: confirm it by pushes, which unlocks the loops."


def invert_direction(axis: Axis, *, who: Any) -> str:
    """Turn the counting direction round, in project and drive."""
    inverted = _turn_round(axis, "feedback.direction", who=who, cause="counting direction inverted")
    return f"Counts are taken {'inverted' if inverted else 'as wired'} now. What rested on the old direction is stale."


def exchange_phases(axis: Axis, *, who: Any) -> str:
    """Exchange two motor phases in the drive, in project and drive."""
    exchanged = _turn_round(axis, "motor.phase_order", who=who, cause="motor phases exchanged")
    how = "with two of them exchanged" if exchanged else "as wired"
    return f"The motor phases are driven {how} now: forward is the other way round. What rested on it is stale."


def _turn_round(axis: Axis, key: str, *, who: Any, cause: str) -> bool:
    """Set a yes-or-no entry to its opposite, power off, in project and drive; returns what it is now."""
    drive = leading(axis, who)
    if drive.status()["mode"] != "off":
        drive.disable()
    now = choice_of(axis.values, key) != "1"
    save_entries(axis, {key: {"value": "1" if now else "0", "source": "typed"}}, author=who, cause=cause)
    send_values(Axis.objects.select_related("drive", "leader").get(pk=axis.pk), who=who)
    return now


def set_phasing(axis: Axis, *, who: Any, current: str, power_up: str) -> str:
    """Keep what commutation starts with: share of current, and the way at power-up. Raises `EntryProblem`."""
    entries: dict[str, Entry | None] = {"phasing.current": {"value": current, "unit": "%", "source": "typed"}}
    if power_up:
        entries["phasing.power_up"] = {"value": power_up, "source": "typed"}
    for key, entry in entries.items():
        assert entry is not None
        check_entry(key, entry)
        if key == "phasing.current":
            entry["value"] = float(current)
    saved = save_entries(axis, entries, author=who, cause="phasing set")
    return f"Saved as value set {saved.number}." if saved else ""
