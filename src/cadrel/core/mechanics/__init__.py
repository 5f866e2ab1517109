"""What the motor drives: reflected inertia and user units.

mechanism.py   Mechanism, the frozen result of the mechanics step
"""

from cadrel.core.mechanics.mechanism import Mechanism, mechanism_from_entries

__all__ = ["Mechanism", "mechanism_from_entries"]
