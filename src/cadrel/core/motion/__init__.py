"""Jerk-limited motion.

profile.py   rest-to-rest segments and sequences of them
"""

from cadrel.core.motion.profile import Profile, move_profile, sample_profile, stroke_sequence

__all__ = ["Profile", "move_profile", "sample_profile", "stroke_sequence"]
