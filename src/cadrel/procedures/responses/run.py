"""The procedure that measures a response when it is asked for."""

import math
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from dataclasses import replace
from typing import Any

import numpy as np

from cadrel.core.axis import START_TORQUE_FILTER_HZ, AxisModel, careful_velocity
from cadrel.core.control import Gains, Winding, read_margins
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import Chain, Estimated, fit_chain
from cadrel.core.identification.chain import MOST_MASSES
from cadrel.core.identification.mode import Mode, fit_mode
from cadrel.core.parameters import SECTIONS, default_drive_values
from cadrel.core.response import FrequencyResponse, curve_of
from cadrel.procedures.declaration import Argument, Procedure, Values, declare
from cadrel.procedures.errors import NotAllowed
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.passes import one_after_the_other
from cadrel.procedures.plant.excitation import edge_age
from cadrel.procedures.responses.effort import LOUDEST, TRUSTED
from cadrel.procedures.responses.measure import PASS_REACH, POINTS, Measured, bias_of, measure
from cadrel.procedures.responses.request import LOOPS, SIGNALS, USUAL_SHARE, Request
from cadrel.procedures.session import Session

SOFT_HZ = 8.0  # crossover of the loop while a resonance is looked at
SHAPED_BY = ("velocity.notch_frequency", *(f"velocity.section{n}_pole" for n in SECTIONS))  # at 0 they are off
SOFTENED = ("velocity.gain", "velocity.reset_time", "velocity.torque_filter", "velocity.feedback_filter", *SHAPED_BY)
MODEL_KINDS = ("resonance", "inertia", "stiffness", "damping", "delay")
SECONDS = 20.0
# Of a velocity sample, within which it is known when torque acts and when a speed was read: a microsecond or so of
# what dead time, given back, still leaves. 0.5° at 1 kHz, as much as fine devices were found off by.
TIMED = 0.005
UNITS = {"current": "A", "velocity": "N·m", "position": "rad/s"}
PLANT_DB = {"current": "dB (A per V)", "velocity": "dB (rad/s per N·m)", "position": "dB (rad per rad/s)"}


def run_response(session: Session) -> Outcome:
    """Measure plant, open and closed loop as asked for; nothing in the drive changes.

    Raises
    ------
    NotAllowed
        The band asked for is empty.
    """
    session.refresh()
    request = Request.from_arguments(session.arguments)
    if request.low >= request.high:
        raise NotAllowed(
            why=f"No line lies from {request.low:g} to {request.high:g} Hz.", remedy="Ask for a lowest line below it."
        )
    if request.moving:
        session.require_room(PASS_REACH * session.consent.travel)
    done: list[Measured] = []
    with _soft(session) if request.around and request.loop == "velocity" else nullcontext():
        for k in range(request.amplitudes):
            begins = 0.05 + 0.9 * k / request.amplitudes
            ends = 0.05 + 0.9 * (k + 1) / request.amplitudes
            done.append(measure(session, request, 2.0**k, (begins, ends)))
    mode = _look_closely(session, request, done[-1])
    chain = _modelled(session, request, done[-1])
    session.enter("done", 1.0)
    return _outcome(session, request, done, mode, chain)


@contextmanager
def _soft(session: Session) -> Iterator[None]:
    """Starting gains for as long as a resonance is looked at: a tight loop leaves nothing of the excitation there."""
    kept = {key: session.values[key] for key in SOFTENED}
    inertia = session.values["load.inertia"]
    soft = careful_velocity(inertia, session.axis.motor.inertia, SOFT_HZ)
    plain = dict.fromkeys(SHAPED_BY, 0.0) | {
        "velocity.feedback_filter": default_drive_values()["velocity.feedback_filter"]
    }
    session.write({**soft, **plain, "velocity.torque_filter": START_TORQUE_FILTER_HZ})
    session.note("Measured on starting gains; open and closed loop are those of them.")
    try:
        yield
    finally:
        session.write(kept)


def _look_closely(session: Session, request: Request, measured: Measured) -> Mode | None:
    if not request.around:
        return None
    try:
        return fit_mode(measured.plant, near=_peak_near(measured.plant, request.around))
    except UnusableInput as unseen:
        session.note(unseen.text)
        return None


def _modelled(session: Session, request: Request, measured: Measured) -> Chain | None:
    """The chain of masses that the plant of a velocity loop shows in motion; at rest friction holds it."""
    total = session.plant.total
    if request.loop != "velocity" or not request.moving or request.around or total is None:
        return None
    session.enter("fitting masses and springs", 0.97)
    try:
        return fit_chain(
            measured.plant, Winding.from_drive(session.values), Gains.from_drive(session.values, session.rates),
            inertia=total.inertia, viscous=total.viscous_total, edge_age=edge_age(session, bias_of(session, request)),
        )  # fmt: skip
    except UnusableInput as unseen:
        session.note(unseen.text)
        return None


