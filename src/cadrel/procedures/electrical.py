"""R and L from the winding itself; the current loop's gains, its step and its frequency response."""

import math
from dataclasses import replace

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.control import (
    Gains,
    Margins,
    TwoMass,
    Winding,
    closed,
    current_open,
    read_margins,
    spectral_radius,
    step_response,
)
from cadrel.core.identification import Estimated, fit_admittance, unmixed
from cadrel.core.response import (
    FrequencyResponse,
    curve_of,
    estimate_response,
    folded,
    log_lines,
    measure_step,
    schroeder_multisine,
)
from cadrel.core.tuning import tune_current
from cadrel.core.verdict import Criterion, at_least, at_most, decide
from cadrel.link import Recording
from cadrel.procedures.declaration import Procedure, Values, declare
from cadrel.procedures.inverter import LEVELS, RISE, Inverter, measure_inverter, zero_sensors
from cadrel.procedures.judging import go_back_unless_proven, loop_summary
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.phasing import plan_commutation
from cadrel.procedures.phasing.vector import wait_until_still
from cadrel.procedures.session import Session

PERIOD = 1024  # [ticks] of a multisine: 64 ms
REPEATS = 7  # of it, for an admittance; the first is left out
BIAS = 0.5  # of continuous current: keeps every phase away from the dead time's kink
WRITTEN = (
    "motor.resistance", "motor.inductance", "current.gain", "current.reset_time", "current.dead_voltage",
    "current.dead_current", "current.dead_shape", "current.offset_a", "current.offset_b", "current.sensor_gain_b",
)  # fmt: skip
BANDWIDTH_TOLERANCE = 0.1  # of the bandwidth: the winding warms, and saturates with the current
CALM_PHASE, CALM_PEAK = 45.0, 2.0  # [°], [1] of the inner loop; common practice, as the loops around it rest on it
STEP_SHARE = 0.2  # of continuous current
_NO_LOAD = TwoMass(inertia_motor=1.0)  # a current step needs no mechanics
COLDEST, HOTTEST = -25.0, 160.0  # [°C] of a winding at work
STEP_TICKS = 160  # [ticks] of each half of the square wave: 10 ms


def run_current_loop(session: Session) -> Outcome:
    """Identify R and L, set the gains, and measure what they give.

    The vector is held at one angle: nothing but a small alignment moves, and with a brake not even that. Frequency
    responses come from a multisine
    injected into the closed loop at a bias current.
    """
    values = session.refresh()
    kept = {k: values[k] for k in WRITTEN}
    before = Gains.from_drive(values, session.rates)
    ic = session.current_continuous
    zeroed = zero_sensors(session)
    with session.enabled("vector", brake_closed=session.axis.has_brake):
        at = align(session, ic)
        inverter = measure_inverter(session, ic, at, zeroed)
        low = inductances_at(session, 0.3 * ic, at)
        high_d, high_q, high_runs = inductances_at(session, 0.8 * ic, at)
        # Resistance and inductance are voltage over current: they are no surer than the sensors.
        sensors = session.current_accuracy
        resistance = inverter.resistance.within(sensors)
        inductance_d, inductance_q = (
            high.doubted_by(at_low).within(sensors) for high, at_low in ((high_d, low[0]), (high_q, low[1]))
        )
        admittances = [low[2][0], *high_runs]  # d at the low current, d and q at the high one
        inductance = inductance_q  # torque is made on q; where d differs, its loop is the quicker one
        winding = Winding(resistance=resistance.value, inductance=inductance.value)
        _note_temperature(session, resistance)
        gains = tune_current(winding, before, bandwidth_hz=session.axis.current_bandwidth)
        session.write(
            {
                "motor.resistance": resistance.value,
                "motor.inductance": inductance.value,
                "current.gain": gains.current_gain,
                "current.reset_time": gains.current_reset,
            }
        )
        session.enter("current step", 0.6)
        session.drive.vector(angle=at, rate=10.0, current=BIAS * ic, rise=RISE * ic)
        session.hold(0.25)
        step = _step(session, ic)
        session.enter("frequency response", 0.75)
        response, frequency_record = _closed_response(session, ic)
    outcome = _outcome(
        session,
        winding,
        gains,
        resistance,
        (inductance_d, inductance_q, low[0]),
        inductance,
        step,
        response,
        frequency_record,
        ic,
        inverter,
        admittances,
    )
    go_back_unless_proven(session, outcome, kept)
    return outcome


