"""What a procedure returns."""

from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from cadrel.core.identification import PlantPart
from cadrel.core.verdict import Verdict

State = Literal["estimated", "measured"]  # "proven" is a verdict's word, and is said nowhere else


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """A claim: value, unit, uncertainty, and the run that shows it. `kind` is what a verdict is about."""

    kind: str
    label: str
    value: float
    unit: str
    std: float | None = None
    state: State = "measured"
    run: int  # index into Outcome.runs

    def as_dict(self) -> dict[str, Any]:
        """Return plain values."""
        return {k: getattr(self, k) for k in ("kind", "label", "value", "unit", "std", "state")}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RunRecord:
    """A recording with what was excited and what was read from it."""

    kind: str
    title: str
    period: float  # [s]
    channels: dict[str, NDArray[np.float64]]
    excitation: dict[str, Any]
    metrics: dict[str, Any] = field(default_factory=dict)
    curves: dict[str, Any] = field(default_factory=dict)  # frequency responses and predictions, plain lists
    in_force: dict[str, float] = field(default_factory=dict)  # drive values then, where they are others at the end


@dataclass(slots=True, kw_only=True)
class Outcome:
    """Findings, proposed changes (drive keys, SI), runs; `accepted` where a goal was judged."""

    findings: list[Finding] = field(default_factory=list)
    changes: dict[str, float] = field(default_factory=dict)
    runs: list[RunRecord] = field(default_factory=list)
    margins: dict[str, Any] = field(default_factory=dict)
    summary: str = ""
    accepted: bool | None = None
    acceptance: dict[str, Any] = field(default_factory=dict)
    plant: PlantPart | None = None  # what was found of the load, for predictions and for the procedures that follow
    plant_run: int = 0  # index into `runs`: what shows it
    verdict: Verdict | None = None  # asked against measured, of the step as a whole
    withheld: dict[str, float] = field(default_factory=dict)  # drive values that missed what was asked, and went back
    remarks: list[str] = field(default_factory=list)  # codes of what was noticed and does no harm


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """What will move, stated before anything moves. At the motor shaft, SI."""

    title: str
    travel: float  # [rad] to each side of the start
    speed: float  # [rad/s]
    current: float  # [A peak]
    seconds: float  # [s] of drive time
    text: str = ""

    def slower_than(self, speed: float) -> "Plan":
        """The same within a limit of speed. [rad/s]"""
        return replace(self, speed=min(self.speed, speed))
