"""A loop of the same shape at another pace: what of its figures goes along, and what answers to the plant and stays."""

from dataclasses import replace

from cadrel.core.control import Gains
from cadrel.core.control.filters import Section

# Damping of poles and zeros from which a section with its poles below its zeros answers no resonance: it is a lag.
LAG_POLES, LAG_ZEROS = 0.7, 0.3
HIGHEST_HZ = 1850.0  # that a section is moved to


def quicker(gains: Gains, factor: float) -> Gains:
    """Return all gains of the same shape, so many times as quick."""
    return softened(gains, factor).with_(position_gain=factor * gains.position_gain)


def softened(gains: Gains, share: float) -> Gains:
    """Return a velocity loop of the same shape with a share of its gain, its integral gain with the square of that.

    A lag below the crossover goes with it: left where it was, it would come to lie at the slower crossover and take
    its phase away there.
    """
    return gains.with_(
        velocity_gain=share * gains.velocity_gain, velocity_reset=gains.velocity_reset / share,
        sections=tuple(_moved(s, share) if _is_lag(s) else s for s in gains.sections),
    )  # fmt: skip


def _is_lag(section: Section) -> bool:
    return (
        0.0 < section.pole_hz < section.zero_hz
        and section.pole_damping >= LAG_POLES
        and section.zero_damping >= LAG_ZEROS
    )


def _moved(section: Section, factor: float) -> Section:
    by = min(factor, HIGHEST_HZ / section.zero_hz)
    return replace(section, zero_hz=by * section.zero_hz, pole_hz=by * section.pole_hz)
