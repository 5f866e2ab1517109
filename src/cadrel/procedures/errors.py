"""Why a procedure ended without a result."""

from cadrel.core.errors import CadrelError
from cadrel.core.parameters import field_of


class ProcedureError(CadrelError):
    """Base: a procedure refuses to give a result."""


class Aborted(ProcedureError):
    """The engineer ended it."""

    happened = "The run was aborted during {phase}."
    means = "The axis was stopped; nothing of it counts."
    remedy = "Start it again when ready."


class StoppedByHand(ProcedureError):
    """Somebody pressed STOP."""

    happened = "{by} pressed STOP during {phase}."
    means = "The axis was stopped and the consent to this run ended; nothing of it counts."
    remedy = "Find out why it was pressed; then look at the axis, consent and start again."


TOO_FAST = "it ran at"  # how a stop by the guard's speed begins its reason


class AxisStopped(ProcedureError):
    """The drive stopped by itself."""

    happened = "The drive stopped the axis during {phase}: {reason}."
    means = "The run is not complete, so nothing was proven."
    remedy = "{hint}"

    @property
    def ran_too_fast(self) -> bool:
        """Whether it was the guard's speed, so that the same more slowly may do."""
        return str(self.facts["reason"]).startswith(TOO_FAST)

    @property
    def ran_away(self) -> bool:
        """Whether a loop that does not hold is what the drive stopped: calmer gains may."""
        return self.ran_too_fast or self.facts["reason"] in ("oscillation", "overspeed", "following error")


class ProposalsRanAway(ProcedureError):
    """No velocity loop that was proposed held the axis."""

    happened = "None of {tries} proposals held the axis; the last one ended by: {reason}."
    means = "It does not answer as it did while it was measured. The gains from before are in the drive."
    remedy = (
        f"Raise {field_of('procedure.travel')} and {field_of('procedure.velocity')}, so that it passes faster "
        "while it is measured; free what rubs; or take out play between motor and load."
    )


class AnswerInNoise(ProcedureError):
    """The device's noise covers what the speed answers to the excitation."""

    happened = (
        "Only {few} of {lines} lines of the frequency response are known well: beside the device's noise the median "
        "line is known to {noise:.0f} % only."
    )
    means = "No model and no proposal was computed from it; the gains are unchanged."
    remedy = "{remedy}"


class NotConfirmed(ProcedureError):
    """Torque per amp does not confirm the offset."""

    happened = "{what}"
    means = "The offset found is not trusted; it was not marked as valid."
    remedy = f"Raise {field_of('phasing.current')} and run it again, unloaded if possible."


class HallEdgesMoved(ProcedureError):
    """Two turns with different current put the Hall edges elsewhere: load and friction hold the shaft back."""

    happened = "Two turns, with {first:.2g} A and {other:.2g} A, put the Hall edges {apart:.0f}° apart."
    means = "Load and friction hold the shaft behind the vector. The offset found was not marked as valid."
    remedy = f"Run it again unloaded, or raise {field_of('limit.current')}, if motor and drive bear more."


class NotReproducible(ProcedureError):
    """Consecutive results differ."""

    happened = "Runs gave an inertia of {first:.3g} kg·cm² together, and {second:.3g} by one of them."
    means = "No value was taken."
    remedy = (
        "Look for a loose coupling or changing friction. Of an inertia that takes little torque beside that, runs tell "
        f"more the faster they are: raise {field_of('procedure.velocity')} and {field_of('procedure.travel')}."
    )


class TooFewSpeeds(ProcedureError):
    """The axis turned evenly at too few speeds for a curve of friction."""

    happened = "The axis turned evenly at {seen} of {tried} speeds; at the others it ran unevenly, or stuck."
    means = "No curve of friction was taken from that."
    remedy = (
        "Tune the velocity loop first and run this again: a tighter loop carries it over; or raise "
        f"{field_of('procedure.velocity')}."
    )


class RotorSwings(ProcedureError):
    """A current that should only magnetise made the rotor swing."""

    happened = "A sine of {size:.3g} A and {hertz:.0f} Hz made the rotor swing faster than was agreed to."
    means = "No inductance over current was taken; those found by the current step stand."
    remedy = f"Hold the rotor, as a closed brake does, or raise {field_of('procedure.velocity')}."


class RotorTurned(ProcedureError):
    """The torque of a sine across the vector was more than what holds the rotor."""

    happened = "A sine of {size:.3g} A turned the rotor by {turned:.0f}° (electrical): what holds it slipped."
    means = "No inductance over current was taken; those found by the current step stand."
    remedy = (
        f"Lower {field_of('limit.current')} while this is measured, so that brake and friction hold against the sine."
    )


class StuckInPass(ProcedureError):
    """An axis that was to run while its response was measured stood in its friction."""

    happened = (
        "While its response was measured the axis ran at {made:.0f} % of the speed told: it stood in its friction."
    )
    means = "What it answered is the give of that friction; nothing was computed from it."
    remedy = (
        f"Raise {field_of('procedure.travel')} or {field_of('procedure.velocity')}, so that it passes faster; or free "
        "what rubs."
    )


class SticksAndSlips(ProcedureError):
    """An axis that was to turn evenly did not."""

    happened = "Told to turn evenly at {speed:.3g} {unit}/s, the axis stood or crept for {share:.0f} % of the time."
    means = "It sticks and slips: what repeats with the turn could not be told from that, and nothing was taken."
    remedy = "Tune the velocity loop first and run this again: a tighter loop carries it over; or free what rubs."


class NotAllowed(ProcedureError):
    """The preconditions are not met."""

    happened = "It cannot start: {why}"
    means = "Nothing moved."
    remedy = "{remedy}"


class WindingUnsteady(ProcedureError):
    """The current levels do not lie on a line."""

    happened = "The current levels gave a resistance of {value:.3g} ± {std:.2g} ohm."
    means = "The shaft moved while it was measured, or a connection is loose; no value was taken."
    remedy = "Let the axis rest and start again; check the motor's terminals if it comes back."
