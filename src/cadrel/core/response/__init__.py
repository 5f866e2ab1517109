"""Records -> numbers an engineer quotes.

multisine.py   periodic excitations
estimate.py    records of a periodic experiment -> FrequencyResponse
folding.py     a recording of repeats -> their mean, derived on demand
curves.py      complex curves as plain lists
steps.py       a recorded step -> rise, overshoot, settling
moves.py       a recorded move -> settling from the end of the command, following error, current
"""

from cadrel.core.response.curves import curve_of
from cadrel.core.response.estimate import FrequencyResponse, average_responses, estimate_response, without_ramp
from cadrel.core.response.folding import folded, with_injected_position
from cadrel.core.response.moves import MoveMetrics, measure_moves
from cadrel.core.response.multisine import ExcitationError, log_lines, random_multisine, schroeder_multisine, swept_sine
from cadrel.core.response.steps import StepMetrics, measure_step

__all__ = [
    "ExcitationError",
    "FrequencyResponse",
    "MoveMetrics",
    "StepMetrics",
    "average_responses",
    "curve_of",
    "estimate_response",
    "folded",
    "log_lines",
    "measure_moves",
    "measure_step",
    "random_multisine",
    "schroeder_multisine",
    "swept_sine",
    "with_injected_position",
    "without_ramp",
]
