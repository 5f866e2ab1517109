"""Stated robustness -> the fastest loops that honour it, or a refusal that explains itself.

current.py    gains from R, L and the wanted bandwidth
velocity.py   PI, filters and sections on a measured plant: proposed, judged, explained
search.py     the search for their shape, by evolution.py
shape.py      how much gain a shape bears; shape_kernel.py and gain_kernel.py: compiled
position.py   Kv around the closed velocity loop
cascade.py    both together: a velocity loop soft enough for the load to settle
pace.py       a loop of the same shape at another pace
front.py      robust against quick: one family of gains, and what each would give
prediction.py curves and margins that gains would give
"""

from cadrel.core.tuning.cascade import EASED, ease_for_settling, is_quick_enough
from cadrel.core.tuning.current import tune_current
from cadrel.core.tuning.front import FrontPoint, front_of, moves_with_quickness
from cadrel.core.tuning.pace import quicker, softened
from cadrel.core.tuning.position import FRICTION_SHARE, tune_position
from cadrel.core.tuning.prediction import StopTrace, load_of, predict_loop, predict_stop
from cadrel.core.tuning.shape import LEAST_DAMPING
from cadrel.core.tuning.velocity import (
    HIDDEN,
    MOST_SECTIONS,
    NOISY,
    VOLTAGE,
    TuningRefused,
    VelocityTuning,
    limiting_factor,
    noise_behind,
    shaped_as,
    spread_of,
    tune_velocity,
)

__all__ = [
    "EASED",
    "FRICTION_SHARE",
    "HIDDEN",
    "LEAST_DAMPING",
    "MOST_SECTIONS",
    "NOISY",
    "VOLTAGE",
    "FrontPoint",
    "StopTrace",
    "TuningRefused",
    "VelocityTuning",
    "ease_for_settling",
    "front_of",
    "is_quick_enough",
    "limiting_factor",
    "load_of",
    "moves_with_quickness",
    "noise_behind",
    "predict_loop",
    "predict_stop",
    "quicker",
    "shaped_as",
    "softened",
    "spread_of",
    "tune_current",
    "tune_position",
    "tune_velocity",
]
