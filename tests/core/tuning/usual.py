"""The winding, starting gains and margins asked for that the tests of tuning share."""

import math

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, Winding

WINDING = Winding(resistance=1.3, inductance=4.6e-3, emf=0.5)
START = Gains(
    current_gain=17.0, current_reset=3.5e-3, velocity_gain=0.03, velocity_reset=0.06, feedback_filter_hz=800,
    torque_filter_hz=1200,
)  # fmt: skip
USUAL = Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8)
