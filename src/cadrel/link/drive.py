"""What a drive is to everybody who works with it, whatever field bus or file it is reached by."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from cadrel.core.control.sampling import Rates

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True, eq=False)
class Recording:
    """A finished recording."""

    period: float  # [s] between samples
    channels: dict[str, FloatArray]

    @property
    def time(self) -> FloatArray:
        """From the first sample. [s]"""
        return self.period * np.arange(len(next(iter(self.channels.values()))), dtype=np.float64)

    def __getitem__(self, key: str) -> FloatArray:
        return self.channels[key]


@dataclass(frozen=True, slots=True, kw_only=True)
class Capabilities:
    """What a drive can do, as it tells itself."""

    rates: Rates
    signals: tuple[str, ...]  # that its recorder knows
    injection: tuple[str, ...]  # points at which it adds an excitation
    memories: tuple[str, ...]  # "working", "permanent"
    homing: tuple[int, ...]  # methods of CiA 402 (IEC 61800-7-201)
    inputs: tuple[str, ...]  # digital inputs by function

    @classmethod
    def from_identity(cls, identity: Mapping[str, Any]) -> "Capabilities":
        """Return what an identity says.

        Raises
        ------
        KeyError, ValueError
            It does not say it, or its rates do not fit each other.
        """
        return cls(
            rates=Rates.from_identity(identity),
            signals=tuple(str(signal["key"]) for signal in identity["signals"]),
            injection=tuple(str(point) for point in identity["injection"]),
            memories=tuple(str(memory) for memory in identity["memories"]),
            homing=tuple(int(method) for method in identity["homing"]),
            inputs=tuple(str(name) for name in identity["inputs"]),
        )


class Drive(Protocol):
    """One axis of a drive. Every method is one exchange; all raise `LinkDown`, `LinkBroken`, `RefusedByDrive`."""

    axis: str
    lease: str
    consent: str  # token of a run's consent; every call that carries it keeps the consent alive
    unattended: bool  # whether it was agreed to that nobody watches

    def wait(self, seconds: float) -> None:
        """Let drive time pass."""

    def capabilities(self) -> Capabilities:
        """What this drive can do; asked of it once."""

    def identity(self) -> dict[str, Any]:
        """Name, versions, ratings, signals."""

    def status(self) -> dict[str, Any]:
        """Power state, live values, blockers, control, unstored keys. Renews the lease if one is held."""

    def read(self, memory: str = "working") -> dict[str, float]:
        """Parameters of "working" or "permanent" memory, SI."""

    def write(self, values: Mapping[str, float]) -> list[str]:
        """Write working memory; returns the keys that changed."""

    def store(self) -> None:
        """Working to permanent memory."""

    def restart(self) -> None:
        """Restart the firmware; the lease is gone with it."""

    def take_control(self, owner: str, *, force: bool = False) -> str:
        """Take the lease; returns its token."""

    def give_control(self) -> None:
        """Give the lease back."""

    def beat(self) -> None:
        """Renew the lease."""

    def give_consent(self, label: str, *, until: float, unattended: bool = False) -> str:
        """Tell the drive what was consented to, and until when by its own clock [s]; returns the consent's token."""

    def revoke_consent(self, label: str, why: str) -> None:
        """Take a consent back: what was started on it cannot enable any more."""

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

    def disable(self) -> None:
        """Open the power stage; the axis coasts."""

    def stop(self, why: str, *, press: str = "", by: str = "") -> None:
        """Quick stop; needs no lease. A `press` is a STOP by hand: the consent to a run ends with it."""

    def reset_fault(self) -> None:
        """Leave the fault state."""

    def set_brake(self, *, closed: bool) -> None:
        """Close the brake while current flows, or let it open."""

    def hold_brake_open(self, *, travel: float, holder: str = "") -> None:
        """Open the brake without current; renewed within 100 ms, or it closes, and beyond a travel too. [rad]"""

    def close_brake(self, *, holder: str = "") -> None:
        """Let a brake held open by hand close."""

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

    def catch(self, *, current: float, level: float) -> None:
        """Short the windings; once the rotor's motion drives `level` through them, hold it by a vector. [A], [A]

        The status tells by `catching` whether it still waits for that.
        """

    def release_vector(self, *, holder: str = "") -> None:
        """Stop the vector where it is; its current goes."""

    def adopt_angle(self, angle: float) -> None:
        """Take an electrical angle for where the rotor stands now, until the next power-up. [rad]"""

    def raw(self) -> dict[str, Any]:
        """Signals, words and their errors as they arrive from the device."""

    def jog(self, velocity: float, *, holder: str = "") -> None:
        """Jog; to be renewed within 100 ms by the same holder: the first one wins until it lets go. [rad/s]"""

    def run_at(self, velocity: float, *, acceleration: float = 0.0, lasts: float = 0.0) -> None:
        """Ramp to a speed and keep it, more gently than the limit if an acceleration says so. [rad/s], [rad/s²]

        After what it `lasts` the drive ramps to rest by itself; nought goes on. [s]
        """

    def run_path(self, segments: FloatArray) -> None:
        """Run constant-jerk segments; shape (n, 6)."""

    def set_position(self, value: float) -> None:
        """Declare the present position. [rad]"""

    def excite(self, point: str, samples: FloatArray, *, divider: int, repeats: int) -> None:
        """Inject samples at a point, one every `divider` ticks."""

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

    def recorder_state(self) -> str:
        """ "idle", "armed", "running" or "done"; renews the lease."""

    def recording(self) -> Recording:
        """The finished recording."""

    def events(self, since: int = 0) -> list[dict[str, Any]]:
        """Events numbered above `since`."""
