"""The simulated plant and drive. Only the bench and the tests may use it.

layout.py    Plant, Settings, the state record, signals: what the kernel works on
plant.py     one tick of motor, mechanics and bus (numba)
unkind.py    the same of an axis as machines are: backlash, cogging, presliding, saturation, a third mass (numba)
oscillation.py   a loop that swings ever wider, noticed in a few half periods (numba)
firmware.py  one tick of the drive's loops, motion, guards and recorder (numba)
kernel.py    n ticks; start reading here
device.py    one tick of the feedback device, the Halls and the brake (numba)
truth.py     RigTruth: a rig description in physical terms
faults.py    what can be wired wrongly, as changes of a RigTruth
rigging.py   RigTruth -> Plant
memory.py    volatile and permanent parameters -> Settings
blockers.py  what prevents enabling, in words
hold.py      whose hand is on a button that moves the axis while it is held
machine.py   CiA 402 power states as a table
running.py   what runs between two power-ups: the kernel's state and all it works on
motion.py, holding_brake.py, status.py   on it: what moves an enabled axis, its brake, what a status shows
drive.py     SimulatedDrive: what the wire reaches
recorder.py, consent.py, received.py   parts of it: the tape, the consent it keeps, what its connector receives
refused.py   why it does not carry out a command
"""

from cadrel.core.simulation.drive import SimulatedDrive
from cadrel.core.simulation.faults import FAULTS, Fault, rated_torque, wired
from cadrel.core.simulation.rigging import plant_of
from cadrel.core.simulation.truth import RigTruth

__all__ = ["FAULTS", "Fault", "RigTruth", "SimulatedDrive", "plant_of", "rated_torque", "wired"]