def _note_temperature(session: Session, resistance: Estimated) -> None:
    """Say how warm the winding was, by its resistance: what was measured is of that, and of no other temperature."""
    motor = session.axis.motor
    warm = motor.warm_as(resistance.value)
    if COLDEST <= warm <= HOTTEST:
        session.note(
            f"By its resistance the winding stands at {warm:.0f} °C, as far as the sheet's holds: each per cent that "
            "it is off are 2.5 K."
        )
        return
    off = 100 * (resistance.value / motor.resistance - 1)
    session.note(
        f"The resistance is {abs(off):.0f} % {'above' if off > 0 else 'below'} the sheet's: no temperature of the "
        "winding explains that. Look whether the sheet's is that of a phase or of two, and which cable was entered."
    )


LONGEST_STILL = 20.0  # [s] that a heavy shaft without friction to speak of may swing before it is measured all the same
ALIGNED_AT = 12.0  # [rad/s] electrical, at which a rotor is taken to where its winding is measured


def align(session: Session, ic: float) -> float:
    """Bring rotor and vector together, and return the angle where the winding is measured. [rad]

    Behind a closed brake nothing is turned: the vector goes to where the rotor stands, so that its current makes no
    torque, and a hanging load hangs on the brake. Without one the rotor is taken to the angle of phase a, which shows
    the current sensors' gains apart: by the vector that begins where it stands, or, where Halls alone tell that too
    coarsely, by one turned through a whole electrical turn: a rotor opposite to a standing vector would not feel it.
    """
    session.enter("aligning", 0.05)
    whole = 2 * math.pi
    current, rise = LEVELS[-1] * ic, 4 * ic
    if session.axis.has_brake or (
        session.values["commutation.valid"] and not session.axis.feedback.kind.tells_sectors_only
    ):
        status = session.look()
        at = status["vector_angle"] + math.remainder(status["shaft_angle"] - status["vector_angle"], whole)
        session.drive.vector(angle=at, rate=200.0, current=0.0, rise=rise)
        session.hold(0.1)
        session.drive.vector(angle=at, rate=200.0, current=current, rise=rise)
        session.hold(0.5)
        if session.axis.has_brake:
            return float(at)
        there = whole * round(at / whole)
        session.drive.vector(angle=there, rate=ALIGNED_AT, current=current, rise=rise)
        session.hold(abs(there - at) / ALIGNED_AT + 0.3)
        wait_until_still(session, longest=LONGEST_STILL)
        return float(there)
    session.drive.vector(angle=0.0, rate=20.0, current=current, rise=rise)
    session.hold(0.6)
    session.drive.vector(angle=whole, rate=ALIGNED_AT, current=current, rise=rise)
    session.hold(0.9)
    return whole


