"""Play by itself, when it is asked for: the plant measured in motion, and its resonance swung; it changes nothing."""

from cadrel.core.control import Gains
from cadrel.core.identification import PlantFit
from cadrel.core.identification.two_mass import ROUGH
from cadrel.procedures.declaration import Procedure, declare, plan_within_travel
from cadrel.procedures.errors import NotAllowed
from cadrel.procedures.outcome import Finding, Outcome
from cadrel.procedures.plant.in_motion import first_measured
from cadrel.procedures.plant.model import fit_plant
from cadrel.procedures.plant.scatter import require_lines
from cadrel.procedures.play import play_findings, swung_closed
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.report import plant_run


def run_play(session: Session) -> Outcome:
    """Measure the plant with the gains in force, swing its resonance, and read the play off its shaft.

    Raises
    ------
    NotAllowed
        The load is not known.
    AnswerInNoise
        The device's noise covers what the axis answers.
    """
    gains = Gains.from_drive(session.refresh(), session.rates)
    if session.plant.total is None:
        raise NotAllowed(why="The load is not identified.", remedy="Run “Identify the load” first.")
    first = first_measured(session, gains)
    require_lines(session, first.response, first.excitation, share=ROUGH)
    fit = fit_plant(session, gains, first.response)
    closed = swung_closed(session, gains, fit, 0.7)
    session.enter("done", 1.0)
    runs = [plant_run(session, first.record, gains, title="Velocity plant"), *([] if closed is None else [closed.run])]
    findings = play_findings(closed, fit.load, run=len(runs) - 1)
    return Outcome(findings=findings, runs=runs, summary=_summary(findings, fit, was_swung=closed is not None))


def _summary(findings: list[Finding], fit: PlantFit, *, was_swung: bool) -> str:
    at = fit.load.resonance_hz
    if at is None:
        return "no resonance to swing: play cannot be told from here"
    if not was_swung:
        return f"the resonance at {at:.0f} Hz could not be swung: play cannot be told from here"
    if not findings:
        return f"no play stands out of the swing at {at:.0f} Hz"
    width = findings[0]
    return f"play of {'at most ' if width.kind == 'play_bound' else ''}{width.value:.2g}° at the motor"


PROCEDURE = declare(Procedure(
    key="play", step="load", does="Look for play", run=run_play, plan=plan_within_travel("Play", 20),
    fine_feedback=True, finds=("play", "play_bound", "closed_resonance"),
))  # fmt: skip
