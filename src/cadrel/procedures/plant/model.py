"""The model of a plant that was measured in motion."""

from cadrel.core.control import Gains, Winding
from cadrel.core.identification import PlantFit, fit_two_mass
from cadrel.core.response import (
    FrequencyResponse,
)
from cadrel.procedures.plant.excitation import bias_speed, edge_age
from cadrel.procedures.session import Session

# Share within which the load run has the total inertia: more than twice what 19 in 20 are off by (docs/evidence). Lines
# of a coarse device answer by a tenth too little, all of them, and would make the axis heavier by as much.
INERTIA_KNOWN = 0.04


def fit_plant(session: Session, gains: Gains, measured: FrequencyResponse, *, near: PlantFit | None = None) -> PlantFit:
    """Return the model of a plant measured at the bias, from what the load run found on, or from one found before.

    Raises
    ------
    UnusableInput
        Too few lines can be trusted.
    """
    winding, age = Winding.from_drive(session.values), edge_age(session, bias_speed(session))
    return session.computed(
        lambda: fit_two_mass(
            measured,
            winding,
            gains,
            inertia=session.values["load.inertia"],
            viscous=session.plant.total.viscous_total if session.plant.total else 0.0,
            edge_age=age,
            near=near,
            known=_inertia_known(session),
            motor_inertia=session.axis.motor.inertia,
        )
    )


def _inertia_known(session: Session) -> float:
    """Share within which the load run has the total inertia: what is usual, or twice what it says of itself."""
    total = session.plant.total
    return INERTIA_KNOWN if total is None else max(INERTIA_KNOWN, 2 * total.inertia_std / total.inertia)
