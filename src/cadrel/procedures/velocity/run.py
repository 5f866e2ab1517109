"""The velocity plant measured, the proposal on it, and what it gives: before and after."""

from cadrel.core.control import Gains
from cadrel.core.identification.two_mass import ROUGH
from cadrel.procedures.declaration import Procedure, declare, plan_within_travel
from cadrel.procedures.judging import go_back_unless_proven
from cadrel.procedures.outcome import Outcome
from cadrel.procedures.plant.in_motion import first_measured, measured_beyond
from cadrel.procedures.plant.model import fit_plant
from cadrel.procedures.plant.noise import noise_in_motion
from cadrel.procedures.plant.scatter import require_lines
from cadrel.procedures.play import swung_closed
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.looks import noise_at_rest, velocity_step
from cadrel.procedures.velocity.report import plant_run, velocity_values
from cadrel.procedures.velocity.seen import Seen, resonance_seen
from cadrel.procedures.velocity.tries import tuned_until_calm


def run_velocity_loop(session: Session) -> Outcome:
    """Measure the plant, fit the model, propose and write gains, measure again.

    Raises
    ------
    TuningRefused
        Nothing honours the margins asked for; the drive keeps its gains.
    """
    before = Gains.from_drive(session.refresh(), session.rates)
    old_step = velocity_step(session, 0.05)
    device, flicker = noise_at_rest(session, before)
    unrest = session.plant.unrest  # after moves it has trembled with a loop that stood still before
    noise = device if unrest is None else max(device, unrest.noise)
    first = first_measured(session, before)
    measured, excitation = first.response, first.excitation
    require_lines(session, measured, excitation, share=ROUGH)
    fit = fit_plant(session, before, measured)
    beyond = measured_beyond(session, before, 0.36, measured)
    seen = Seen(
        measured=measured, fit=fit, closed=swung_closed(session, before, fit, 0.38), moved=0.0, noise=noise,
        device=device, open_hz=resonance_seen(fit), moving=noise_in_motion(first.record, before),
        flicker=flicker, beyond=None if beyond is None else beyond.response,
    )  # fmt: skip
    try:
        outcome = tuned_until_calm(session, before, seen, excitation, old_step)
        outcome.runs.append(plant_run(session, first.record, before))
        if beyond is not None:
            outcome.runs.append(plant_run(session, beyond.record, before, title="Velocity plant, beyond its lines"))
    except BaseException:
        session.write({**velocity_values(before), "position.gain": before.position_gain})
        raise
    if session.swings:  # the drive halved the position gain too, which is none of this run's to change
        session.write({"position.gain": before.position_gain})
    go_back_unless_proven(session, outcome, velocity_values(before))
    return outcome


PROCEDURE = declare(Procedure(
    key="velocity", step="velocity", does="Measure and tune", order=4, run=run_velocity_loop,
    plan=plan_within_travel("Velocity loop", 60), fine_feedback=True,
))  # fmt: skip