def inductances_at(session: Session, bias: float, at: float) -> tuple[Estimated, Estimated, list[RunRecord]]:
    """L in d and q at a bias current, from the admittance above 200 Hz, and what was recorded for each."""
    session.enter(f"inductance at {bias:.2f} A", 0.35)
    session.drive.vector(angle=at, rate=10.0, current=bias, rise=RISE * session.current_continuous)
    status = session.hold(0.3)
    axis = session.axis
    beside = None
    if not axis.feedback.kind.tells_sectors_only:
        beside = math.remainder(status["shaft_angle"] - status["vector_angle"], 2 * math.pi)  # friction holds it there
    impedance = 2 * math.pi * 600 * axis.motor.inductance
    volts = min(0.08 * session.current_continuous * impedance, 0.12 * axis.bus_voltage)
    found, runs = [], []
    for key, lowest in (("d", 13), ("q", 58)):  # from 203 Hz, and 906 Hz where a rubbing rotor moves less; to 3.1 kHz
        lines = log_lines(lowest, 200, 30)
        signal = schroeder_multisine(lines, n_samples=PERIOD, rms=volts)
        record = session.excite_and_record(
            [f"v_{key}", f"i_{key}"], f"voltage_{key}", signal, divider=1, repeats=REPEATS
        )
        response = estimate_response(
            record["excitation"],
            record[f"v_{key}"],
            record[f"i_{key}"],
            lines=lines,
            period=PERIOD,
            rate_hz=1 / session.rates.current,
        )
        found.append(fit_admittance(response, moves=key == "q", tick=session.rates.current)[1])
        runs.append(
            RunRecord(
                kind="admittance",
                title=f"Admittance in {key} at {bias / math.sqrt(2):.2g} A rms",
                period=record.period,
                channels=record.channels,
                excitation={"point": f"voltage_{key}", "bias": bias, "rms": volts},
                metrics={"inductance": found[-1].as_dict()},
            )
        )
    return *unmixed(found[0], found[1], beside=beside), runs


def _step(session: Session, ic: float) -> Recording:
    size = STEP_SHARE * ic
    wave = np.concatenate([np.full(STEP_TICKS, size), np.full(STEP_TICKS, -size)])
    return session.excite_and_record(["i_d", "i_d_ref", "v_d"], "current_d", wave, divider=1, repeats=12)


def _closed_response(session: Session, ic: float) -> tuple[FrequencyResponse, Recording]:
    lines = log_lines(2, 400, 70)
    signal = schroeder_multisine(lines, n_samples=PERIOD, rms=0.07 * ic)
    record = session.excite_and_record(["i_d", "i_d_ref"], "current_d", signal, divider=1, repeats=12)
    response = estimate_response(
        record["excitation"],
        record["i_d_ref"],
        record["i_d"],
        lines=lines,
        period=PERIOD,
        rate_hz=1 / session.rates.current,
        skip=2,
    )
    return response, record


