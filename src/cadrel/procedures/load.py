"""Flux linkage, inertia and friction from runs back and forth within the travel."""

import math
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace

import numpy as np

from cadrel.core.axis import careful_velocity
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import LoadEstimate, TotalLoad, fit_load, flux_from_spinning, viscous_of_sampling
from cadrel.core.identification.estimated import Estimated, weighted_mean
from cadrel.core.verdict import Criterion, at_most, decide
from cadrel.link import Recording
from cadrel.procedures.declaration import Procedure, declare, plan_within_travel
from cadrel.procedures.errors import NotReproducible
from cadrel.procedures.outcome import Finding, Outcome, RunRecord
from cadrel.procedures.session import FloatArray, Session
from cadrel.procedures.strokes import SOFT, SOFTER, Lead, back_and_forth, block_means

AGREE = 0.03  # two consecutive inertias that agree this well are not looked at again
DOUBTFUL = 0.25  # standard deviation over inertia, with what runs scatter by: beyond, none is told
MOST_RUNS = 5
# [%] rms of the torque that the model leaves, of all that was made: 0.4 to 15 on 34 axes drawn, 43 on one whose inertia
# was right to 1.5 %; an axis that hardly moved left 161, with an inertia of 1.4 times the true one and a tenth stated.
MOST_LEFT = 60.0
# Shares of the top speed, signed by the side, of one run and of the next: what the model leaves out differs between
# them, and shows. A slow stroke, which takes longest, goes to one side, and the next run's to the other.
STROKES = ((1.0, -1.0, 0.45), (0.85, -0.85, -0.55))
FASTER = 1.6  # times the slow limit: the part of a run at more than half of its speed
ENOUGH = 0.3  # of the spans, that the faster part must have to tell anything
SLOW, SLOWEST = 0.3, 4.0  # of the top speed; [rad/s]: below, friction still falls with speed
# What strokes are led by where an axis hardly makes them: shares of the torque that its inertia takes - it may be
# entered too large - and of the rated torque, for friction that nobody has measured yet.
LEADS = (Lead(0.6), *(Lead(1.0, friction) for friction in (0.08, 0.12, 0.16, 0.19)))
POOR = 0.25  # standard deviation over inertia of a run that is made again with more of a lead, where there is more
FURTHER = 1.25  # times the friction that strokes were led by and hardly made
SURELY = 2.0  # standard deviations below the friction found, by which strokes are led then: too much runs away
MADE = 0.5  # of the way that strokes were meant to go, below which they tell little of the load
CROSSOVER_HZ = 15.0  # of the careful velocity loop between runs
CHANNELS = ("position", "velocity", "i_q", "i_d", "v_q", "i_q_ref")
WRITTEN = ("motor.flux_linkage", "load.inertia", "load.friction", "velocity.gain", "velocity.reset_time")


def run_load(session: Session) -> Outcome:
    """Run back and forth until two consecutive inertias agree, harder where the first two do not.

    Torque is the measured current times the torque constant from the flux found in the same run: a sheet value off
    by ten percent would make the inertia wrong by as much.

    Raises
    ------
    NotReproducible
        Five runs scatter by so much that their mean is not known even roughly.
    """
    session.refresh()
    runs: list[LoadEstimate] = []
    fluxes: list[Estimated] = []
    lead: Lead | None = None
    for k in range(MOST_RUNS):
        session.enter(f"back and forth, run {k + 1}", 0.05 + 0.9 * k / MOST_RUNS)
        record, flux, load, lead = _moved_enough(session, k, lead)
        inertia = max(load.inertia.value, 0.5 * session.axis.motor.inertia)
        if lead is not None and load.inertia.std > POOR * load.inertia.value:
            inertia = session.values["load.inertia"]  # led by what is hardly known, the next strokes would run away
        session.write(
            {
                "motor.flux_linkage": flux.value,
                "load.inertia": inertia,
                "load.friction": max(load.coulomb.value, 0.0),
                **careful_velocity(inertia, session.axis.motor.inertia, CROSSOVER_HZ),
            }
        )
        runs.append(load)
        fluxes.append(flux)
        if k == 0:
            continue
        apart = abs(load.inertia.value / runs[-2].inertia.value - 1)
        if apart < AGREE:
            both = _together(load.inertia, runs[-2].inertia)
            return _outcome(session, record, _together(*fluxes[-2:]), runs[-2:], both)
    # None agreed with the one before: all of them weighed together, and what they scatter by is their doubt.
    mean = weighted_mean([run.inertia for run in runs])
    if mean.std > DOUBTFUL * mean.value:
        worst = max(runs, key=lambda run: abs(run.inertia.value - mean.value))
        raise NotReproducible(first=1e4 * mean.value, second=1e4 * worst.inertia.value)
    return _outcome(session, record, _together(*fluxes[-2:]), runs, mean)


