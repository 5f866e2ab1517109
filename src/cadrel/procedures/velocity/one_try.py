"""One try of a velocity loop: gains under which the axis rests, measured around and judged."""

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from cadrel.core.axis.understanding import MOVES_ON, Robustness
from cadrel.core.control import Gains
from cadrel.core.identification import PlantFit
from cadrel.core.tuning import HIDDEN, noise_behind, spread_of
from cadrel.procedures.outcome import Outcome
from cadrel.procedures.plant.excitation import Excitation, plan_excitation
from cadrel.procedures.plant.in_motion import measure_plant
from cadrel.procedures.plant.model import fit_plant
from cadrel.procedures.plant.scatter import PRECISE, require_lines
from cadrel.procedures.play import Closed, may_be_swung, rise_of, swung_closed
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.around import positioned_around
from cadrel.procedures.velocity.looks import velocity_step
from cadrel.procedures.velocity.report import Tried, outcome_of
from cadrel.procedures.velocity.rest import proposed_to_rest
from cadrel.procedures.velocity.seen import FIRMLY, Looked, Seen, budget, resonance_seen

NO_LINE = 0.08  # of a frequency, within which no line is sure enough: it was not measured there
WORTH_SAYING = 0.01  # share by which a resonance moves


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Try:
    """Gains that were tried, what came of them, and what the next proposal may rest on."""

    gains: Gains
    outcome: Outcome
    seen: Seen
    limited_by: str
    is_held: bool = True  # some position loop around them is calm on the plant as it is seen now

    @property
    def integral(self) -> float:
        """How stiff they make the axis: the integral gain. [N·m/rad]"""
        return self.gains.velocity_gain / self.gains.velocity_reset

    @property
    def is_for_what_hid(self) -> bool:
        """Whether they were made soft for a spring that might hide, and one is seen by now."""
        return self.limited_by.startswith(HIDDEN) and self.seen.fit.load.stiffness is not None

    @property
    def is_calm(self) -> bool:
        """Whether they are proven, the axis stands still with them, and a position can be held around them."""
        assert self.outcome.verdict is not None
        return self.outcome.verdict.is_proven and self.is_held and not self.seen.hunts

    @property
    def bears_more_than_noise(self) -> bool:
        """Whether more noise is borne than there is: with more gain it has hunted, and would again."""
        return self.seen.noise > FIRMLY * self.seen.device

    @property
    def missed(self) -> str:
        """What the next proposal must do better."""
        assert self.outcome.verdict is not None
        if not self.outcome.verdict.is_proven:
            return self.outcome.verdict.reason
        return "the axis hunts at rest" if self.seen.hunts else "no position loop around it is calm over the spread"


def tuned(
    session: Session, before: Gains, seen: Seen, excitation: Excitation, old_step: dict[str, Any], asked: Robustness, *,
    known: Gains | None,
) -> Try:  # fmt: skip
    """Find gains under which the axis stands still, step, measure around them and judge."""
    looked = proposed_to_rest(session, before, seen, asked, known=known)
    gains, fit = looked.gains, seen.fit
    before_it = session.swings
    new_step = velocity_step(session, 0.55)
    # The tighter loop answers less: as strong an answer takes more torque.
    stronger = plan_excitation(session, gains, loud=excitation.every > 1, seen=fit)
    excitation = max(excitation, stronger, key=lambda e: e.rms)
    around = measure_plant(session, gains, 0.6, excitation, seen=fit, dense=True)
    again, record = around.response, around.record
    require_lines(session, again, excitation, share=PRECISE)
    # A tight loop answers little where it holds the axis: there, what was measured before says what the plant is.
    whole = again.filled_from(seen.measured, sure=PRECISE, apart=NO_LINE)
    hidden = np.setdiff1d(whole.precise(PRECISE).frequency, again.precise(PRECISE).frequency)
    if hidden.size:
        session.note(
            f"The tuned loop hardly answers on {hidden.size} lines from {hidden[0]:.3g} to {hidden[-1]:.3g} Hz: what "
            "was measured before it stands in there."
        )
    second = fit_plant(session, gains, whole, near=fit)
    highest = float(again.frequency[-1])
    closed = _closed(session, gains, seen, second)
    moved = max(seen.moved, _moved(fit, second, closed, highest=highest))
    swings = looked.swings + session.swings - before_it
    hunts = looked.hunts or swings > 0
    open_at = [f for f in (seen.open_hz, resonance_seen(second)) if f is not None]
    noise = _owed(session, looked, swung=swings > looked.swings)
    after = Seen(
        measured=whole, fit=second, closed=closed, moved=moved, noise=noise, device=seen.device,
        open_hz=max(open_at, default=None), moving=seen.moving, flicker=seen.flicker, beyond=seen.beyond,
        hunts=hunts, hunted=looked if hunts else seen.hunted,
    )  # fmt: skip
    tried = Tried(
        gains=gains, limited_by=looked.limited_by, fits=(fit, second), measured=whole, own=again, record=record,
        steps=(old_step, new_step), closed=closed, moved=moved, ripple=looked.ripple, noise=looked.noise,
        device=seen.device, moving=seen.moving, plant=replace(after.springy, noise=looked.noise), swings=swings,
        softer=after.softer, beyond=seen.beyond,
    )  # fmt: skip
    if moved > WORTH_SAYING or after.play is not None:
        session.note(_said(session, after))
    # Stable by next to nothing on one load of the spread it is proven, and leaves a position loop no gain there.
    is_held = positioned_around(session, after, gains, after.asked(session.asked_of_any)) is not None
    return Try(
        gains=gains, outcome=outcome_of(session, before, tried), seen=after, limited_by=tried.limited_by,
        is_held=is_held,
    )  # fmt: skip


