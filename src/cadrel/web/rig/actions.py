"""What the rig strip and the Drive step do. Each checks who may, acts, writes the event log."""

import contextlib
import math
import secrets
from collections.abc import Mapping, Sequence
from typing import Any

from django.db import transaction

from cadrel.core.axis import drive_values, entry_from_drive, missing_entries
from cadrel.core.errors import CadrelError
from cadrel.core.parameters import DRIVE_KEYS, full_label
from cadrel.link import Drive, LinkError
from cadrel.link.commands import CONSENT_SECONDS
from cadrel.procedures import PROCEDURES
from cadrel.procedures.session import ABORT
from cadrel.web.accounts.roles import require_engineer
from cadrel.web.changes.values import save_entries
from cadrel.web.jobs.models import Job, WorkerSign
from cadrel.web.jobs.queue import tell_worker
from cadrel.web.projects.models import Axis
from cadrel.web.rig.errors import NoControl, NotConnected, NotReady
from cadrel.web.rig.links import drive_of, owned_by, stand_in_of
from cadrel.web.runs.models import Event

PROTOCOL = 1
JOG_GUARD = 1.15  # of the velocity limit
FARTHEST = 1e6  # [rad] a position may be declared
SWITCHES = ("safe_torque_off", "hardware_enable")


def log(axis: Axis, who: Any, kind: str, text: str) -> None:
    """Write the event log."""
    Event.objects.create(axis=axis, who=who, kind=kind, text=text)


def log_refusal(axis: Axis, who: Any, step: str, error: CadrelError) -> None:
    """Keep why a start was refused, where every page of the axis finds it until a run of the step has come through."""
    log(axis, who, "refused", f"{step} was refused. {error.parts[0]} {error.parts[2]}"[:400])


def connect(axis: Axis, *, who: Any) -> dict[str, Any]:
    """Connect and check the protocol. Raises `LinkError`, `NotReady`."""
    require_engineer(who)
    drive = drive_of(axis)
    identity = drive.identity()
    if identity.get("protocol") != PROTOCOL:
        raise NotReady(
            what=f"The drive speaks protocol {identity.get('protocol')}, this application {PROTOCOL}.",
            remedy="Update the older of the two.",
        )
    capabilities = drive.capabilities()
    axis.connected = True
    axis.rating_peak = float(identity["current_peak"])
    rates = capabilities.rates
    axis.current_period, axis.velocity_period = rates.current, rates.velocity
    axis.save(update_fields=["connected", "rating_peak", "current_period", "velocity_period"])
    log(axis, who, "connected", f"Connected to {identity['name']}, firmware {identity['firmware']}.")
    return identity


def disconnect(axis: Axis, *, who: Any) -> None:
    """Give control back and forget the connection."""
    require_engineer(who)
    if axis.lease and axis.leader == who:
        with contextlib.suppress(LinkError):
            drive_of(axis).give_control()
    Axis.objects.filter(pk=axis.pk).update(connected=False, lease="", leader=None)
    log(axis, who, "disconnected", "Disconnected.")


def take_control(axis: Axis, *, who: Any, force: bool = False) -> None:
    """Take the lease. Raises `NotConnected`, `LinkError` (another has it)."""
    require_engineer(who)
    if not axis.connected:
        raise NotConnected()
    before = drive_of(axis).status()["owner"]
    lease = drive_of(axis).take_control(owned_by(who.get_username()), force=force)
    Axis.objects.filter(pk=axis.pk).update(lease=lease, leader=who)
    taken = before not in (None, owned_by(who.get_username()))
    log(axis, who, "control", f"Took control from {before}." if taken else "Took control.")


def give_control(axis: Axis, *, who: Any) -> None:
    """Give the lease back; the drive stops the axis first."""
    leading(axis, who).give_control()
    Axis.objects.filter(pk=axis.pk).update(lease="", leader=None)
    log(axis, who, "control", "Gave control back.")


def leading(axis: Axis, who: Any, purpose: str = "command") -> Drive:
    """Return the drive, for an engineer who has control. Raises `NotConnected`, `NoControl`, `PermissionDenied`."""
    require_engineer(who)
    if not axis.connected:
        raise NotConnected()
    if not axis.lease or axis.leader_id != who.pk:
        raise NoControl()
    return drive_of(axis, purpose)


def abort_run(axis: Axis, *, who: Any) -> None:
    """Abort the run in progress: told to the worker, and to the drive at once, which stops and ends the consent."""
    require_engineer(who)
    Job.objects.filter(axis=axis).active().update(abort=True)
    name = who.get_username()
    with contextlib.suppress(LinkError):  # the worker hears of it all the same
        drive_of(axis, "stop").stop(f"{ABORT} {name}", press=secrets.token_hex(8), by=name)
    log(axis, who, "abort", "Run aborted.")


