"""Why a procedure ended without a result."""

from cadrel.core.errors import CadrelError


class ProcedureError(CadrelError):
    """Base: a procedure refuses to give a result."""


class Aborted(ProcedureError):
    """The engineer ended it."""

    happened = "The run was aborted during {phase}."
    means = "The axis was stopped; nothing of it counts."
    remedy = "Start it again when ready."


class AxisStopped(ProcedureError):
    """The drive stopped by itself."""

    happened = "The drive stopped the axis during {phase}: {reason}."
    means = "The run is not complete, so nothing was proven."
    remedy = "{hint}"


class ShaftDidNotFollow(ProcedureError):
    """The vector turned, the shaft did not."""

    happened = "The vector turned {commanded_deg:.0f}°, the shaft {seen_deg:.1f}° (electrical)."
    means = "An offset from this run would be wrong, so none was recorded."
    remedy = "It was tried with up to {current_rms:.2f} A rms. Free the load and the brake, or allow more current."


class WrongDirection(ProcedureError):
    """Counts fall while the vector turns forward."""

    happened = "The vector turned forward and the counts fell."
    means = "Closed on this, the motor would run away. Feedback and motor phases count in opposite directions."
    remedy = "Invert the counting direction (feedback step), or swap two motor phases; then run this again."


class WrongPolePairs(ProcedureError):
    """The shaft turned by another ratio than the pole pairs say."""

    happened = "One shaft turn took {seen:.2f} electrical turns; {expected} pole pairs were entered."
    means = "Pole pairs or encoder lines are wrong: torque would fade and reverse as the shaft turns."
    remedy = "{hint}"


class HallFault(ProcedureError):
    """The Hall signals do not make sense."""

    happened = "{fault}"
    means = "Without them the angle at power-up is not known; no offset was recorded."
    remedy = "Check the Hall wires, their supply and their order, then run this again."


class NoIndex(ProcedureError):
    """The index never came."""

    happened = "The shaft made {turns:.1f} turns and no index pulse came."
    means = "The offset cannot be tied to the index."
    remedy = "Check the index wires, or set the index to none in the feedback step."


class NotConfirmed(ProcedureError):
    """Torque per amp does not confirm the offset."""

    happened = "{what}"
    means = "The offset found is not trusted; it was not marked as valid."
    remedy = "Run it again with more current, unloaded if possible."


class NotReproducible(ProcedureError):
    """Consecutive results differ."""

    happened = "Consecutive runs gave an inertia of {first:.3g} and {second:.3g} kg·cm²."
    means = "No value was taken."
    remedy = "Look for a loose coupling or changing friction; allow more travel."


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
