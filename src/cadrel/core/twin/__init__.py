"""The identified axis, simulated: what a planned move would do, before it moves and laid over it afterwards.

It is made of what runs have found and of the drive's values, by equations of its own; it shares nothing with the
stand-in that ships with Cadrel.

twin.py     Twin: what it is made of; a profile in, channels out
kernel.py   the loop over velocity samples and ticks (numba)
"""

from cadrel.core.twin.twin import Twin, TwinRecord

__all__ = ["Twin", "TwinRecord"]
