"""Commutation: directions, pole pairs, offset, Halls, signal circle; right, or refused by name.

run.py          the automatic check from end to end; start reading here
plan.py         what it will do, said beforehand
beforehand.py   what can be judged with power off
turning.py      the turned vector: direction, ratio, Halls, index, coupling, load
signals.py      the circle of sine and cosine, corrected
holding.py      held vectors: the offset
confirming.py   torque per amp, and the back-EMF of the turning rotor
halls_alone.py  what a drive with nothing but Halls needs
power_up.py     the angle at a power-up that tells nothing
small_motion.py the same by a search that hardly moves the shaft
faults.py       what may be wrong, by a code, in words
"""

from cadrel.procedures.phasing.faults import Named, WiredWrongly
from cadrel.procedures.phasing.plan import plan_commutation, plan_power_up
from cadrel.procedures.phasing.power_up import find_angle
from cadrel.procedures.phasing.run import run_commutation

__all__ = ["Named", "WiredWrongly", "find_angle", "plan_commutation", "plan_power_up", "run_commutation"]
