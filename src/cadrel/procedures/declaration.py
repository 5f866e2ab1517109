"""A procedure, declared once: page, worker, command line and navigation read it from here.

A module of this package that declares one is a procedure: the package imports all its modules, so that there is no list
to add it to.
"""

import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from cadrel.core.axis import AxisModel, too_coarse, unsupported
from cadrel.procedures.errors import NotAllowed
from cadrel.procedures.outcome import Outcome, Plan
from cadrel.procedures.session import Consent, Session

Values = Mapping[str, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class Argument:
    """A number that one start of a procedure may be given; `preset` says what it is without."""

    key: str
    label: str
    unit: str
    low: float
    high: float
    preset: Callable[[AxisModel], float]
    whole: bool = False
    choices: tuple[str, ...] = ()  # what its whole numbers from 0 on are called


@dataclass(frozen=True, slots=True, kw_only=True)
class Procedure:
    """What a procedure needs, does and shows.

    Attributes
    ----------
    key : str
        Its name in jobs, addresses and results.
    step : str
        The step of the route whose page starts it.
    does : str
        What its button says.
    order : int or None
        Its place when all run one after the other; None: only when asked for.
    run : callable
        The work. Raises `ProcedureError` when it refuses.
    plan : callable
        From the axis and the drive's values, what will move, stated before anything moves.
    moves : bool
        Whether it asks for the power stage.
    fine_feedback : bool
        Whether a device that is too coarse for a velocity loop is too coarse for it.
    clears : tuple of str
        Blockers, by step or code, that it is there to clear and need not be cleared before.
    arguments : tuple of Argument
        What a start may be given.
    finds : tuple of str
        Kinds of finding that are its own, where a step has several procedures: a run replaces those. Empty: all of
        the step's.
    applies : callable
        Whether an axis has what it is about.
    back_to : mapping
        By what its verdict missed, the procedure that a whole route begins at again, `MOST_RETURNS` times at the most:
        it has learned what to bear.
    """

    key: str
    step: str
    does: str
    run: Callable[[Session], Outcome]
    plan: Callable[[AxisModel, Values], Plan]
    order: int | None = None
    moves: bool = True
    fine_feedback: bool = False
    clears: tuple[str, ...] = ()
    arguments: tuple[Argument, ...] = field(default=())
    finds: tuple[str, ...] = ()
    applies: Callable[[AxisModel], bool] = lambda axis: True
    back_to: Mapping[str, str] = field(default_factory=dict)

    def consent(self, axis: AxisModel, values: Values) -> Consent:
        """Return travel and speed that it asks consent for."""
        plan = self.plan(axis, values)
        return Consent(travel=plan.travel, speed=plan.speed)

    def not_for(self, axis: AxisModel) -> str:
        """Return why an axis cannot have it at all, in words; empty if it can."""
        return unsupported(axis) or (too_coarse(axis) if self.fine_feedback else "")

    def again(self, missed: Iterable[str]) -> str:
        """Return the procedure that a whole route begins at again, by what was missed; empty where none helps."""
        return next((self.back_to[what] for what in missed if what in self.back_to), "")

    def hinders(self, blocker: Mapping[str, Any]) -> bool:
        """Whether a blocker of the drive must be cleared before it can begin."""
        return self.moves and blocker["step"] not in self.clears and blocker["code"] not in self.clears

    def given(self, raw: Mapping[str, Any]) -> dict[str, float]:
        """Return the arguments of a start, checked; what is empty has its preset later. Raises `NotAllowed`."""
        found = {}
        for argument in self.arguments:
            text = str(raw.get(argument.key, "")).strip()
            if not text:
                continue
            try:
                value = float(text[:40].replace(",", "."))
            except ValueError:
                value = math.nan
            whole = not argument.whole or value == round(value) if math.isfinite(value) else False
            if not math.isfinite(value) or not argument.low <= value <= argument.high or not whole:
                raise NotAllowed(
                    why=f"{argument.label} is {'a whole number ' if argument.whole else ''}from {argument.low:g} to "
                    f"{argument.high:g} {argument.unit}".rstrip()
                    + ".",
                    remedy="Type it again, or leave it empty.",
                )
            found[argument.key] = value
        return found


MOST_RETURNS = 2  # of a whole route: each has learned more of what it has to bear
PROCEDURES: dict[str, Procedure] = {}  # by key, once the package is imported


def declare(procedure: Procedure) -> Procedure:
    """Make a procedure known. Raises `ValueError` if its key is taken."""
    if procedure.key in PROCEDURES:
        raise ValueError(f"there are two procedures {procedure.key}")
    PROCEDURES[procedure.key] = procedure
    return procedure


def in_order(first: str = "") -> list[Procedure]:
    """Return those that the unattended route runs, one after the other, all of them or from one on."""
    every = sorted((p for p in PROCEDURES.values() if p.order is not None), key=lambda p: p.order or 0)
    return every[[p.key for p in every].index(first) :] if first else every


def plan_within_travel(title: str, seconds: float) -> Callable[[AxisModel, Values], Plan]:
    """Return the plan of a procedure that moves within half the axis's travel, at up to the goal's speed."""

    def plan(axis: AxisModel, values: Values) -> Plan:
        per, unit = axis.mechanism.unit_per_rad, axis.mechanism.unit
        current = min(values["limit.current"], axis.motor.current_peak)
        travel, speed = axis.goal.travel / 2, axis.goal.velocity
        return Plan(
            title=title,
            travel=travel,
            speed=speed,
            current=current,
            seconds=seconds,
            text=f"It moves within {travel * per:.4g} {unit} to either side, at up to {speed * per:.4g} {unit}/s and "
            f"{current / math.sqrt(2):.3g} A rms, about {seconds:.0f} s.",
        )

    return plan
