"""The drive's commands as messages, on any transport."""

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from cadrel.link.drive import Capabilities, Recording
from cadrel.link.errors import LinkBroken
from cadrel.link.wire import WireError, pack, unpack

FloatArray = NDArray[np.float64]


class Link(Protocol):
    """A transport: one call at a time, and the passing of time."""

    address: str
    unattended: bool  # whether nobody looks on: a drive in this process has no pages

    def call(self, method: str, params: dict[str, Any]) -> Any:
        """Return the result of a call. Raises `LinkError`."""

    def wait(self, seconds: float) -> None:
        """Let drive time pass."""

    def close(self) -> None:
        """Give the transport back."""


class LinkedDrive:
    """A drive that speaks docs/link-protocol.md, over any transport."""

    def __init__(self, link: Link, axis: str) -> None:
        self.link = link
        self.axis = axis
        self.lease = ""
        self.consent = ""  # token of a run's consent; every call that carries it keeps the consent alive
        self.unattended = link.unattended  # whether it was agreed to that nobody watches
        self._told: Capabilities | None = None

    def _call(self, method: str, **params: Any) -> Any:
        return self.link.call(method, {"axis": self.axis, **params})

    def _led(self, method: str, **params: Any) -> Any:
        if self.consent:
            params["consent"] = self.consent
        return self._call(method, lease=self.lease, **params)

    def wait(self, seconds: float) -> None:
        """Let drive time pass."""
        self.link.wait(seconds)

    def capabilities(self) -> Capabilities:
        """What this drive can do; asked of it once."""
        if self._told is None:
            identity = self.identity()
            try:
                self._told = Capabilities.from_identity(identity)
            except (KeyError, TypeError, ValueError) as cause:
                raise LinkBroken(address=self.link.address, why=f"unusable identity: {cause}") from cause
        return self._told

    def identity(self) -> dict[str, Any]:
        """Name, versions, ratings, signals."""
        return dict(self._call("drive.identity"))

    def status(self) -> dict[str, Any]:
        """Power state, live values, blockers, control, unstored keys. Renews the lease if one is held."""
        return dict(self._led("drive.status"))

    def read(self, memory: str = "working") -> dict[str, float]:
        """Parameters of "working" or "permanent" memory, SI."""
        return {str(k): float(v) for k, v in self._call("parameters.read", memory=memory).items()}

    def write(self, values: Mapping[str, float]) -> list[str]:
        """Write working memory; returns the keys that changed."""
        return list(self._led("parameters.write", values=dict(values)))

    def store(self) -> None:
        """Working to permanent memory."""
        self._led("parameters.store")

    def restart(self) -> None:
        """Restart the firmware; the lease is gone with it."""
        self._led("drive.restart")
        self.lease = ""

    def take_control(self, owner: str, *, force: bool = False) -> str:
        """Take the lease; returns its token."""
        self.lease = str(self._call("control.take", owner=owner, force=force))
        return self.lease

    def give_control(self) -> None:
        """Give the lease back."""
        self._led("control.give")
        self.lease = ""

    def beat(self) -> None:
        """Renew the lease."""
        self._led("control.beat")

    def give_consent(self, label: str, *, until: float, unattended: bool = False) -> str:
        """Tell the drive what was consented to, and until when by its own clock [s]; returns the consent's token."""
        return str(self._led("control.consent", label=label, until=until, unattended=unattended))

    def revoke_consent(self, label: str, why: str) -> None:
        """Take a consent back: what was started on it cannot enable any more."""
        self._led("control.revoke", label=label, why=why)

    def enable(
        self,
        mode: str,
        *,
        guard_low: float,
        guard_high: float,
        guard_speed: float,
        torque: float = 0.0,
        brake_closed: bool = False,
        cut_on_guard: bool = False,
        watcher: str = "",
        not_after: float | None = None,
    ) -> None:
        """Enable within consented travel and speed, with a torque from the first moment. [rad], [rad/s], [N·m]

        With `brake_closed` a brake stays closed. With `cut_on_guard` leaving the guard closes the brake and cuts the
        current in place of a ramp: for a loop on an angle not confirmed yet. `watcher` names the page that must stay
        open; without one any page of the one who leads does. After `not_after`, by the drive's clock, the drive
        refuses. [s]
        """
        more = {} if not_after is None else {"not_after": not_after}
        self._led(
            "power.enable", mode=mode, guard_low=guard_low, guard_high=guard_high, guard_speed=guard_speed,
            torque=torque, brake_closed=brake_closed, cut_on_guard=cut_on_guard, watcher=watcher,
            unattended=self.unattended, **more,
        )  # fmt: skip

    def disable(self) -> None:
        """Open the power stage; the axis coasts."""
        self._led("power.disable")

    def stop(self, why: str, *, press: str = "", by: str = "") -> None:
        """Quick stop; needs no lease. A `press` is a STOP by hand: the consent to a run ends with it."""
        self._call("drive.stop", why=why, press=press, by=by)

    def reset_fault(self) -> None:
        """Leave the fault state."""
        self._led("fault.reset")

    def set_brake(self, *, closed: bool) -> None:
        """Close the brake while current flows, or let it open."""
        self._led("brake.set", closed=closed)

    def hold_brake_open(self, *, travel: float, holder: str = "") -> None:
        """Open the brake without current; renewed within 100 ms, or it closes, and beyond a travel too. [rad]"""
        self._led("brake.hold_open", travel=travel, holder=holder)

    def close_brake(self, *, holder: str = "") -> None:
        """Let a brake held open by hand close."""
        self._led("brake.close", holder=holder)

    def vector(
        self,
        *,
        angle: float,
        rate: float,
        current: float,
        rise: float,
        acceleration: float = 0.0,
        held: bool = False,
        holder: str = "",
    ) -> None:
        """Turn the vector, gently if an acceleration is given; `held`, it must be renewed within 100 ms.

        [rad], [rad/s], [A], [A/s], [rad/s²]
        """
        self._led(
            "motion.vector", angle=angle, rate=rate, current=current, rise=rise, acceleration=acceleration, held=held,
            holder=holder,
        )  # fmt: skip

    def catch(self, *, current: float, level: float) -> None:
        """Short the windings; once the rotor's motion drives `level` through them, hold it by a vector. [A], [A]"""
        self._led("motion.catch", current=current, level=level)

    def release_vector(self, *, holder: str = "") -> None:
        """Stop the vector where it is; its current goes."""
        self._led("motion.release", holder=holder)

    def adopt_angle(self, angle: float) -> None:
        """Take an electrical angle for where the rotor stands now, until the next power-up. [rad]"""
        self._led("motion.adopt_angle", angle=angle)

    def raw(self) -> dict[str, Any]:
        """Signals, words and their errors as they arrive from the device."""
        return dict(self._led("feedback.raw"))

    def jog(self, velocity: float, *, holder: str = "") -> None:
        """Jog; to be renewed within 100 ms by the same holder: the first one wins until it lets go. [rad/s]"""
        self._led("motion.jog", velocity=velocity, holder=holder)

    def run_at(self, velocity: float, *, acceleration: float = 0.0, lasts: float = 0.0) -> None:
        """Ramp to a speed and keep it, more gently than the limit if an acceleration says so. [rad/s], [rad/s²]

        After what it `lasts` the drive ramps to rest by itself; nought goes on. [s]
        """
        self._led("motion.run", velocity=velocity, acceleration=acceleration, lasts=lasts)

    def run_path(self, segments: FloatArray) -> None:
        """Run constant-jerk segments; shape (n, 6)."""
        self._led("motion.path", segments=pack(segments, kind="f64"))

    def set_position(self, value: float) -> None:
        """Declare the present position. [rad]"""
        self._led("motion.set_position", value=value)

    def excite(self, point: str, samples: FloatArray, *, divider: int, repeats: int) -> None:
        """Inject samples at a point, one every `divider` ticks."""
        self._led("excitation.start", point=point, samples=pack(samples), divider=divider, repeats=repeats)

    def arm(
        self,
        channels: Sequence[str],
        *,
        divider: int,
        samples: int,
        pre: int = 0,
        trigger: Mapping[str, Any] | None = None,
    ) -> None:
        """Arm the recorder."""
        self._led(
            "recorder.arm",
            channels=list(channels),
            divider=divider,
            samples=samples,
            pre=pre,
            trigger=dict(trigger or {}),
        )

    def recorder_state(self) -> str:
        """ "idle", "armed", "running" or "done"; renews the lease."""
        return str(self._led("recorder.state"))

    def recording(self) -> Recording:
        """The finished recording."""
        body = self._call("recorder.read")
        try:
            data = unpack(body["data"])
            channels = {str(k): data[i] for i, k in enumerate(body["channels"])}
            return Recording(float(body["period"]), channels)
        except (WireError, KeyError, TypeError, IndexError, ValueError) as cause:
            raise LinkBroken(address=self.link.address, why=f"unusable recording: {cause}") from cause

    def events(self, since: int = 0) -> list[dict[str, Any]]:
        """Events numbered above `since`."""
        return list(self._call("events.read", since=since))
