"""The cascade: filters, its frequency responses, its linear step responses, its margins.

    filters.py   difference-equation coefficients, shared by drive and model
    cascade.py   Gains, and the frequency response of every loop; start reading here
    margins.py   open loop -> Margins
    linear.py    small-signal step responses of the three loops (numba)
    poles.py     exact closed-loop eigenvalues: is it stable at all

The equations are those of docs/control-structure.md; nothing here knows the simulation.
"""

from cadrel.core.control.cascade import (
    Gains,
    LoopResponses,
    TwoMass,
    Winding,
    closed,
    current_open,
    feedback_filter,
    loop_responses,
    mechanics,
    position_open,
    sensitivity,
    velocity_controller,
    velocity_open,
    velocity_plant,
)
from cadrel.core.control.linear import step_response
from cadrel.core.control.margins import Margins, read_margins
from cadrel.core.control.poles import spectral_radius

__all__ = [
    "Gains",
    "LoopResponses",
    "Margins",
    "TwoMass",
    "Winding",
    "closed",
    "current_open",
    "feedback_filter",
    "loop_responses",
    "mechanics",
    "position_open",
    "read_margins",
    "sensitivity",
    "spectral_radius",
    "step_response",
    "velocity_controller",
    "velocity_open",
    "velocity_plant",
]
