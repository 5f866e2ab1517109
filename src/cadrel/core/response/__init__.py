"""Records -> numbers an engineer quotes.

multisine.py   periodic excitations
estimate.py    records of a periodic experiment -> FrequencyResponse
windowed.py    the same where much does not repeat: through a window, each line by the clearer of both
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
from cadrel.core.response.windowed import Both, among_neighbours, average_clearer, estimate_both, estimate_windowed

__all__ = [
    "Both",
    "ExcitationError",
    "FrequencyResponse",
    "MoveMetrics",
    "StepMetrics",
    "among_neighbours",
    "average_clearer",
    "average_responses",
    "curve_of",
    "estimate_both",
    "estimate_response",
    "estimate_windowed",
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
