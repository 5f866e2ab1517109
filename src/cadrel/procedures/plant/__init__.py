"""The velocity plant while the axis runs: torque injected, its frequency response, and the model fitted to that.

in_motion.py     passes one way and the other, until they tell enough; start reading here
excitation.py    what is injected, and at what speed
scatter.py       how surely the lines are known
model.py         the fit
noise.py         what a device's noise does meanwhile
"""
