"""Made-up sheets of every kind of motor, in every convention, with the SI values their printed digits mean.

Drawn once; the printed values are rounded as sheets round them. The last column was worked out from the printed
digits outside Cadrel, with 40-digit arithmetic and these definitions alone: 1 lb = 0.45359237 kg, g = 9.80665 m/s²,
1 in = 25.4 mm, 1 hp = 550 ft·lbf/s, 1 rpm = 2 pi / 60 rad/s; per phase = line to line / 2 = delta branch / 3;
peak = sqrt(2) rms; phase voltage = line to line / sqrt(3); pairs = poles / 2; N-N = 2 N-S; one phase on =
two on / sqrt(2); block-commutated: phase amplitude = pi / (3 sqrt 3) of the mean line voltage, torque per peak of
sine = 1.5 times that, peak of sine = 2 / sqrt(3) of the direct current. Makers and types are invented.
"""

from tests.core.motor.made_up_sheets.others import SHEETS as OTHERS
from tests.core.motor.made_up_sheets.rotary import SHEETS as ROTARY
from tests.core.motor.made_up_sheets.shape import Row, Sheet
from tests.core.motor.made_up_sheets.straight import SHEETS as STRAIGHT

SHEETS: list[Sheet] = [*ROTARY, *STRAIGHT, *OTHERS]

__all__ = ["SHEETS", "Row", "Sheet"]
