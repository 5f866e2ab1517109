"""Current-loop gains from R, L and the wanted bandwidth."""

from cadrel.core.axis.drive_values import current_gain
from cadrel.core.control import Gains, Winding


def tune_current(winding: Winding, gains: Gains, *, bandwidth_hz: float) -> Gains:
    """Return gains with the winding's pole cancelled and the closed-loop -3 dB point at `bandwidth_hz`."""
    return gains.with_(
        current_gain=current_gain(winding.inductance, bandwidth_hz, gains.rates),
        current_reset=winding.inductance / winding.resistance,
    )
