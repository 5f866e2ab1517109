"""Computation only: numpy, scipy and numba. No Django, no files, no sockets.

quantities/      printed units and conventions -> SI floats
parameters/      THE registry of parameters; everything else reads it
axis/            entered values -> what was understood of the whole axis
motor/           the motor per phase in SI, its checks and derived values
mechanics/       reflected inertia, user units
control/         the cascade: filters, frequency responses, linear step responses, margins
response/        step and move metrics, frequency-response estimation
identification/  electrical values, inertia and friction, two-mass fit, alignment
tuning/          stated robustness -> gains
twin/            the identified axis, simulated by equations of its own
motion/          jerk-limited profiles
diagnosis/       what limited a recorded move
simulation/      the simulated plant and drive; only the bench and the tests may use it

Inside: SI floats, per phase, peak, amplitude-invariant dq, radians at the motor shaft.
"""
