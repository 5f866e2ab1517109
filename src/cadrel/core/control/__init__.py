"""The cascade as blocks: its frequency responses, its steps, its eigenvalues, its margins.

    blocks.py       linear blocks joined by the names of their signals
    filters.py      the drive's regulators and filters: coefficients and blocks
    sampling.py     a drive's rates, and how the angle arrives
    load.py         winding and load
    axis_blocks.py  current loop, motor, load and device, sampled exactly
    cascade.py      Gains, the loops composed, and what follows from them; start reading here
    margins.py      open loop -> Margins

The equations are those of docs/control-structure.md; nothing here knows the simulation.
"""

from cadrel.core.control.cascade import (
    Gains,
    LoopName,
    LoopResponses,
    closed,
    current_open,
    feedback_filter,
    loop_block,
    loop_responses,
    position_of_speed,
    position_open,
    position_over_speed,
    sensitivity,
    spectral_radius,
    step_response,
    told_speed,
    unstable_pairs,
    velocity_controller,
    velocity_open,
    velocity_plant,
)
from cadrel.core.control.load import TwoMass, Winding, load_over_motor, mechanics
from cadrel.core.control.margins import Margins, read_margins
from cadrel.core.control.sampling import Rates, Sensor

__all__ = [
    "Gains",
    "LoopName",
    "LoopResponses",
    "Margins",
    "Rates",
    "Sensor",
    "TwoMass",
    "Winding",
    "closed",
    "current_open",
    "feedback_filter",
    "load_over_motor",
    "loop_block",
    "loop_responses",
    "mechanics",
    "position_of_speed",
    "position_open",
    "position_over_speed",
    "read_margins",
    "sensitivity",
    "spectral_radius",
    "step_response",
    "told_speed",
    "unstable_pairs",
    "velocity_controller",
    "velocity_open",
    "velocity_plant",
]
