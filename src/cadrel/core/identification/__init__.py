"""Recorded runs -> physical values with their standard deviation.

estimated.py    Estimated: value, std; the result of everything here
turning.py      a turned vector -> direction, ratio, rotor bias, play of the coupling
alignment.py    held vectors -> offset; breakaway currents -> rotor angle
halls.py        Hall codes -> what is wired wrongly, sequence, edges
electrical.py   resistance from the slope, inductance from the admittance, flux from spinning
inverter.py     levels of current -> what dead time takes
sensors.py      sensors without current -> their offsets; a held vector -> the second's gain over the first
load.py         inertia, friction, gravity from back-and-forth runs
along.py        what changes along such a run: harmonics of the turn, friction by its place
plant.py        what load and velocity runs found, as one typed value
two_mass.py     measured velocity plant -> two-mass model
chain.py        measured velocity plant -> one, two or three masses, as the data have it
play.py         a shaft swung around its resonance -> play, closed stiffness
mode.py         one resonance looked at closely -> frequency, damping
friction.py     constant speeds both ways, and breakaway -> friction over speed
saturation.py   inductance over current, from a large sine
cogging.py      runs at constant speed -> torque over a turn, by harmonics
"""

from cadrel.core.identification.alignment import (
    OffsetResult,
    SearchResult,
    SlipResult,
    angle_from_breakaway,
    angle_from_slips,
    offset_from_alignment,
)
from cadrel.core.identification.by_hand import Contradiction, OffsetByHand, offset_by_hand
from cadrel.core.identification.chain import Chain, fit_chain
from cadrel.core.identification.cogging import CoggingMap, cogging_map
from cadrel.core.identification.electrical import (
    angle_error_from_spinning,
    fit_admittance,
    flux_from_spinning,
    resistance_from_levels,
    unmixed,
)
from cadrel.core.identification.estimated import Estimated
from cadrel.core.identification.friction import FrictionCurve, fit_friction, friction_both_ways
from cadrel.core.identification.halls import HallFault, HallMap, learn_halls
from cadrel.core.identification.inverter import DeadTime, fit_dead_time
from cadrel.core.identification.load import LoadEstimate, fit_load, viscous_of_sampling
from cadrel.core.identification.mode import Mode, fit_mode
from cadrel.core.identification.plant import (
    ChainLoad,
    HeldLoad,
    IdentifiedPlant,
    PlantPart,
    RubbedLoad,
    SpringyLoad,
    TotalLoad,
    Unrest,
)
from cadrel.core.identification.play import Play, Swung, fit_play
from cadrel.core.identification.saturation import InductanceCurve, fit_saturation
from cadrel.core.identification.sensors import SensorGain, fit_sensor_gain, sensor_offsets
from cadrel.core.identification.turning import (
    Following,
    VectorLoad,
    following,
    load_of_vector,
    play_from_three_currents,
    play_from_two_currents,
)
from cadrel.core.identification.two_mass import PlantFit, fit_spring, fit_two_mass

__all__ = [
    "Chain",
    "ChainLoad",
    "CoggingMap",
    "Contradiction",
    "DeadTime",
    "Estimated",
    "Following",
    "FrictionCurve",
    "HallFault",
    "HallMap",
    "HeldLoad",
    "IdentifiedPlant",
    "InductanceCurve",
    "LoadEstimate",
    "Mode",
    "OffsetByHand",
    "OffsetResult",
    "PlantFit",
    "PlantPart",
    "Play",
    "RubbedLoad",
    "SearchResult",
    "SensorGain",
    "SlipResult",
    "SpringyLoad",
    "Swung",
    "TotalLoad",
    "Unrest",
    "VectorLoad",
    "angle_error_from_spinning",
    "angle_from_breakaway",
    "angle_from_slips",
    "cogging_map",
    "fit_admittance",
    "fit_chain",
    "fit_dead_time",
    "fit_friction",
    "fit_load",
    "fit_mode",
    "fit_play",
    "fit_saturation",
    "fit_sensor_gain",
    "fit_spring",
    "fit_two_mass",
    "flux_from_spinning",
    "following",
    "friction_both_ways",
    "learn_halls",
    "load_of_vector",
    "offset_by_hand",
    "offset_from_alignment",
    "play_from_three_currents",
    "play_from_two_currents",
    "resistance_from_levels",
    "sensor_offsets",
    "unmixed",
    "viscous_of_sampling",
]
