"""The resonance swung on its own, strongly: play between motor and load shows, and how stiff the shaft is without."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from cadrel.core.control import Gains, TwoMass, feedback_filter, told_speed
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import PlantFit, Play, Swung, fit_play, fit_spring
from cadrel.core.response import estimate_both, random_multisine
from cadrel.core.response.estimate import IntArray
from cadrel.link import Recording
from cadrel.procedures.outcome import Finding, RunRecord
from cadrel.procedures.passes import one_after_the_other, to_and_fro
from cadrel.procedures.plant.excitation import LINES, PERIOD, PERIODS, answer, edge_age, speed_of_pass
from cadrel.procedures.plant.in_motion import pass_in_motion, unfiltered_mean
from cadrel.procedures.session import Session

FROM, UP_TO = 0.85, 1.5  # of the resonance as first seen: closing, it rises
HIGHEST = 700  # line: 1.37 kHz, where a sample of the speed is still a third of a period
# Times the highest line of a plant's measurement: what lies so little beyond it may be there by its play alone, and the
# lines of a swing reach further.
LITTLE_BEYOND = 1.05
MOST_LINES = 60
LEAD = PERIOD  # [samples] of the excitation before what counts: a load has to be swung up first
SWING = 0.25  # rms of the motor's speed over the bias: its direction stays
TORQUE = 0.45  # rms over the continuous torque; peaks stay below the limit
SEED = 53  # of the phases: the same experiment each time
LEAST_DAMPING = 0.005  # of steel shafts and their couplings (common practice: 0.5 to 5 %)
POINTS, POINTS_ALONG = 512, 121  # of a curve that is kept: as measured, and of the spring
SURELY = 2.0  # deviations of the closed stiffness that are believed possible


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Closed:
    """What a strong swing says of a shaft."""

    play: Play
    fit: PlantFit  # as stiff as it answered then
    run: RunRecord


def may_be_swung(session: Session, fit: PlantFit) -> bool:
    """Whether a fit has a resonance that lies within the lines of a plant's measurement, or little beyond."""
    highest = LINES[-1] / (PERIOD * session.rates.velocity)
    return fit.load.resonance_hz is not None and fit.load.resonance_hz < LITTLE_BEYOND * highest


def swung_closed(session: Session, gains: Gains, fit: PlantFit, share: float) -> Closed | None:
    """Swing the resonance as strongly as the motor's direction allows, once each way.

    Returns None where no resonance was seen, or the answer is too faint to say anything of it.
    """
    resonance = fit.load.resonance_hz
    step = 1 / (PERIOD * session.rates.velocity)
    if resonance is None or not may_be_swung(session, fit):
        return None
    low, high = math.ceil(FROM * resonance / step), min(math.floor(UP_TO * resonance / step), HIGHEST)
    lines = np.arange(max(low, int(LINES[0])), high + 1)
    lines = lines[:: max(1, math.ceil(len(lines) / MOST_LINES))]
    try:
        return _swung(session, gains, fit, lines, share)
    except UnusableInput as faint:
        session.note(f"Swung on its own the resonance does not tell of play: {faint.text}")
        return None


def _strongest(session: Session, gains: Gains, fit: PlantFit, lines: IntArray) -> float:
    """Return the torque, rms, that keeps motor and load going one way. [N·m]"""
    unit = float(np.sqrt(np.mean(answer(fit.load, fit.winding, gains, lines) ** 2)))
    rated = session.axis.motor.torque_constant * session.current_continuous
    return min(SWING * _speed(session) / unit, TORQUE * rated)


def _speed(session: Session) -> float:
    """Return the speed of a pass that swings the resonance. [rad/s]"""
    return speed_of_pass(session, LEAD + PERIODS * PERIOD)


def _swung(session: Session, gains: Gains, fit: PlantFit, lines: IntArray, share: float) -> Closed:
    """Swing on these lines, and fit spring and gap. Raises `UnusableInput` where they do not tell them."""
    rms = _strongest(session, gains, fit, lines)
    session.enter(f"the resonance alone, at {rms:.3g} N·m", share)
    bias = _speed(session)
    home = float(session.drive.status()["position"])
    rng = np.random.default_rng(SEED)
    finely: list[Recording] = []  # at every tick
    with to_and_fro(session, "velocity", home, speed=bias):
        for direction in (1.0, -1.0):
            signal = random_multisine(lines, n_samples=PERIOD, rms=rms, rng=rng)
            finely.append(pass_in_motion(session, signal, home, direction * bias, lead=LEAD, finer=session.rates.ticks))
    records = [_at_samples(r, session.rates.ticks) for r in finely]
    parts = [
        estimate_both(
            r["excitation"], r["torque_cmd"], r["velocity"], lines=lines, period=PERIOD,
            rate_hz=1 / session.rates.velocity,
        )
        for r in records
    ]  # fmt: skip
    measured = unfiltered_mean(session, gains, parts, bias)
    found, _ = fit_spring(measured, gains, near=fit, edge_age=edge_age(session, bias))
    assert found.load.resonance_hz is not None
    play = fit_play(
        _as_swung(session, gains, finely), inertia_motor=found.load.inertia_motor,
        inertia_load=found.load.inertia_load, resonance_hz=found.load.resonance_hz,
    )  # fmt: skip
    whole = one_after_the_other(records)
    run = RunRecord(
        kind="plant_response", title="The resonance alone, swung strongly", period=whole.period,
        channels=whole.channels, excitation={"point": "torque", "bias": bias, "repeat": PERIOD},
        curves={"shaft": _curve(play)},
    )  # fmt: skip
    return Closed(play=play, fit=found, run=run)


