"""The holding brake's sequence: torque before it opens, control until it has closed."""

from dataclasses import dataclass

TORQUE_BUILD_UP = 0.02  # [s] to apply the holding torque before the brake opens; common practice
MARGIN = 1.2  # on the printed delays; worn or cold brakes are slower


@dataclass(frozen=True, slots=True, kw_only=True)
class BrakeSequence:
    """Instants of opening, from enable; and of closing, from the command to release power. [s]"""

    voltage_on: float
    open_after: float
    move_after: float
    voltage_lowered: float
    closed_after: float
    power_off_after: float


def brake_sequence(*, release_delay: float, engage_delay: float, pull_in_time: float) -> BrakeSequence:
    """Return the sequence of one cycle.

    Parameters
    ----------
    release_delay, engage_delay, pull_in_time : float
        From the brake's sheet. [s]

    Notes
    -----
    Opening: torque first, then voltage, motion only after the release delay with margin. Closing: voltage off at
    standstill, and the controller stays on until the engage delay with margin is over, so that nothing sags.
    """
    on = TORQUE_BUILD_UP
    return BrakeSequence(
        voltage_on=on,
        open_after=on + release_delay,
        move_after=on + MARGIN * release_delay,
        voltage_lowered=on + max(pull_in_time, MARGIN * release_delay),
        closed_after=engage_delay,
        power_off_after=MARGIN * engage_delay,
    )
