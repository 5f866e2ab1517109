"""What runs in a drive between two power-ups, and what its commands may do to it."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from cadrel.core.simulation import layout
from cadrel.core.simulation.hold import Hold
from cadrel.core.simulation.kernel import run_ticks
from cadrel.core.simulation.layout import SIGNALS, Plant, Settings
from cadrel.core.simulation.recorder import Recorder
from cadrel.core.simulation.refused import DriveRefused

FloatArray = NDArray[np.float64]
MODES = {"vector": layout.VECTOR, "current": layout.CURRENT, "velocity": layout.VELOCITY, "position": layout.POSITION}
JOG_TICKS = 1600  # [ticks] 100 ms: what moves while a button is held ends when it was not renewed for so long


@dataclass(slots=True, kw_only=True)
class Running:
    """The kernel's state and all that it works on; lost at power-off, except for what the machine itself is in."""

    plant: Plant
    state: Any  # record of `layout.STATE`
    settings: Settings
    path: FloatArray = field(default_factory=lambda: np.zeros((1, 6)))
    excitation: FloatArray = field(default_factory=lambda: np.zeros(1))
    signals: FloatArray = field(default_factory=lambda: np.zeros(len(SIGNALS)))
    recorder: Recorder = field(default_factory=Recorder)
    hold: Hold = field(default_factory=Hold)
    held_until: int = 0  # [ticks] until which a vector, or a brake opened by hand, is held without being renewed
    jog_until: int = 0  # [ticks] the same of a jog; 0: none, or one that lasts by itself
    run_until: int = 0  # [ticks] when a run that was told how long it lasts ends by itself; 0: one that goes on
    jog_heard: int = 0  # [ticks] when a jog was last asked for; 0: it has ended

    def advance(self, ticks: int) -> None:
        """Let plant and drive run."""
        tape = self.recorder
        run_ticks(
            ticks, self.state, self.plant, self.settings, self.path, self.excitation, self.signals, tape.channels,
            tape.tape,
        )  # fmt: skip

    def require_standstill(self, what: str) -> None:
        """Raise `DriveRefused` while the power stage is on."""
        if self.state.mode != layout.OFF:
            raise DriveRefused(why=f"{what} needs the power stage off.", remedy="Disable the axis first.")

    def require_mode(self, *modes: str) -> None:
        """Raise `DriveRefused` unless the axis is enabled in one of these modes, and is not being stopped."""
        if self.state.stopping or self.state.mode not in [MODES[m] for m in modes]:
            raise DriveRefused(why=f"it is not enabled in {' or '.join(modes)} mode.", remedy="Enable it first.")