def _as_swung(session: Session, gains: Gains, finely: list[Recording]) -> Swung:
    """Return the periods of all passes."""
    ticks = session.rates.ticks
    period = ticks * finely[0].period
    f = np.maximum(np.fft.rfftfreq(PERIOD, period), 1e-3)
    current = np.concatenate([r["i_q"].reshape(PERIODS, -1) for r in finely])
    speed = np.concatenate([r["velocity"][::ticks].reshape(PERIODS, -1) for r in finely])
    return Swung(
        torque=session.torque_constant * current, speed=speed, period=period,
        filtered=told_speed(gains, f) * feedback_filter(gains, f),
    )  # fmt: skip


def _at_samples(finely: Recording, ticks: int) -> Recording:
    """Return what was recorded at every tick as the velocity loop samples it."""
    return Recording(ticks * finely.period, {k: v[::ticks] for k, v in finely.channels.items()})


def _curve(play: Play) -> dict[str, Any]:
    """Torque through the shaft over its twist, as it swung and as the spring behind its gap has it, plain."""
    twist, torque = (v[:: len(v) // POINTS] for v in (play.twist, play.torque))
    along = np.linspace(twist.min(), twist.max(), POINTS_ALONG)
    half = 0.5 * play.width.value
    spring = play.stiffness.value * np.sign(along) * np.maximum(np.abs(along) - half, 0.0)
    return {
        "twist_deg": np.degrees(twist).round(6).tolist(), "torque": torque.round(9).tolist(),
        "along_deg": np.degrees(along).round(6).tolist(), "spring": spring.round(9).tolist(), "has_gap": play.is_seen,
    }  # fmt: skip


def rise_of(closed: Closed | None, fit: PlantFit) -> float:
    """Return the share by which a resonance lies higher than in a fit once its play is closed, at the most believed."""
    if closed is None or fit.load.stiffness is None or closed.fit.load.stiffness is None:
        return 0.0
    stiffest = closed.fit.load.stiffness
    if closed.play.is_seen:
        stiffest = max(stiffest, closed.play.stiffness.value + SURELY * closed.play.stiffness.std)
    return max(math.sqrt(stiffest / fit.load.stiffness) - 1.0, 0.0)


def damping_of(closed: Closed | None, fit: PlantFit) -> float:
    """Return the share of a fit's damping that is left once its play is closed; 1 where none is seen.

    No less than what any shaft with its couplings has: a swing that tells of none has not seen it.
    """
    if closed is None or not closed.play.is_seen or fit.load.damping <= 0.0:
        return 1.0
    load = closed.fit.load
    reduced = load.inertia_motor * load.inertia_load / load.inertia
    least = 2 * LEAST_DAMPING * math.sqrt(closed.play.stiffness.value * reduced)
    return min(max(closed.play.damping, least) / fit.load.damping, 1.0)


def play_findings(closed: Closed | None, load: TwoMass, *, run: int) -> list[Finding]:
    """Return the gap between motor and load, at the motor, and where the load's resonance lies with it closed.

    Nothing where none stands out; where its width is too much in doubt for a number, what it does not exceed.
    """
    if closed is None or not closed.play.is_seen or not load.resonance_hz or not load.stiffness:
        return []
    play = closed.play
    highest = math.sqrt(play.stiffness.value / load.stiffness) * load.resonance_hz
    share = 0.5 * play.stiffness.std / play.stiffness.value
    what = "Play between motor and load, at the motor"
    width = (
        Finding(kind="play", label=what, value=math.degrees(play.width.value), unit="°",
                std=math.degrees(play.width.std), run=run)
        if play.is_measured
        else Finding(kind="play_bound", label=f"{what}, at most", value=math.degrees(play.at_most), unit="°", run=run)
    )  # fmt: skip
    return [
        width,
        Finding(
            kind="closed_resonance", label="Resonance, play closed", value=highest, unit="Hz", std=share * highest,
            run=run,
        ),
    ]  # fmt: skip
