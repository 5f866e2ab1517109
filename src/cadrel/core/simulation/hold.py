"""Whose hand is on a button that moves the axis only while it is held: one at a time, and none that was let go."""

from dataclasses import dataclass, field

from cadrel.core.simulation.refused import DriveRefused

KEPT = 16  # presses that have ended, remembered
RESERVED_TICKS = 16_000  # 1 s: a hold that was not renewed, but not let go either, is nobody else's so long


@dataclass(slots=True)
class Hold:
    """The press in hand, when it was last heard of, and the presses that have ended."""

    holder: str = ""
    heard: int = 0  # [ticks]
    ended: list[str] = field(default_factory=list)

    def take(self, holder: str, *, now: int, until: int) -> None:
        """Take or renew the hold, which lasts until a tick. Raises `DriveRefused` while another button is held."""
        # A beat that a busy machine delays must not give the axis to the hand on another button.
        is_held = until > now or now < self.heard + RESERVED_TICKS
        if is_held and self.holder and holder != self.holder:
            raise DriveRefused(why="another button is being held.", remedy="Let go of the other one first.")
        if holder in self.ended:  # a beat that was overtaken by the end of its own press
            raise DriveRefused(why="this button was let go.", remedy="Press it again.")
        self.holder, self.heard = holder, now

    def let(self, holder: str) -> None:
        """Note that a press has ended: what still arrives of it is not obeyed."""
        self.holder = ""
        if holder:
            self.ended = [*self.ended[1 - KEPT :], holder]