def _owed(session: Session, looked: Looked, *, swung: bool) -> float:
    """Return the noise that the next proposal must bear. [rad/s] of the raw speed

    Of a loop that stood still, and swung as it was stepped or measured, half of the gain is left at the most.
    """
    noise = max(looked.noise, looked.owed) if looked.hunts or looked.loud else looked.noise
    return FIRMLY * max(noise, noise_behind(budget(session), looked.gains)) if swung else noise


def _said(session: Session, seen: Seen) -> str:
    """Over what the margins are held, and why it is more than was asked for."""
    asked = seen.asked(session.asked_of_any)
    low, high = -spread_of(asked).lowest, (1 + asked.resonance_rise) * (1 + asked.resonance_drift) - 1
    why = f"The resonance moves with amplitude by {100 * seen.moved:.1f} %"
    if seen.play is not None:
        about = f"about {math.degrees(seen.play.width.value):.2g}°"
        width = about if seen.play.is_measured else f"at most {math.degrees(seen.play.at_most):.2g}°"
        why = f"Between motor and load there is a play of {width} at the motor"
    return f"{why}: the margins are held from {100 * low:.0f} % below the resonance to {100 * high:.0f} % above."


def _closed(session: Session, gains: Gains, seen: Seen, second: PlantFit) -> Closed | None:
    """Return the resonance swung strongly: now, where it hid too far beyond the highest line until now."""
    is_new = may_be_swung(session, second) and not may_be_swung(session, seen.fit)
    return swung_closed(session, gains, second, 0.7) if seen.closed is None and is_new else seen.closed


def _moved(first: PlantFit, second: PlantFit, closed: Closed | None, *, highest: float) -> float:
    """Share by which the resonance may lie elsewhere at another amplitude: by what it moved, or how unsure it is.

    A shaft with play is softer the smaller it swings, and fits no linear model: the second shows as doubt. Where the
    play is known, what lies between the softest seen and the closed one is explained by it. Where it is not, and the
    shaft swung strongly was stiffer still, the margins reach down to the softest seen; up to the other they do anyway.
    """
    before, after = first.load.resonance_hz, second.load.resonance_hz
    if before is None or after is None or max(before, after) >= highest:
        return 0.0
    top = max((1 + rise_of(closed, first)) * before, before)
    beyond = max(after / top - 1, 0.0)
    if closed is not None and closed.play.is_seen:
        return beyond  # as softer as it is now play makes it
    beyond = max(beyond, before / after - 1)
    doubt = after if second.resonance_std is None else second.resonance_std  # not stated: anywhere
    if closed is None or top == before:
        beyond = abs(after / before - 1)
    return max(beyond, (1 - before / after) / MOVES_ON, doubt / after)