def _of_chain(chain: Chain) -> list[Finding]:
    """Order, resonances, masses, springs and delay of the model, each with its std."""
    found = [Finding(kind="model_order", label="Masses that the data show", value=chain.order, unit="", run=0)]

    def told(kind: str, label: str, every: tuple[Estimated, ...], unit: str, factor: float = 1.0) -> None:
        for n, one in enumerate(every, 1):
            name = label if len(every) == 1 else f"{label} {n}"
            found.append(
                Finding(kind=f"model_{kind}_{n}", label=name, value=factor * one.value, unit=unit,
                        std=factor * one.std, run=0)
            )  # fmt: skip

    told("resonance", "Resonance of the model", chain.resonances, "Hz")
    told("inertia", "Mass" if chain.order == 1 else "Mass from the motor on,", chain.inertias, "kg·m²")
    told("stiffness", "Spring", chain.stiffnesses, "N·m/rad")
    told("damping", "Damping of the spring", chain.dampings, "%", 100.0)
    told("delay", "Delay beside what is known", (chain.delay,), "s")
    return found


def _peak_near(plant: FrequencyResponse, around: float) -> float:
    """Frequency of the strongest answer within a tenth of one that was asked for. [Hz]"""
    near = np.abs(plant.frequency / around - 1) < 0.1
    return float(plant.frequency[near][np.argmax(np.abs(plant.value[near]))]) if near.any() else around


def _differ(done: list[Measured]) -> float | None:
    """Largest difference of the plant between the smallest and the largest amplitude, on lines to be trusted. [dB]"""
    if len(done) < 2:
        return None
    first, last = done[0].plant, done[-1].plant
    sure = (first.coherence > TRUSTED) & (last.coherence > TRUSTED)
    if not sure.any():
        return None
    return float(np.max(np.abs(20 * np.log10(np.abs(last.value[sure] / first.value[sure])))))


def _outcome(
    session: Session, request: Request, done: list[Measured], mode: Mode | None, chain: Chain | None
) -> Outcome:
    last = done[-1]
    margins = read_margins(last.opened.value, last.opened.frequency, closed_loop=last.closed.value)
    findings = []
    metrics: dict[str, Any] = {**margins.as_dict(), "amplitudes": [m.amplitude for m in done]}
    where = "in motion" if request.moving else "at rest"
    if margins.phase_margin is not None:
        findings.append(
            Finding(kind="response_phase", label=f"Phase margin, {request.loop} loop, {where}",
                    value=margins.phase_margin, unit="rad", run=0)
        )  # fmt: skip
    if margins.bandwidth_hz is not None:
        findings.append(
            Finding(kind="response_bandwidth", label=f"Bandwidth, {request.loop} loop, {where}",
                    value=margins.bandwidth_hz, unit="Hz", run=0)
        )  # fmt: skip
    differ = _differ(done)
    if differ is not None:
        findings.append(
            Finding(kind="response_levels", label="Plant differs between amplitudes by up to", value=differ, unit="dB",
                    run=0)
        )  # fmt: skip
    if mode is not None:
        findings += [
            Finding(kind="mode_frequency", label="Resonance, looked at closely", value=mode.frequency.value, unit="Hz",
                    std=mode.frequency.std, run=0),
            Finding(kind="mode_damping", label="Its damping", value=100 * mode.damping.value, unit="%",
                    std=100 * mode.damping.std, run=0),
        ]  # fmt: skip
        metrics |= {"mode_hz": mode.frequency.value, "mode_damping": mode.damping.value, "mode_lines": mode.lines}
    modelled = {}
    if chain is not None:
        findings += _of_chain(chain)
        metrics |= {"model_misfit": chain.misfit, "model_criterion": list(chain.criterion)}
        masses = "one mass" if chain.order == 1 else f"{chain.order} masses"
        modelled = {"model": {"label": f"model, {masses}", **curve_of(chain.frequency, chain.fitted)}}
    run = RunRecord(
        kind="response",
        title=f"Response, {request.loop} loop, {where}",
        period=last.record.period,
        channels=one_after_the_other([m.record for m in done]).channels,
        excitation={
            "point": POINTS[request.loop], "signal": request.signal, "repeat": request.period(session.rates),
            "amplitudes": [m.amplitude for m in done],
        },
        metrics=metrics,
        curves={
            "loop": request.loop,
            "plant_db": PLANT_DB[request.loop],
            "responses": [_curves(_as_known(session, request, m), UNITS[request.loop]) for m in done],
            **modelled,
        },
    )  # fmt: skip
    return Outcome(
        findings=findings,
        runs=[run],
        summary=_summary(request, last, mode),
        plant=None if chain is None else chain.load,
    )


