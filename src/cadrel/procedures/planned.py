"""The planned move on gains that are not yet settled: what friction to feed forward, and whether the load rests."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Self

from cadrel.core.axis import AxisModel
from cadrel.core.control import Gains, Rates
from cadrel.core.errors import CadrelError
from cadrel.core.identification import IdentifiedPlant
from cadrel.core.motion import Profile
from cadrel.core.tuning import FRICTION_SHARE
from cadrel.core.twin import Twin
from cadrel.procedures.acceptance import moved
from cadrel.procedures.chance import or_never
from cadrel.procedures.errors import AxisStopped
from cadrel.procedures.foreseen import Foreseen, foresee, rest_of_load
from cadrel.procedures.judging import position_values
from cadrel.procedures.real_move import move_within_consent, plan_stroke
from cadrel.procedures.session import Session


def friction_share(session: Session, gains: Gains, plant: IdentifiedPlant | None = None) -> float:
    """Return how much of the sliding friction to feed forward: some, where the planned move on the twin likes it.

    A stiff loop follows closer with it. In one of low gain the integral that carries friction at the end of a move is
    what brings the last of the way; fed forward, friction is taken away with the command, and the axis sticks short.
    """
    move = _Planned.of(session, plant or session.plant)
    return 0.0 if move is None else session.computed(lambda: move.friction_share(gains))  # 0: nothing to judge by


def settling_foreseen(session: Session, plant: IdentifiedPlant) -> Callable[[Gains], float] | None:
    """Return what tells when motor and load have settled after the planned move on the twin [s], from all gains.

    It takes the load's resonance where it is and at either end of the drift asked for. Infinite where one of them does
    not settle within the dwell. None where no load was identified that a twin could have. It asks nothing of the drive.
    """
    move = _Planned.of(session, plant)
    if move is None:
        return None
    planned = move

    def settles(gains: Gains) -> float:
        share = planned.friction_share(gains)
        return max(planned.rests(gains, share), planned.settling(gains, share))

    return settles


def settling_when_moved(session: Session, gains: Gains, plant: IdentifiedPlant) -> float:
    """Run the planned move, as often as asked, with gains of all loops; return when motor and load have settled. [s]

    The worst of all moves: friction lets one of them settle at once and the next one late. The motor is seen. Of the
    load, which no device shows, the twin tells when it rests, its resonance where it is and at either end of the drift
    asked for: a notch in the command meets none of them exactly. Infinite where one of them does not settle within the
    dwell, where the move cannot be run within what was agreed to, and where no load was identified that a twin could
    have. The drive has its position loop from before again.
    """
    move = _Planned.of(session, plant)
    if move is None or move_within_consent(session) is None:
        return math.inf
    share = session.computed(lambda: move.friction_share(gains))
    rests = session.computed(lambda: move.rests(gains, share))
    if math.isinf(rests):
        return rests
    told = {**position_values(gains), "position.friction_feedforward": share}
    kept, swings = {k: session.values[k] for k in told}, session.swings
    session.write(told)
    try:
        _, moves = moved(session, move.profile, session.axis.goal.repeats)
    except AxisStopped:
        session.stand_again()
        return math.inf
    finally:
        session.write(kept)
    session.standstill()
    return math.inf if session.swings > swings else max(rests, *(or_never(m.settling_time) for m in moves))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Planned:
    """The planned move, and the axis as it is known by now."""

    profile: Profile
    plant: IdentifiedPlant
    axis: AxisModel
    values: dict[str, float]
    rates: Rates

    @classmethod
    def of(cls, session: Session, plant: IdentifiedPlant) -> Self | None:
        """Return it; None where no move can be planned, or no load was identified."""
        if plant.total is None:
            return None
        try:
            profile = plan_stroke(session)
        except CadrelError:
            return None
        return cls(profile=profile, plant=plant, axis=session.axis, values=dict(session.values), rates=session.rates)

    def friction_share(self, gains: Gains) -> float:
        """Return how much of the sliding friction to feed forward. [1]"""
        goal = self.axis.goal
        without, with_it = (foresee(self._twin(gains, s), self.profile, goal) for s in (0.0, FRICTION_SHARE))
        better = _settling(with_it) <= _settling(without) and with_it.following_error < without.following_error
        return FRICTION_SHARE if better else 0.0

    def settling(self, gains: Gains, share: float) -> float:
        """Return when the motor has settled on the twin. [s]"""
        return or_never(foresee(self._twin(gains, share), self.profile, self.axis.goal).settling)

    def rests(self, gains: Gains, share: float) -> float:
        """Return when the load rests on the twin, its resonance where it is and at both ends of its drift. [s]"""
        twin, goal, drift = self._twin(gains, share), self.axis.goal, self.axis.robustness.resonance_drift
        drifts = (0.0, -drift, drift) if twin.load.stiffness is not None else (0.0,)
        drifted = [replace(twin, load=twin.load.drifted(d)) if d else twin for d in drifts]
        return max(rest_of_load(foresee(t, self.profile, goal).record, goal.window) for t in drifted)

    def _twin(self, gains: Gains, share: float) -> Twin:
        """The axis with these gains, a share of friction fed forward. [1]"""
        values = {
            **self.values, **gains.to_drive(), "position.velocity_feedforward": 1.0,
            "position.acceleration_feedforward": 1.0, "position.friction_feedforward": share,
        }  # fmt: skip
        return Twin.of_identified(self.axis, values, self.plant, self.rates)


def _settling(move: Foreseen) -> float:
    """Of motor and load, the later one. [s]"""
    return max(or_never(move.settling), or_never(move.load_settling))
