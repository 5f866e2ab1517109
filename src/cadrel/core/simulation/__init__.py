"""The simulated plant and drive. Only the bench and the tests may use it.

layout.py    Plant, Settings, the state record, signals: what the kernel works on
plant.py     one tick of motor, mechanics and bus (numba)
firmware.py  one tick of the drive's loops, motion, guards and recorder (numba)
kernel.py    n ticks; start reading here
truth.py     a rig description in physical terms -> Plant
memory.py    volatile and permanent parameters -> Settings
machine.py   CiA 402 power states as a table
drive.py     SimulatedDrive: what the wire reaches
"""

from cadrel.core.simulation.drive import SimulatedDrive
from cadrel.core.simulation.truth import RigTruth, plant_of

__all__ = ["RigTruth", "SimulatedDrive", "plant_of"]