def _as_known(session: Session, request: Request, measured: Measured) -> Measured:
    """Return a loop whose plant is doubted by what it was read with as well: that scatters on no line, is off on all.

    Torque and voltage are told by current sensors that are right within a share; of a position loop both ends are
    numbers of the drive.
    """
    if request.loop == "position":
        return measured
    plant = measured.plant
    off = session.current_accuracy / math.sqrt(3)
    late = 2 * math.pi * plant.frequency * TIMED * session.rates.velocity if request.loop == "velocity" else 0.0
    doubted = np.hypot(plant.std, np.abs(plant.value) * np.hypot(off, late))
    return replace(measured, plant=replace(plant, std=doubted))


def _curves(measured: Measured, unit: str) -> dict[str, Any]:
    """Plant, open and closed loop of one amplitude as they are kept, each with its confidence band."""
    kept: dict[str, Any] = {"label": f"{measured.amplitude:.3g} {unit} rms"}
    for name, seen in (("plant", measured.plant), ("open", measured.opened), ("closed", measured.closed)):
        band = 20 * np.log10(1 + 2 * seen.std / np.maximum(np.abs(seen.value), 1e-300))
        kept[name] = {
            **curve_of(seen.frequency, seen.value, seen.coherence),
            "band_db": np.round(np.minimum(band, 40.0), 3).tolist(),  # of two standard deviations
        }
    return kept


def _summary(request: Request, last: Measured, mode: Mode | None) -> str:
    sure = int(np.count_nonzero(last.plant.coherence > TRUSTED))
    said = f"{request.loop} loop, {sure} of {len(last.plant.frequency)} lines with coherence above {TRUSTED}"
    if mode is not None:
        said += f"; {mode.frequency.value:.4g} Hz, damping {100 * mode.damping.value:.2g} %"
    return said


def _plan(axis: AxisModel, values: Values) -> Plan:
    per, unit = axis.mechanism.unit_per_rad, axis.mechanism.unit
    current = min(values["limit.current"], axis.motor.current_peak)
    travel, speed = axis.goal.travel / 2, min(axis.goal.velocity, values["limit.velocity"])
    return Plan(
        title="Frequency response", travel=travel, speed=speed, current=current, seconds=SECONDS,
        text=f"A loop is shaken by a periodic signal, at rest or while it runs to and fro within {travel * per:.4g} "
        f"{unit} at up to {speed * per:.4g} {unit}/s: by the amplitude asked for, up to {LOUDEST:g} times that where "
        f"friction and noise cover it. Nothing in the drive changes. About {SECONDS:.0f} s, up to three times as long "
        "where noise asks for more passes, several times where one resonance is looked at closely.",
    )  # fmt: skip


def _usual(value: float) -> Any:
    return lambda axis: value


PROCEDURE = declare(
    Procedure(
        key="response", step="velocity", does="Measure the response", run=run_response, plan=_plan, fine_feedback=True,
        finds=(
            "response_phase", "response_bandwidth", "response_levels", "mode_frequency", "mode_damping", "model_order",
            *(f"model_{kind}_{n}" for kind in MODEL_KINDS for n in range(1, MOST_MASSES + 1)),
        ),
        arguments=(
            Argument(key="loop", label="Loop", unit="", low=0, high=2, preset=_usual(1), whole=True, choices=LOOPS),
            Argument(key="signal", label="Signal", unit="", low=0, high=1, preset=_usual(0), whole=True,
                     choices=SIGNALS),
            Argument(key="moving", label="The axis", unit="", low=0, high=1, preset=_usual(1), whole=True,
                     choices=("at rest", "in motion")),
            Argument(key="amplitude", label="Amplitude, rms", unit="% of rated", low=0.1, high=60,
                     preset=_usual(100 * USUAL_SHARE["velocity"])),
            Argument(key="louder", label="Where noise covers it", unit="", low=0, high=1, preset=_usual(1), whole=True,
                     choices=("as asked", "louder")),
            Argument(key="amplitudes", label="Amplitudes, doubling", unit="", low=1, high=4,
                     preset=_usual(1), whole=True),
            Argument(key="low", label="From", unit="Hz", low=0.5, high=5000, preset=_usual(4)),
            Argument(key="high", label="To", unit="Hz", low=2, high=7000, preset=_usual(1000)),
            Argument(key="lines", label="Lines", unit="", low=10, high=400, preset=_usual(80), whole=True),
            Argument(key="around", label="Closely around", unit="Hz", low=0, high=1700, preset=_usual(0)),
        ),
    )
)  # fmt: skip
