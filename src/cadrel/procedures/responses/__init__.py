"""Frequency responses when they are asked for: of any loop, its plant, open and closed, at rest and in motion.

request.py   what is asked for, and the lines it makes
measure.py   passes of one amplitude -> plant, open and closed loop
run.py       the procedure: several amplitudes, a look at one resonance, the record; start reading here
"""