def _moved_enough(
    session: Session, k: int, lead: Lead | None
) -> tuple[Recording, Estimated, LoadEstimate, Lead | None]:
    """Run strokes, with more of a lead where the axis hardly makes them; return record, flux, load, and the next lead.

    The loop that runs them may be slow: it is calm on the motor alone, whatever the load. Of short strokes against
    friction such a loop makes but a part, and a load is seen in those only that are made.
    """
    # Friction that changes along the travel weighs less the harder the axis is accelerated.
    softest = SOFTER if k < len(STROKES) else SOFT
    rated = session.axis.motor.torque_constant * session.current_continuous
    for harder in range(len(LEADS) + 1):
        record, wave = back_and_forth(session, CHANNELS, strokes=STROKES[k % len(STROKES)], softest=softest, lead=lead)
        meant = float(np.ptp(np.cumsum(wave))) * session.rates.velocity
        known = lead is not None and lead.found is not None
        following = _harder(lead, harder)
        if known or following is None or float(np.ptp(record["position"])) > MADE * meant:
            try:
                flux = _flux(session, record)
                kt = 1.5 * session.values["motor.pole_pairs"] * flux.value
                load = _weighed(record, kt, wave, max(SLOW * float(np.abs(wave).max()), SLOWEST))
            except UnusableInput:
                if following is None:
                    raise
            else:
                if lead is not None and following is not None and load.inertia.std > POOR * load.inertia.value:
                    lead = following
                    continue
                if lead is not None:
                    # What led strokes that came back was no more than there is.
                    led = lead.friction * rated if lead.found is None else lead.found
                    lead = Lead(1.0, found=max(load.coulomb.value - SURELY * load.coulomb.std, led))
                return record, flux, load, lead
        lead = following
    raise AssertionError("unreachable")


def _harder(lead: Lead | None, tried: int) -> Lead | None:
    """Return what leads strokes that were hardly made, after so many tries; None where nothing more is tried."""
    if tried == len(LEADS):
        return None
    if lead is None:
        return LEADS[0]
    if lead.found is not None:
        return replace(lead, found=FURTHER * lead.found)
    return None if lead == LEADS[-1] else LEADS[LEADS.index(lead) + 1]


def _weighed(record: Recording, kt: float, wave: FloatArray, slow: float) -> LoadEstimate:
    """The load of one run; what changes where only the faster part of the strokes is looked at is doubt.

    Friction that still falls with speed, or a shaft that swings, weighs more in the slower part.
    """
    torque = kt * record["i_q"]
    load = fit_load(record["position"], torque, wave, period=record.period, slow=slow)
    with suppress(UnusableInput):  # short strokes have no faster part to speak of
        other = fit_load(record["position"], torque, wave, period=record.period, slow=FASTER * slow)
        if other.spans < ENOUGH * load.spans:
            return load
        load = replace(
            load,
            inertia=load.inertia.doubted_by(other.inertia),
            coulomb=load.coulomb.doubted_by_part(other.coulomb),
            viscous=load.viscous.doubted_by_part(other.viscous),
        )
    return load


def _flux(session: Session, record: Recording) -> Estimated:
    """Flux from all samples at which speed is high and the current hardly changes."""
    pairs, inductance = session.values["motor.pole_pairs"], session.values["motor.inductance"]
    means = block_means(record)
    speed = means["speed"]
    fast = np.abs(speed) > 0.35 * np.abs(speed).max()
    return flux_from_spinning(
        pairs * speed[fast],
        means["v_q"][fast],
        means["i_d"][fast],
        means["i_q"][fast],
        means["i_q_slope"][fast],
        resistance=session.values["motor.resistance"],
        inductance=inductance,
    )


