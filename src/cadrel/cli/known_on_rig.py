"""What one who knows the plant reaches on the rig itself: a loop that rests, and with which the move is done as asked.

What noise and steps of the device, friction and play make of a loop at rest is in no linear plant, nor how soon a load
behind its shaft settles. The reference has to do what the tuner has to: it is calmed until it does.
"""

from dataclasses import dataclass

import numpy as np

from cadrel.cli.at_the_load import Moved, moved_at_the_load, with_gains
from cadrel.cli.known_plant import SLACK, Known, best_known, rigs_of_spread
from cadrel.cli.true_plant import resonances, true_loops
from cadrel.core.axis import AxisModel
from cadrel.core.control import Gains
from cadrel.core.identification import SpringyLoad
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.core.tuning import FRICTION_SHARE, noise_behind
from cadrel.procedures.route import RouteResult

MORE_NOISE = 3.0  # the reference is searched once more to bear so much more, where its stiffest does not do as asked
SOFTER = tuple(float(share) for share in 0.75 ** np.arange(8))  # of a loop's gain, its integral gain with the square
MOST_MOVED = 3  # loops of one shape with which the axis rests, that are moved with one position loop after the other
POSITION_GAINS, GAINS_TRIED = (400.0, 1.0), 25  # [1/s] of one who knows the plant, the quickest first
SLOWER = (1.0, 0.6, 0.36, 0.2)  # of the quickest that keeps what is asked
SPEED_OF_RUN = 0.4  # of the goal's, at which the plant is looked at


@dataclass(frozen=True, slots=True, kw_only=True)
class References:
    """The stiffest loops of one who knows the plant."""

    known: Known | None  # with which the axis rests, and its move is done as asked
    resting: Known | None  # with which its current rests, whatever its motor and the move do then
    calmed: bool  # the stiffest of all does not rest


def budget_of(truth: RigTruth, result: RouteResult, axis: AxisModel) -> float:
    """Return the ripple of current at rest that was asked for. [A] rms"""
    continuous = min(axis.motor.current_continuous, truth.drive_current_continuous, result.parameters["limit.current"])
    return axis.robustness.ripple * continuous


def references(
    truth: RigTruth, result: RouteResult, axis: AxisModel, drive: SimulatedDrive | None, *, with_sections: bool
) -> References:
    """Return the loops of one who knows the plant, or of one who has PI and filters alone.

    The axis is moved with them where there is a `drive` that can be; the device's own noise is the true one, not what
    the tuner came to ask of itself.
    """
    v, told = result.parameters, result.outcomes["velocity"].margins["velocity"]
    noise = told["device_noise"]
    torque = axis.motor.torque_constant * budget_of(truth, result, axis)
    asked = axis.robustness.where_friction_is(truth.coulomb_motor + truth.coulomb_load)
    rig = None if drive is None else _OnRig(truth, result, axis, drive)

    def searched(borne: float) -> Known | None:
        return best_known(
            truth, v, asked, noises=np.array([[borne, torque], [told["moving_noise"], told["most_change"]]]),
            inertia=truth.inertia_motor + truth.inertia_load + truth.inertia_third,
            speed_of_run=SPEED_OF_RUN * axis.goal.velocity, tuned=Gains.from_drive(v), with_sections=with_sections,
            softest=_softest(truth, result),
        )  # fmt: skip

    stiffest = searched(noise)
    if stiffest is None or rig is None:
        return References(known=stiffest, resting=stiffest, calmed=False)
    resting, known = rig.softened(stiffest)
    calmed = resting is not stiffest
    if known is not stiffest:
        bears = noise_behind(torque, Gains.from_drive({**v, **stiffest.to_drive()}))
        other = searched(MORE_NOISE * max(noise, bears))
        if other is not None:
            resting, known = (stiffer_of(*two) for two in zip((resting, known), rig.softened(other), strict=True))
    return References(known=known, resting=resting, calmed=calmed)


def stiffer_of(one: Known | None, other: Known | None) -> Known | None:
    """Return the stiffer of two loops, either of which may be missing."""
    return max((k for k in (one, other) if k is not None), key=lambda k: k.integral, default=None)


