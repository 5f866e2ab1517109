"""The drive's recorder: what it was armed with, and the tape that the kernel writes."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from cadrel.core.simulation import layout
from cadrel.core.simulation.layout import SIGNAL_INDEX, SIGNALS, TICK
from cadrel.core.simulation.refused import DriveRefused

MOST_SAMPLES = 400_000  # [samples] of one channel
STATES = ("idle", "armed", "running", "done")


class Recorder:
    """Channels and tape; where the tape stands is in the kernel's state, which writes it."""

    def __init__(self) -> None:
        self.channels = np.zeros(0, dtype=np.int64)  # indices of `layout.SIGNALS`
        self.tape = np.zeros((0, 1), dtype=np.float32)  # (channels, samples), a ring

    def arm(
        self,
        state: Any,
        channels: Sequence[str],
        *,
        divider: int,
        samples: int,
        pre: int,
        trigger: Mapping[str, Any],
    ) -> None:
        """Arm it. `trigger` is empty (at once) or {signal, level, rising}; `divider` in ticks, `pre` in samples.

        Raises
        ------
        DriveRefused
            The recording is too long or empty.
        """
        if not 0 < samples <= MOST_SAMPLES or divider < 1 or not 0 <= pre < samples or not channels:
            raise DriveRefused(
                why="the recording is too long or empty.", remedy=f"Ask for up to {MOST_SAMPLES} samples."
            )
        s = state
        s.rec_state = layout.REC_IDLE
        self.channels = np.array([SIGNAL_INDEX[c] for c in channels], dtype=np.int64)
        self.tape = np.zeros((len(channels), samples), dtype=np.float32)
        s.rec_div, s.rec_n, s.rec_pos, s.rec_filled, s.rec_pre = divider, samples, 0, 0, pre
        s.trig_signal = SIGNAL_INDEX[trigger["signal"]] if trigger else -1
        s.trig_level, s.trig_rising = float(trigger.get("level", 0.0)), int(trigger.get("rising", True))
        s.rec_state = layout.ARMED

    @staticmethod
    def state(state: Any) -> str:
        """Return "idle", "armed", "running" or "done"."""
        return STATES[int(state.rec_state)]

    def recorded(self, state: Any) -> tuple[np.ndarray, list[str], float]:
        """Return the finished tape (channels, samples), oldest first, its channels, its period [s].

        Raises
        ------
        DriveRefused
            No recording is complete.
        """
        if state.rec_state != layout.REC_DONE:
            raise DriveRefused(why="no recording is complete.", remedy="Wait until the recorder is done.")
        channels = [SIGNALS[k][0] for k in self.channels]
        return np.roll(self.tape, -int(state.rec_pos), axis=1), channels, int(state.rec_div) * TICK
