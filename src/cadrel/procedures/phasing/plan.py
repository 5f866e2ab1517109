"""What commutation will do to the axis, said before it does it."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

from cadrel.core.axis import AxisModel
from cadrel.procedures.outcome import Plan

SLOW_TURN = 2.5  # [1/s] electrical turns, of the vector while directions are judged
FAST_TURN = 8.0  # [1/s] at most, once they are known
HALL_TURN = 7.0  # [1/s] electrical turns, where Halls are all there is
HALL_TURNS = 8.0
LONG_TURN = 1.9  # [s] that the long way may take
JUDGED_TURNS = 1.5  # electrical, before anything else is believed
SHORT_TIME = 1.5  # of continuous current, for two seconds, where play must be told from friction
HELD_ANGLES = 3  # per electrical turn, from each direction: what the back-EMF refines, or a bound covers
HOLD = 0.14  # [s] at each held angle
NUDGES = 16  # of the search, all round
SLIPS = 4  # times a vector is turned away to each side
SLIPS_MOST = 9  # where they contradict each other
POWER_UP_TURNS = 2.0  # electrical, that the vector turns to find the angle after a power-up
SEARCH_TRAVEL = math.radians(20)  # [rad] electrical, that the search may use to each side


@dataclass(frozen=True, slots=True)
class TurningPlan:
    """How far and how fast the vector turns."""

    turns: float  # electrical
    rate: float  # [rad/s] electrical, of the long way


def turning_plan(axis: AxisModel) -> TurningPlan:
    """Return how far the vector turns: every Hall edge, the index if there is one, a whole turn of a resolver."""
    pairs = axis.motor.pole_pairs
    whole = axis.has_index or axis.feedback.kind.repeats_in_turn
    turns = float(math.ceil(1.1 * pairs)) if whole else 2.0
    if axis.feedback.kind.tells_sectors_only:
        # Faster than a shaft sticks and slips: its swing would be taken for the edges' place.
        return TurningPlan(HALL_TURNS, 2 * math.pi * HALL_TURN)
    turns = max(turns, 2.5)
    rate = min(max(turns / LONG_TURN, SLOW_TURN), FAST_TURN)
    return TurningPlan(turns, 2 * math.pi * rate)


def plan_commutation(axis: AxisModel) -> Plan:
    """Return travel, speed, current and time of the automatic commutation."""
    turning = turning_plan(axis)
    travel = max((turning.turns + 2.0) * 2 * math.pi / axis.motor.pole_pairs, axis.goal.travel / 2)
    seconds = JUDGED_TURNS / SLOW_TURN + 2 * turning.turns * 2 * math.pi / turning.rate + 9
    seconds += 3 if axis.feedback.kind.tells_sectors_only else 2 * HELD_ANGLES * (HOLD + 0.1)
    current = axis.phasing_share * axis.motor.current_continuous
    most = min(SHORT_TIME * axis.motor.current_continuous, axis.motor.current_peak) / math.sqrt(2)
    return Plan(
        title="Commutation",
        travel=travel,
        speed=axis.goal.velocity,
        current=current,
        seconds=seconds,
        text=f"The motor turns slowly forward and back with {current / math.sqrt(2):.2f} A rms, up to {most:.2f} A rms "
        f"if it does not follow, then is pushed and spun both ways: {_within(axis, travel)}, about {seconds:.0f} s.",
    )


# To find the angle after a power-up: far enough to see what a load does; no index, no Halls are looked for.
POWER_UP_TURNING = TurningPlan(POWER_UP_TURNS, 2 * math.pi * SLOW_TURN)


def plan_power_up(axis: AxisModel, values: Mapping[str, float]) -> Plan:
    """Return what finding the angle after a power-up will do."""
    pairs = axis.motor.pole_pairs
    current = axis.motor.current_continuous
    if axis.power_up == "search" and not axis.has_brake:
        travel, seconds = SEARCH_TRAVEL / pairs, 0.4 * NUDGES + 2.3 * SLIPS
        how = f"The motor is nudged with up to {current / math.sqrt(2):.2f} A rms and let go as soon as it stirs"
    else:
        travel, seconds = (POWER_UP_TURNS + 1.5) * 2 * math.pi / pairs, 12.0
        most = min(SHORT_TIME * current, axis.motor.current_peak, values["limit.current"])
        current = most if axis.has_brake else current
        how = f"The motor turns slowly forward and back with up to {current / math.sqrt(2):.2f} A rms"
        how = "The brake opens on a vector. " + how if axis.has_brake else how
    return Plan(
        title="Angle at power-up",
        travel=travel,
        speed=axis.goal.velocity,
        current=current,
        seconds=seconds,
        text=f"{how}: {_within(axis, travel)}, about {seconds:.0f} s.",
    )


def _within(axis: AxisModel, travel: float) -> str:
    return f"within {travel * axis.mechanism.unit_per_rad:.3g} {axis.mechanism.unit} to either side"
