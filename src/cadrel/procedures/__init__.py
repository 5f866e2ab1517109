"""Phasing, identification, tuning and test moves; they talk only to the link.

declaration.py   Procedure: what each declares of itself
session.py       Session: one drive, one axis, consent, progress, abort; start reading here
computing.py     long computations beside it, so that the drive goes on hearing of the run
outcome.py       what a procedure returns: findings, changes, runs
errors.py        why a procedure ended without a result
phasing/         commutation: directions, pole pairs, Halls, offset, torque per amp; the angle at power-up
electrical.py    R, L; current-loop gains; step and frequency response of the current loop
load.py          flux, inertia, friction
cogging.py       torque over a turn of the motor
saturation.py    inductance over current
friction.py      friction over speed, and what it takes to break away
passes.py        one way and back through the travel, injected into; what runs in motion is made of
plant/           the velocity plant's frequency response while the axis runs, and its model
play.py          its resonance swung: the gap between motor and load; play_alone.py: by itself
responses/       any loop's response when it is asked for; proves nothing
velocity/         the velocity loop: proposed, looked at, measured around, judged
position.py      position gain, step
acceptance.py    the real move, many times
foreseen.py      that move on the twin, and how much room it leaves; planned.py: on gains that are tried
climb.py         the real move on quicker and quicker gains, until it squeals; proves nothing
inverter.py      sensors without current, dead time from levels; for the current loop
route.py         all of them in order
"""

import importlib
import pkgutil

from cadrel.procedures.acceptance import run_acceptance
from cadrel.procedures.declaration import PROCEDURES, Argument, Procedure, in_order
from cadrel.procedures.electrical import run_current_loop
from cadrel.procedures.errors import Aborted, ProcedureError, StoppedByHand
from cadrel.procedures.hand_test import run_hand_test
from cadrel.procedures.load import run_load
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.phasing import WiredWrongly, find_angle, plan_commutation, plan_power_up, run_commutation
from cadrel.procedures.position import run_position_loop
from cadrel.procedures.session import Consent, Session
from cadrel.procedures.velocity.run import run_velocity_loop

for _module in pkgutil.walk_packages(__path__, f"{__name__}."):
    importlib.import_module(_module.name)  # whatever it declares is known from here on

__all__ = [
    "PROCEDURES",
    "Aborted",
    "Argument",
    "Consent",
    "Finding",
    "Outcome",
    "Plan",
    "Procedure",
    "ProcedureError",
    "RunRecord",
    "Session",
    "StoppedByHand",
    "WiredWrongly",
    "find_angle",
    "in_order",
    "plan_commutation",
    "plan_power_up",
    "run_acceptance",
    "run_commutation",
    "run_current_loop",
    "run_hand_test",
    "run_load",
    "run_position_loop",
    "run_velocity_loop",
]