def _outcome(
    session: Session,
    winding: Winding,
    gains: Gains,
    resistance: Estimated,
    inductances: tuple[Estimated, Estimated, Estimated],
    inductance: Estimated,
    step: Recording,
    response: FrequencyResponse,
    record: Recording,
    ic: float,
    inverter: Inverter,
    admittances: list[RunRecord],
) -> Outcome:
    f = response.frequency
    measured_open = response.value / (1 - response.value)
    margins = read_margins(measured_open, f, closed_loop=response.value)
    grid = np.geomspace(f[0], f[-1], 300)
    seen = Winding(resistance=winding.resistance, inductance=inductances[0].value)  # the d axis is what was excited
    loop = current_open(seen, gains, grid)
    predicted = read_margins(loop, grid)
    time, ideal = step_response("current", _NO_LOAD, seen, gains, duration=STEP_TICKS * session.rates.current)
    size = STEP_SHARE * ic
    mean = folded(step.channels, 2 * STEP_TICKS)
    base = float(mean["i_d_ref"].mean())
    metrics = measure_step(
        session.rates.current * np.arange(STEP_TICKS, dtype=np.float64),
        mean["i_d"][:STEP_TICKS],
        start=base - size,
        target=base + size,
        band=0.05,
    )
    curve = {
        "time": time.tolist(),
        "predicted_step": (base - size + 2 * size * ideal).tolist(),
    }
    runs = [
        RunRecord(
            kind="current_step",
            title="Current step",
            period=step.period,
            channels=step.channels,
            excitation={"point": "current_d", "size": 2 * size, "repeat": 2 * STEP_TICKS},
            metrics=metrics.as_dict(),
            curves=curve,
        ),
        RunRecord(
            kind="current_response",
            title="Current loop, frequency response",
            period=record.period,
            channels=record.channels,
            excitation={"point": "current_d", "repeat": PERIOD},
            metrics=margins.as_dict(),
            curves={
                "loop": "current",
                "measured": curve_of(f, response.value, response.coherence),
                "measured_open": curve_of(f, measured_open, response.coherence),
                "predicted": curve_of(grid, closed(loop)),
                "predicted_open": curve_of(grid, loop),
                "predicted_margins": predicted.as_dict(),
            },
        ),
        *inverter.runs,
        *admittances,
    ]
    session.enter("done", 1.0)

    def finding(kind: str, label: str, value: Estimated, unit: str, run: int) -> Finding:
        return Finding(kind=kind, label=label, value=value.value, unit=unit, std=value.std, run=run)

    d, q, at_low = inductances
    findings = [
        finding("resistance", "Phase resistance", resistance, "ohm", 2),
        finding("inductance", "Phase inductance", inductance, "H", 6),
        finding("inductance_d", "Inductance d", d, "H", 5),
        finding("inductance_q", "Inductance q", q, "H", 6),
        finding("inductance_low", "Inductance d at low current", at_low, "H", 4),
        *inverter.findings(run=2),
    ]
    if margins.bandwidth_hz is not None:
        found = Finding(
            kind="current_loop", label="Current-loop bandwidth", value=margins.bandwidth_hz, unit="Hz", run=1
        )
        findings.insert(0, found)
    return Outcome(
        findings=findings,
        verdict=decide("current_loop", _criteria(session, margins, predicted, winding, gains), run=1),
        changes={key: session.values[key] for key in WRITTEN},
        runs=runs,
        margins={"current": {"measured": margins.as_dict(), "predicted": predicted.as_dict()}},
        summary=loop_summary(margins),
    )


def _criteria(
    session: Session, measured: Margins, predicted: Margins, winding: Winding, gains: Gains
) -> list[Criterion]:
    """The bandwidth asked for, and calm: the worse of measurement and model, and eigenvalues."""
    wanted = session.axis.current_bandwidth
    radius = spectral_radius("current", _NO_LOAD, winding, gains)
    peaks = [("measured", measured.sensitivity_peak), ("model", predicted.sensitivity_peak)]
    source, peak = max(peaks, key=lambda p: p[1])
    phase = None if measured.phase_margin is None else math.degrees(measured.phase_margin)
    return [
        at_least("bandwidth", wanted, measured.bandwidth_hz, unit="Hz", tolerance=BANDWIDTH_TOLERANCE),
        at_least("phase margin", CALM_PHASE, phase, unit="°"),
        at_most("sensitivity peak", CALM_PEAK, peak, source=source),
        at_most("spectral radius", 1.0, radius, source="model", tolerance=0.0),
    ]


CURRENT_SECONDS = 9.0  # of drive time, about


def _plan(axis: AxisModel, values: Values) -> Plan:
    turning = plan_commutation(axis).slower_than(values["limit.velocity"])
    if axis.has_brake:
        return replace(
            turning, title="Current loop", seconds=CURRENT_SECONDS,
            text=f"Current flows behind the closed brake, about {CURRENT_SECONDS:.0f} s: the axis should not move.",
        )  # fmt: skip
    return replace(
        turning, title="Current loop", seconds=CURRENT_SECONDS,
        text=f"The motor turns by up to one and a half electrical turns ({540 / axis.motor.pole_pairs:.0f}° of its "
        f"shaft) to align, then stands under current, about {CURRENT_SECONDS:.0f} s.",
    )  # fmt: skip


PROCEDURE = declare(
    Procedure(key="current", step="current", does="Measure and tune", order=2, run=run_current_loop, plan=_plan)
)
