"""How an axis is stopped and held: the holding brake tested, and where the energy of a stop goes.

brake.py     holding torque, release and engage times measured from motion
braking.py   stops from speed: bus, chopper, resistor, and which case it was
"""