def wanted_values(axis: Axis) -> dict[str, float]:
    """Return what the drive should hold. Raises `CoreError` while entries are missing."""
    return drive_values(axis.values, drive_current_peak=axis.rating_peak, rates=axis.rates, axis=axis.understood)


def differences(wanted: dict[str, float], held: dict[str, float]) -> list[str]:
    """Return the keys whose values differ by more than rounding."""
    return [k for k in DRIVE_KEYS if not math.isclose(wanted[k], held.get(k, math.nan), rel_tol=1e-9, abs_tol=1e-15)]


def send_values(axis: Axis, *, who: Any, keys: list[str] | None = None) -> list[str]:
    """Write the project's values into the drive's working memory; returns the labels that changed."""
    drive = leading(axis, who)
    wanted = wanted_values(axis)
    # What differs in the last bit only, from printed units and back, is left: it would show as not stored.
    differing = differences(wanted, drive.read())
    changed = drive.write({k: wanted[k] for k in keys or DRIVE_KEYS if k in differing})
    if changed:
        log(axis, who, "sent", f"{len(changed)} values sent: {', '.join(full_label(k) for k in changed[:5])}.")
    return [full_label(k) for k in changed]


def fetch_values(axis: Axis, *, who: Any, keys: list[str]) -> int:
    """Take values of the drive into the project; returns how many."""
    require_engineer(who)
    if not axis.connected:
        raise NotConnected()
    held = drive_of(axis).read()
    model = axis.understood
    entries = {k: entry_from_drive(k, held[k], axis=model, source="typed") for k in keys if k in DRIVE_KEYS}
    save_entries(axis, entries, author=who, cause="fetched from the drive")
    return len(entries)


def store(axis: Axis, *, who: Any) -> None:
    """Working to permanent memory."""
    leading(axis, who).store()
    log(axis, who, "stored", "Stored permanently in the drive.")


def restart(axis: Axis, *, who: Any) -> None:
    """Restart the drive's firmware and take control again."""
    leading(axis, who).restart()
    log(axis, who, "restart", "Drive restarted.")
    take_control(axis, who=who)


def reset_fault(axis: Axis, *, who: Any) -> None:
    """Reset a fault."""
    leading(axis, who).reset_fault()
    log(axis, who, "fault", "Fault reset.")


def consent_end(now: float, ticked: float | None) -> float:
    """Until when a consent holds, by the drive's clock: 20 s from the tick, if the page told when that was. [s]"""
    return CONSENT_SECONDS + (now if ticked is None else min(now, ticked))


def enable_jog(axis: Axis, *, who: Any, tab: str = "", ticked: float | None = None) -> None:
    """Enable in position mode within the travel limits, for jogging. Raises `NotReady` during a run.

    `tab` is the page that must stay open, `ticked` the drive's time at which the consent was ticked. [s]
    """
    if axis.jobs.active().exists():
        raise NotReady(what="A run is in progress.", remedy="Wait for its end, or press STOP.")
    drive = leading(axis, who)
    held = drive.read()
    drive.enable(
        "position",
        guard_low=held["limit.travel_min"],
        guard_high=held["limit.travel_max"],
        guard_speed=JOG_GUARD * held["limit.velocity"],
        watcher=tab,
        not_after=consent_end(drive.status()["time"], ticked),
    )
    log(axis, who, "enabled", "Enabled for jogging.")


def disable(axis: Axis, *, who: Any) -> None:
    """Open the power stage."""
    leading(axis, who).disable()
    log(axis, who, "disabled", "Disabled.")


def jog(axis: Axis, *, who: Any, share: float, holder: str = "") -> None:
    """Renew a jog at a share of the velocity limit, -1...1; 0 stops it. The first holder wins until it lets go."""
    drive = leading(axis, who, "jog")
    if share == 0:
        drive.jog(0.0, holder=holder)
        return
    limit = wanted_values(axis)["limit.velocity"]
    drive.jog(_bounded("Share of the speed", share, -1.0, 1.0) * limit, holder=holder)


def _bounded(what: str, value: float, low: float, high: float) -> float:
    """Return a finite number within bounds. Raises `NotReady`: nan and inf are no commands."""
    if not math.isfinite(value) or not low <= value <= high:
        raise NotReady(what=f"{what} must be a number from {low:g} to {high:g}.", remedy="Type it again.")
    return value


def set_position(axis: Axis, *, who: Any, user_value: float) -> None:
    """Home "here": the present position becomes `user_value`, in the axis's unit."""
    scale = axis.understood.mechanism.unit_per_rad
    farthest = FARTHEST * abs(scale)
    leading(axis, who).set_position(_bounded("The position", user_value, -farthest, farthest) / scale)
    log(axis, who, "home", f"Position set to {user_value:g}.")


