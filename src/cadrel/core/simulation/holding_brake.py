"""The holding brake as the drive tells it: closed while current flows, open by hand, and what state it is in."""

from collections.abc import Callable

from cadrel.core.parameters import field_of
from cadrel.core.simulation import layout
from cadrel.core.simulation.device import is_open
from cadrel.core.simulation.refused import DriveRefused
from cadrel.core.simulation.running import JOG_TICKS, Running


class HoldingBrake:
    """The commands to a brake, on what runs in the drive."""

    def __init__(self, running: Running, note: Callable[..., None]) -> None:
        self._running, self._note = running, note
        self._opened_at = self._open_travel = 0.0  # [rad] where it was opened by hand, and how far the shaft may go

    def watch(self) -> None:
        """Close a brake that is held open by hand and was not renewed in time, or whose shaft has gone too far."""
        r, s = self._running, self._running.state
        if not s.brake_hand:
            return
        is_late = r.held_until and s.tick >= r.held_until
        if is_late or abs(s.position - self._opened_at) > self._open_travel:
            s.brake_hand = 0
            if not is_late:
                r.held_until = 0
            self._note("brake_closed", moved=float(s.position) - self._opened_at)

    def set(self, *, closed: bool) -> None:
        """Close the brake while current flows, or let it open. Raises `DriveRefused` without brake or current."""
        if self._running.state.mode == layout.OFF or self._running.state.stopping:
            raise DriveRefused(why="it is not enabled.", remedy="Enable it first.")
        self._require()
        self._running.state.brake_kept = int(closed)

    def hold_open(self, *, travel: float, holder: str = "") -> None:
        """Open the brake without current, as long as this is renewed within 100 ms by the same holder.

        It closes by itself once the shaft has gone farther than `travel` from where it was opened. [rad]
        """
        self._running.require_standstill("opening the brake by hand")
        self._require()
        self._running.hold.take(holder, now=int(self._running.state.tick), until=self._running.held_until)
        s = self._running.state
        if not s.brake_hand:
            self._opened_at, self._open_travel = float(s.position), abs(travel)
            self._note("brake_opened", travel=abs(travel))
        s.brake_hand, self._running.held_until = 1, s.tick + JOG_TICKS

    def close(self, *, holder: str = "") -> None:
        """Let a brake held open by hand close."""
        self._running.hold.let(holder)
        self._running.held_until, self._running.state.brake_hand = 0, 0

    def _require(self) -> None:
        if not self._running.settings.brake_operation:
            raise DriveRefused(why="no brake is set to be operated.", remedy=f"Enter {field_of('brake.fitted')}.")

    @property
    def state(self) -> str:
        """ "none", "closed", "opening", "open" or "closing": as the drive knows it, by its times."""
        s, c = self._running.state, self._running.settings
        if not c.brake_operation:
            return "none"
        if s.brake_told:
            return "open" if is_open(s, c) else "opening"
        return "closed" if s.brake_timer >= c.brake_engage else "closing"