@dataclass(frozen=True, slots=True)
class _OnRig:
    """A rig that can be moved with other gains than its own, which it has again afterwards."""

    truth: RigTruth
    result: RouteResult
    axis: AxisModel
    drive: SimulatedDrive

    def softened(self, stiffest: Known) -> tuple[Known | None, Known | None]:
        """Return of one shape the stiffest loop that rests, and the stiffest that does as asked; None where none does.

        Each keeps the margins asked for.
        """
        resting, moved = None, 0
        for share in SOFTER:
            k = stiffest if share == 1.0 else Known(
                share * stiffest.gain, share**2 * stiffest.integral, (stiffest.shape[0] / share, *stiffest.shape[1:])
            )  # fmt: skip
            if share < 1.0 and not self._keeps("velocity", {**self.result.parameters, **k.to_drive()}):
                continue
            own = self._moved(k.to_drive())
            if own is None or not self._is_calm(own):
                continue
            resting = resting or k
            if self._does_as_asked(k, own):
                return resting, k
            moved += 1
            if moved == MOST_MOVED:
                break
        return resting, None

    def _does_as_asked(self, known: Known, own: Moved) -> bool:
        """Whether the axis rests, and its move settles and follows as its goal asks, with one position loop or another.

        That of the axis itself, whose move is `own`; else the quickest one that keeps what is asked, and slower ones,
        friction fed forward or not, without a command notch.
        """
        if own.meets(self.axis) and self._keeps("position", {**self.result.parameters, **known.to_drive()}):
            return True
        told = {**known.to_drive(), "position.shaping_frequency": 0.0}

        def keeps(gain: float) -> bool:
            return self._keeps("position", {**self.result.parameters, **told, "position.gain": gain})

        gains = (float(gain) for gain in np.geomspace(*POSITION_GAINS, GAINS_TRIED))
        quickest = next((gain for gain in gains if keeps(gain)), None)
        if quickest is None:
            return False
        for share in SLOWER:
            for friction in (0.0, FRICTION_SHARE):
                tried = {"position.gain": share * quickest, "position.friction_feedforward": friction}
                moved = self._moved(told | tried)
                if moved is not None and self._is_calm(moved) and moved.meets(self.axis):
                    return True
        return False

    def _is_calm(self, moved: Moved) -> bool:
        return not moved.swings and moved.ripple <= budget_of(self.truth, self.result, self.axis)

    def _keeps(self, loop: str, values: dict[str, float]) -> bool:
        """Whether a loop is stable on the true rig and keeps the margins asked for over its drift.

        A velocity loop to the little that its search may miss them by.
        """
        asked, (drifts, _) = self.axis.robustness, rigs_of_spread(self.truth, self.axis.robustness)
        slack = SLACK if loop == "velocity" else 0.0
        loops = [true_loops(rig, values, names=(loop,))[loop] for rig in drifts]
        return all(
            one.is_stable and one.margins.sensitivity_peak <= (1 + slack) * asked.sensitivity_peak
            and (one.margins.phase_margin is None or one.margins.phase_margin >= (1 - slack) * asked.phase_margin)
            and (one.margins.gain_margin_db is None or one.margins.gain_margin_db >= (1 - slack) * asked.gain_margin_db)
            for one in loops
        )  # fmt: skip

    def _moved(self, values: dict[str, float]) -> Moved | None:
        own = {k: x for k, x in self.result.parameters.items() if k.startswith(("velocity.", "position."))}
        try:
            with_gains(self.drive, {**own, **values})
            return moved_at_the_load(self.drive, self.axis)
        finally:
            with_gains(self.drive, own)


def _softest(truth: RigTruth, result: RouteResult) -> float:
    """The stiffness that a shaft with play was seen with, over the one it has closed; 1 without play."""
    plant = result.outcomes["velocity"].plant
    if truth.backlash_deg == 0.0 or not isinstance(plant, SpringyLoad) or plant.load.resonance_hz is None:
        return 1.0
    return min((plant.load.resonance_hz / resonances(truth)[0]) ** 2, 1.0)