def power_switch(axis: Axis, *, who: Any, on: bool) -> None:
    """The stand-in's mains switch."""
    require_engineer(who)
    if not axis.connected:
        raise NotConnected()
    stand_in_of(axis).power_switch(on)
    if not on:
        Axis.objects.filter(pk=axis.pk).update(lease="", leader=None)
    log(axis, who, "power", f"Supply switched {'on' if on else 'off'}.")


def set_switch(axis: Axis, *, who: Any, name: str, closed: bool) -> None:
    """The stand-in's safety and enable inputs."""
    require_engineer(who)
    if not axis.connected:
        raise NotConnected()
    if name not in SWITCHES:
        raise NotReady(what="The stand-in has no such input.", remedy=f"It has {' and '.join(SWITCHES)}.")
    stand_in_of(axis).set_switch(name, closed)
    log(axis, who, "switch", f"{name.replace('_', ' ')} {'closed' if closed else 'opened'}.")


def require_worker() -> None:
    """Raise `NotReady` if no worker is there to take a run: better said at once than after a wait."""
    if not WorkerSign.is_there():
        raise NotReady(
            what="No worker is there to carry out a run.",
            remedy="The supervisor starts it again within a few seconds; look at the axis and try once more.",
        )


@transaction.atomic
def queue_job(
    axis: Axis,
    procedure: str,
    *,
    who: Any,
    consented: bool,
    ticked: float | None = None,
    unattended: bool = False,
    arguments: Mapping[str, Any] | None = None,
    followed_by: Sequence[str] = (),
) -> Job:
    """Make the job of a procedure after checking everything that can be checked before. Raises `WebRefused`.

    The drive is told of the consent at once, with its end: what is not begun by then is not begun. It covers what is
    `followed_by` as well, one after the other as each comes through; the widest travel and speed of all are kept to.
    """
    declared = PROCEDURES.get(procedure)
    if declared is None:
        raise NotReady(what="There is no such procedure.", remedy="Start one from its step.")
    given = declared.given(arguments or {})
    Axis.objects.select_for_update().get(pk=axis.pk)
    if not consented:
        raise NotReady(what="Motion was not consented to.", remedy="Read what will move, then tick the consent.")
    if axis.jobs.active().exists():
        raise NotReady(what="A run is in progress already.", remedy="Wait for its end, or press STOP.")
    drive = leading(axis, who)
    missing = missing_entries(axis.values)
    if missing:
        raise NotReady(what=f"Still missing: {', '.join(missing[:6])}.", remedy="Enter it in the steps above.")
    if why := declared.not_for(axis.understood):
        raise NotReady(what=why, remedy="Enter, check and keep it here; commission it with a drive that can.")
    wanted = wanted_values(axis)
    differing = differences(wanted, drive.read())
    if differing:
        raise NotReady(
            what=f"{len(differing)} values in the drive differ from the project's.",
            remedy="Send or fetch them in the Drive step first.",
        )
    status = drive.status()
    if status["mode"] != "off":
        drive.disable()
    hard = [b for b in status["blockers"] if declared.hinders(b)]
    if hard:
        raise NotReady(what=" ".join(b["text"] for b in hard), remedy=" ".join(b["remedy"] for b in hard))
    require_worker()
    consent = declared.consent(axis.understood, wanted)
    label = secrets.token_hex(8)
    token = drive.give_consent(label, until=consent_end(status["time"], ticked), unattended=unattended)
    agreed = {
        "travel": consent.travel, "speed": consent.speed, "label": label, "token": token, "unattended": unattended
    }  # fmt: skip
    if followed_by:
        every = [PROCEDURES[key].consent(axis.understood, wanted) for key in (procedure, *followed_by)]
        agreed |= {"most_travel": max(c.travel for c in every), "most_speed": max(c.speed for c in every)}
    job = Job.objects.create(
        axis=axis, procedure=procedure, who=who, consent=agreed, arguments=given, chain=list(followed_by)
    )
    what = " and then ".join((procedure, *followed_by))
    log(axis, who, "consent", f"Consented to {what}{', unattended' if unattended else ''}.")
    tell_worker(job)
    return job


def turn_by_hand(axis: Axis, *, who: Any, turns: float, seconds: float) -> None:
    """Let the stand-in's hand turn the shaft. Raises `NotConnected`, `RefusedByDrive`."""
    require_engineer(who)
    if not axis.connected:
        raise NotConnected()
    turns = _bounded("The number of turns", turns, -5.0, 5.0)
    stand_in_of(axis).turn_by_hand(2 * math.pi * turns, seconds)
    log(axis, who, "hand", f"Shaft turned by {turns:g} turns from outside.")
