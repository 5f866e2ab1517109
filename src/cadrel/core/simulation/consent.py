"""The consent that the drive keeps: to one run, until an end, alive as long as its holder is heard."""

import secrets
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from cadrel.core.simulation.layout import TICK
from cadrel.core.simulation.refused import DriveRefused

CONSENT_TICKS = 320000  # [ticks] 20 s: a consent that is not used or kept alive for so long is none any more


@dataclass(slots=True)
class RunConsent:
    """What was consented to: whose run, until when, and when its holder was last heard. Times in ticks."""

    token: str
    label: str
    until: int
    heard: int
    unattended: bool
    given: int

    def hear(self, now: int) -> None:
        """Its holder spoke: it lives on."""
        self.heard = now
        self.until = max(self.until, now + CONSENT_TICKS)


class Consents:
    """The one consent in force, if there is one. `note` is told when one begins and ends; times are ticks."""

    def __init__(self, note: Callable[..., None]) -> None:
        self._note = note
        self._given: RunConsent | None = None
        self._gone = "none was given"

    def give(self, label: str, *, now: int, until: float, unattended: bool) -> str:
        """Keep a consent until a drive time [s]; returns its token.

        Raises
        ------
        DriveRefused
            It has expired before it came.
        """
        end = min(round(until / TICK), now + CONSENT_TICKS)
        if end <= now:
            raise DriveRefused(
                why=f"the consent is {(now + CONSENT_TICKS) * TICK - until:.0f} s old.",
                remedy="Look at the axis again, tick the consent, and start at once.",
            )
        self._given = RunConsent(secrets.token_hex(16), label, end, now, unattended, now)
        self._note("consent", label=label, unattended=unattended)
        return self._given.token

    def revoke(self, label: str, why: str) -> None:
        """Take it back, if it is the one of that label."""
        if self._given is not None and self._given.label == label:
            self.drop(why or "it was taken back")

    def drop(self, why: str) -> None:
        """End it, whoever holds it."""
        if self._given is not None:
            self._note("consent_ended", label=self._given.label, why=why)
            self._given, self._gone = None, why

    def in_force(self, now: int) -> RunConsent | None:
        """Return it; it ends here where nothing was heard of its run for too long."""
        given = self._given
        if given is not None and now >= given.until:
            self.drop(f"nothing was heard of the run for {(now - given.heard) * TICK:.0f} s")
        return self._given

    def of_token(self, token: str, now: int) -> RunConsent | None:
        """Return the consent a token stands for; none for a direct command. Raises `DriveRefused` if it has ended."""
        if not token:
            return None
        given = self.in_force(now)
        if given is None or given.token != token:
            raise DriveRefused(
                why=f"the consent to this run is no longer in force: {self._gone}.",
                remedy="Look at the axis, consent again, and start the run anew.",
            )
        return given

    def shown(self, now: int) -> dict[str, Any] | None:
        """Whose run the drive is on, and how long its holder has not been heard; never the token. [s]"""
        given = self.in_force(now)
        if given is None:
            return None
        return {"label": given.label, "silent": (now - given.heard) * TICK, "unattended": given.unattended}
