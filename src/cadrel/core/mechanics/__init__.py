"""What the motor drives: reflected inertia, user units, and what a move asks of the motor.

mechanism.py   entries -> Mechanism
demand.py      a move on a mechanism -> torque, speed, rms
"""

from cadrel.core.mechanics.demand import MoveDemand, demand_of_move
from cadrel.core.mechanics.mechanism import Mechanism, mechanism_from_entries

__all__ = ["Mechanism", "MoveDemand", "demand_of_move", "mechanism_from_entries"]