def _outcome(
    session: Session, record: Recording, flux: Estimated, runs: Sequence[LoadEstimate], inertia: Estimated
) -> Outcome:
    load, previous = runs[-1], runs[-2]
    if len(runs) > 2:
        coulomb, viscous, constant = (
            weighted_mean([getattr(run, k) for run in runs]) for k in ("coulomb", "viscous", "constant")
        )
    else:
        coulomb, viscous, constant = (
            _mean(getattr(load, k), getattr(previous, k)) for k in ("coulomb", "viscous", "constant")
        )
    # Torque is current times the flux found: its doubt is the load's too.
    by_flux = flux.std / abs(flux.value)
    inertia = Estimated(inertia.value, math.hypot(inertia.std, by_flux * inertia.value))
    coulomb = Estimated(coulomb.value, math.hypot(coulomb.std, by_flux * coulomb.value))
    # What Coulomb friction is wrong by at one speed and right by at another would be read as viscous.
    top = float(np.abs(record["velocity"]).max())
    viscous = Estimated(
        viscous.value, math.hypot(viscous.std, coulomb.std / top, viscous_of_sampling(session.axis.motor))
    )
    run = RunRecord(
        kind="load",
        title="Back and forth",
        period=record.period,
        channels=record.channels,
        excitation={"point": "velocity"},
        metrics={**load.as_dict(), "flux": flux.as_dict()},
    )
    session.enter("done", 1.0)

    def finding(kind: str, label: str, value: Estimated, unit: str) -> Finding:
        return Finding(kind=kind, label=label, value=value.value, unit=unit, std=value.std, run=0)

    return Outcome(
        findings=[
            Finding(
                kind="load",
                label="Total inertia at the motor",
                value=inertia.value,
                unit="kg·m²",
                std=inertia.std,
                run=0,
            ),
            finding("coulomb", "Coulomb friction", coulomb, "N·m"),
            finding("viscous", "Viscous friction, all together", viscous, "N·m·s/rad"),
            finding("constant", "Constant torque", constant, "N·m"),
            finding("flux", "Flux linkage", flux, "Wb"),
        ],
        changes={k: session.values[k] for k in WRITTEN},
        runs=[run],
        summary=_summary(session.axis.motor.metres_per_rad, inertia.value, load.coulomb.value),
        verdict=decide("load", _criteria(session, record, load, inertia), run=0),
        plant=TotalLoad(
            inertia=inertia.value,
            inertia_std=inertia.std,
            viscous_total=max(load.viscous.value, 0.0),
            coulomb=load.coulomb.value,
            constant=constant.value,
        ),
    )


def _criteria(session: Session, record: Recording, load: LoadEstimate, inertia: Estimated) -> list[Criterion]:
    """Runs that agree, a model that leaves little, within the travel agreed to."""
    doubt = 100 * inertia.std / inertia.value
    torque = 1.5 * session.values["motor.pole_pairs"] * session.values["motor.flux_linkage"] * record["i_q"]
    left = 100 * load.residual / max(float(np.sqrt(np.mean(torque**2))), 1e-12)
    moved = float(np.ptp(record["position"]))
    return [
        at_most("uncertainty of the inertia", 100 * DOUBTFUL, doubt, unit="%", tolerance=0.0),
        at_most("torque the model leaves, of all that was made", MOST_LEFT, left, unit="%"),
        at_most("travel", 2 * session.consent.travel, moved, unit="rad", tolerance=0.0),
    ]


def _together(one: Estimated, other: Estimated) -> Estimated:
    """Return two runs' mean; what they differ by, having run at other speeds, is part of the doubt."""
    value = 0.5 * (one.value + other.value)
    return Estimated(value, math.sqrt(0.5 * (one.std**2 + other.std**2) + (one.value - other.value) ** 2))


def _mean(one: Estimated, other: Estimated) -> Estimated:
    """Return two runs' mean, as doubtful as such a mean is: by half of what they differ by, beside their own doubts.

    Each run slid to its own side of the travel and at its own speed, so that what friction changes by on the way is in
    what they differ by.
    """
    value = 0.5 * (one.value + other.value)
    return Estimated(value, 0.5 * math.sqrt(one.std**2 + other.std**2 + (one.value - other.value) ** 2))


def _summary(metres_per_rad: float | None, inertia: float, coulomb: float) -> str:
    if metres_per_rad is None:
        return f"{1e4 * inertia:.2f} kg·cm², {coulomb:.2g} N·m"
    return f"{inertia / metres_per_rad**2:.3g} kg, {coulomb / metres_per_rad:.2g} N"


PROCEDURE = declare(Procedure(
    key="load", step="load", does="Identify the load", order=3, run=run_load, plan=plan_within_travel("Load", 8),
    fine_feedback=True,
))  # fmt: skip
