"""What every proposal of a velocity loop is searched with: the plant as it is known, and what it must bear on it."""

import math
from typing import Any

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, Winding
from cadrel.core.tuning import LEAST_DAMPING, MOST_SECTIONS, VelocityTuning, tune_velocity
from cadrel.procedures.plant.excitation import bias_speed, edge_age
from cadrel.procedures.plant.noise import most_change
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.seen import WITHIN, Seen, budget


def bearing_of(session: Session, seen: Seen) -> dict[str, Any]:
    """Return what any proposal is held against, but for the noise at rest: keyword arguments of the tuning."""
    return {
        "measured": seen.known, "working": Winding.from_drive(session.values),
        "noise_torque": WITHIN * budget(session), "moving_noise": seen.moving, "most_change": most_change(session),
        "edge_age": edge_age(session, bias_speed(session)),
    }  # fmt: skip


def proposal(
    session: Session, before: Gains, seen: Seen, asked: Robustness, *, noise: float, known: Gains | None,
    damping: float = LEAST_DAMPING, most_gain: float = math.inf, plain: bool = False,
) -> VelocityTuning:  # fmt: skip
    """Propose the stiffest loop that bears a noise at rest [rad/s], its sections' poles damped so much at the least.

    `known` is the proposal before it, `plain` asks for filters alone.

    Raises
    ------
    TuningRefused
        Nothing honours what is asked.
    """
    return tune_velocity(
        seen.fit.load, seen.fit.winding, before, asked, known=None if plain else known,
        most_sections=0 if plain else MOST_SECTIONS, most_gain=most_gain, noise=noise, least_damping=damping,
        **bearing_of(session, seen),
    )  # fmt: skip
