"""Identification and response over axes as machines are, against the truth; what was done is not done again."""

import math
import re
from collections import Counter
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from cadrel.bench import DriveService
from cadrel.cli.spread import rows_of
from cadrel.cli.true_angle import true_error
from cadrel.cli.true_plant import resonances, true_velocity_plant
from cadrel.cli.unkind_draws import draw_unkind
from cadrel.core.axis import understand
from cadrel.core.control import Gains, Winding
from cadrel.core.errors import CadrelError
from cadrel.core.identification import IdentifiedPlant, fit_two_mass
from cadrel.core.response import FrequencyResponse
from cadrel.core.simulation import RigTruth, SimulatedDrive, rated_torque
from cadrel.core.simulation.unkind import COPPER, MAGNET
from cadrel.link import LinkedDrive, LocalLink
from cadrel.procedures import PROCEDURES, Outcome, Session
from cadrel.procedures.plant.excitation import edge_age
from cadrel.procedures.responses.measure import bias_of
from cadrel.procedures.responses.request import Request
from cadrel.procedures.route import load_project_values

STEPS = ("commutation", "current", "load", "response")  # that an axis must come through
BESIDE = ("play", "cogging", "friction", "saturation")  # each by itself, by what was found
TRUSTED = 0.9  # coherence
# 95th percentile of the relative error that is asked for; resonances where they lie below the highest line. [%]
ASKED = {
    "resistance": 2.0, "inductance_q": 4.0, "flux": 2.0, "sensor_gain_b": 0.5, "load": 3.0, "coulomb": 6.0,
    "viscous": 30.0, "resonance": 3.0, "play": 20.0, "cogging": 20.0,
}  # fmt: skip
OR_STATED = ("viscous",)  # hardly seen beside large Coulomb friction: a doubt that covers its error does as well
# What is found beside, without a bound: friction over speed, and inductance at the largest current.
TOLD = ("friction_sliding", "friction_viscous", "friction_breakaway", "friction_stribeck", "saturation_q",
        "saturation_d", "saturation_against")  # fmt: skip
ASKED_DB, ASKED_DEG = 0.5, 3.0
WORTH_NAMING = 0.003  # of the rated torque: less cogging than that is no matter
HIGHEST = 900.0  # [Hz] a resonance above is seen by its flank only


@dataclass(slots=True)
class Identified:
    """What became of one axis."""

    bench: int
    device: str = ""
    reached: str = ""  # the last step it came through
    refused: str = ""  # why it went no further
    errors: dict[str, float] = field(default_factory=dict)  # relative
    sigmas: dict[str, float] = field(default_factory=dict)  # the same in stated std
    bound: float | None = None  # of cogging that no order showed: what it is said not to exceed, over the true one
    play_bound: float | None = None  # of play whose width stays in doubt: what it is said not to exceed, over the true
    play_unseen: bool = False  # it has play, and nothing was said of it
    unseen: bool = False  # its order is among those that are said to be hidden by the load
    offset_deg: float | None = None
    db: float | None = None  # 95th percentile of the response's error on lines to be trusted
    deg: float | None = None
    has_play: bool = False
    covered: float | None = None  # share of those lines within two stated std
    lines: int = 0
    drive_time: float = 0.0  # [s] through `STEPS`
    commuted: float = 0.0  # [s] of it, before anything was identified
    beside: dict[str, str] = field(default_factory=dict)  # why one of `BESIDE` was not done
    time_beside: float = 0.0  # [s] of those


def identify(numbered: tuple[int, int]) -> Identified:
    """Take one axis from its sheet through identification and a response, and hold all of it against the truth."""
    seed, number = numbered
    truth, values = draw_unkind(np.random.default_rng([seed, number]))
    simulated = SimulatedDrive("axis", truth, seed=seed + number)
    service = DriveService({"axis": simulated})
    drive, axis = LinkedDrive(LocalLink(service.answer, service.advance), "axis"), understand(values)
    sent = load_project_values(drive, values, owner="evidence")
    found, plant = Identified(number, truth.device, has_play=truth.backlash_deg > 0), IdentifiedPlant()
    for key in (*STEPS, *BESIDE):
        procedure = PROCEDURES[key]
        if procedure.not_for(axis):
            found.refused = procedure.not_for(axis)
            break
        session = Session(drive=drive, axis=axis, consent=procedure.consent(axis, sent), plant=plant)
        try:
            outcome = procedure.run(session)
        except CadrelError as refusal:
            if key in BESIDE:
                found.beside[key] = refusal.text
                continue
            found.refused = f"{key}: {refusal.text}"
            break
        verdict = outcome.verdict
        if verdict is not None and not verdict.is_proven:
            found.refused = f"{key}, not proven: {verdict.reason}"
            break
        plant = plant.with_part(outcome.plant)
        if key in STEPS:
            found.reached, found.drive_time = key, simulated.time
        _compare(found, _as_warm_as(simulated), outcome)
        if key == "play":
            _compare_play(found, truth, outcome)
        if key == "cogging":
            _compare_cogging(found, truth, outcome)
        if key == "commutation":
            found.offset_deg, found.commuted = true_error(simulated), simulated.time
        if key == "response":
            _compare_response(found, _as_warm_as(simulated), outcome, session)
    found.time_beside = simulated.time - found.drive_time
    return found


def _as_warm_as(simulated: SimulatedDrive) -> RigTruth:
    """Return the rig with its winding and magnets as warm as they are now."""
    truth, rise = simulated.truth, float(simulated.running.state.winding_rise)
    return replace(
        truth, resistance=truth.resistance * (1 + COPPER * rise), flux_linkage=truth.flux_linkage * (1 - MAGNET * rise)
    )


def _compare(found: Identified, truth: RigTruth, outcome: Outcome) -> None:
    known = {
        "resistance": truth.phase_resistance, "inductance_q": truth.inductance_q, "flux": truth.flux_linkage,
        "sensor_gain_b": 1.0 + truth.current_gain_error,
        "load": truth.inertia_motor + truth.inertia_load + truth.inertia_third,
        "coulomb": truth.coulomb_motor + truth.coulomb_load, "viscous": truth.viscous_motor + truth.viscous_load,
    }  # fmt: skip
    known |= {
        "friction_sliding": known["coulomb"], "friction_viscous": known["viscous"],
        "friction_breakaway": known["coulomb"] * truth.breakaway_ratio, "friction_stribeck": truth.stribeck_speed,
    }  # fmt: skip
    ends = {r.kind: r.metrics for r in outcome.runs if r.kind.startswith("saturation")}
    if ends:
        d = ends["saturation_d"]
        known |= _saturated(truth, q=ends["saturation"]["highest"], d=(d["lowest"], d["highest"]))
    for f in outcome.findings:
        if f.kind in known:
            found.errors[f.kind] = f.value / known[f.kind] - 1
            if f.std:
                found.sigmas[f.kind] = (f.value - known[f.kind]) / f.std


def _saturated(truth: RigTruth, *, q: float, d: tuple[float, float]) -> dict[str, float]:
    """Incremental inductances at the largest current of each sine, by the rig's own law of iron. [A] -> [H]"""
    bend, magnets = truth.saturation_current, truth.magnet_current
    if bend <= 0.0:
        return {
            "saturation_q": truth.inductance_q, "saturation_d": truth.inductance_d,
            "saturation_against": truth.inductance_d,
        }  # fmt: skip
    whole = truth.inductance_d * (1 + (magnets / bend) ** 2)
    return {
        "saturation_q": truth.inductance_q / (1 + (q / bend) ** 2),
        "saturation_d": whole / (1 + ((magnets + d[1]) / bend) ** 2),
        "saturation_against": whole / (1 + ((magnets + d[0]) / bend) ** 2),
    }


def _compare_play(found: Identified, truth: RigTruth, outcome: Outcome) -> None:
    """Its width as far as it was told, or what it is said not to exceed; a width where there is none is all wrong."""
    of, true = {f.kind: f for f in outcome.findings}, truth.backlash_deg
    if "play" in of:
        width, std = of["play"].value, of["play"].std
        found.errors["play"] = width / true - 1 if true > 0 else 1.0
        if std:
            found.sigmas["play"] = (width - true) / std
    elif "play_bound" in of:
        found.play_bound = of["play_bound"].value / true if true > 0 else math.inf
    else:
        found.play_unseen = true > 0


def _compare_cogging(found: Identified, truth: RigTruth, outcome: Outcome) -> None:
    """The largest harmonic that is worth naming: how large, and found at its order; else the bound told."""
    order, size, _ = max(truth.cogging, key=lambda wave: wave[1])
    if size < WORTH_NAMING * rated_torque(truth):
        return
    of = {f.kind: f for f in outcome.findings}
    if "cogging_order" not in of:
        if order in outcome.runs[0].metrics["unseen"]:
            found.unseen = True
        else:
            found.bound = of["cogging"].value / size
        return
    named = of["cogging_order"].value == order
    found.errors["cogging"] = of["cogging"].value / size - 1 if named else -1.0
    if named and of["cogging"].std:
        found.sigmas["cogging"] = (of["cogging"].value - size) / of["cogging"].std


def _compare_response(found: Identified, truth: RigTruth, outcome: Outcome, session: Session) -> None:
    curve = outcome.runs[0].curves["responses"][0]["plant"]
    f, coherence = np.array(curve["f"]), np.array(curve["coherence"])
    value = 10 ** (np.array(curve["db"]) / 20) * np.exp(1j * np.radians(curve["deg"]))
    std = (10 ** (np.array(curve["band_db"]) / 20) - 1) / 2 * np.abs(value)
    speed = bias_of(session, Request.from_arguments({}))
    true = true_velocity_plant(truth, session.values, f, speed_of_run=speed)
    sure = coherence > TRUSTED
    found.lines = int(sure.sum())
    if found.lines < 5:
        return
    ratio = value[sure] / true[sure]
    found.db = float(np.quantile(np.abs(20 * np.log10(np.abs(ratio))), 0.95))
    found.deg = float(np.quantile(np.abs(np.degrees(np.angle(ratio))), 0.95))
    found.covered = float(np.mean(np.abs(value[sure] - true[sure]) <= 2 * std[sure]))
    rings = [r for r in resonances(truth) if r < HIGHEST]
    if not rings:
        return
    total = session.plant.total
    try:
        fit = fit_two_mass(
            FrequencyResponse(f, value, coherence, std), Winding.from_drive(session.values),
            Gains.from_drive(session.values, session.rates), inertia=session.values["load.inertia"],
            viscous=total.viscous_total if total else 0.0,
            edge_age=edge_age(session, speed),
        )  # fmt: skip
    except CadrelError:
        return
    seen = fit.load.resonance_hz
    if seen is not None:
        nearest = min(rings, key=lambda r: abs(r / seen - 1))
        found.errors["resonance"] = seen / nearest - 1
        if fit.resonance_std:
            found.sigmas["resonance"] = (seen - nearest) / fit.resonance_std


def evidence(
    *, benches: int, seed: int, out: Path, kept: Path, queue: str | None = None, workers: int | None = None
) -> int:
    """Identify the benches that are not in `kept` yet, and write the document; exit status 1 if a bound is broken."""
    rows = rows_of(
        "identification", identify, Identified, benches=benches, seed=seed, kept=kept, queue=queue, own_workers=workers,
        said=lambda r: f"{r.device}: {r.reached} {r.refused}",
    )  # fmt: skip
    text, good = document(rows, seed=seed)
    out.write_text(text)
    print(text)
    return 0 if good else 1


def _of_quantity(key: str, rows: list[Identified], asked: str, name: str) -> tuple[str, float]:
    """One line of the table, and the 95th percentile of the error; empty where nothing was found. [%]

    Of what may be stated as well, an error that its two std cover counts as none.
    """
    errors = 100 * np.abs([r.errors[key] for r in rows if key in r.errors])
    if not len(errors):
        return "", math.nan
    sigmas = np.abs([r.sigmas[key] for r in rows if key in r.sigmas])
    within = f"{100 * float(np.mean(sigmas <= 2)):.0f} %" if len(sigmas) else "–"
    at95 = float(np.quantile(errors, 0.95))
    line = f"| {name} | {len(errors)} | {np.median(errors):.2f} % | {at95:.2f} % | {asked} | {within} |"
    if key in OR_STATED:
        uncovered = [100 * abs(r.errors[key]) for r in rows if key in r.errors and not abs(r.sigmas.get(key, 9.0)) <= 2]
        at95 = float(np.quantile([*uncovered, *[0.0] * (len(errors) - len(uncovered))], 0.95))
    return line, at95


def document(rows: list[Identified], *, seed: int) -> tuple[str, bool]:
    """Return the Markdown document, and whether every bound is kept."""
    fine = [r for r in rows if r.device != "halls"]  # which have no velocity loop, and therefore no response
    through = [r for r in fine if r.reached == STEPS[-1]]
    lines = [
        "# Identification of axes as machines are", "",
        f"`bin/cadrel evidence identification --benches {len(rows)} --seed {seed}`: ratio 0.2 to 30, one or two "
        "resonances from 40 Hz on, damping 0.5 to 5 %, backlash to 0.05°, presliding friction to 20 % of the rated "
        "torque, varying over the turn, gravity to 50 % behind a brake, cogging to 3 %, torque ripple, iron that "
        "saturates, windings that warm up, motor cables, current sensors with offset and gain error that are read "
        "beside the middle of the PWM period, eccentric scales, every kind of device, rotary and linear, five laws of "
        "dead time, sheets off by up to 10 %. From the sheet, unattended, without tuning: "
        "commutation, current loop, load and response in motion; beside, each by itself, play, cogging, friction over "
        "speed and inductance over current. The true response "
        "comes from the exact sampled system of the rig's own figures (`cli/true_plant.py`), its play closed.", "",
        f"**Through all of it: {len(through)} of {len(fine)}** "
        f"({100 * len(through) / max(len(fine), 1):.1f} %; 98 asked). Halls alone, of which nothing but commutation "
        "and current loop is asked: "
        f"{sum(r.reached == 'current' for r in rows if r.device == 'halls')} of {len(rows) - len(fine)}. Drive time, "
        f"medians: {np.median([r.drive_time - r.commuted for r in through] or [0]):.0f} s from a commutated motor to "
        f"its response (35 asked), {np.median([r.drive_time for r in through] or [0]):.0f} s with the commutation "
        f"before it, and what is beside {np.median([r.time_beside for r in through] or [0]):.0f} s.", "",
        "| quantity | found on | median | 95 % within | asked | within 2 std |",
        "| --- | --- | --- | --- | --- | --- |",
    ]  # fmt: skip
    good = len(through) >= 0.98 * len(fine)
    tight_rows, loose_rows = [r for r in rows if not r.has_play], [r for r in rows if r.has_play]
    for key, asked in ASKED.items():
        # Behind play a shaft rings lower the less it swings: what is measured there is no error of the measurement.
        of = tight_rows if key == "resonance" else rows
        line, at95 = _of_quantity(key, of, f"{asked:g} %" + " or stated" * (key in OR_STATED), key)
        if line:
            lines.append(line)
            good = good and at95 <= asked
    bounded = [r.bound for r in rows if r.bound is not None]
    for key in TOLD:
        line, _ = _of_quantity(key, rows, "–", key.replace("_", ", "))
        lines += [line] if line else []
    line, _ = _of_quantity("resonance", loose_rows, "–", "resonance, behind play, against its play closed")
    lines += [line] if line else []
    if bounded:
        held = sum(b >= 1.0 for b in bounded)
        good = good and held >= 0.9 * len(bounded)
        lines += [
            "", f"Cogging that no order showed clearly: {len(bounded)} axes. The bound told instead holds on {held}: "
            f"it is {np.median(bounded):.1f} times the true amplitude, median. The largest order is among those told "
            f"as not seen, because the load hardly lets the motor move there: {sum(r.unseen for r in rows)} axes more.",
        ]  # fmt: skip
    limited = [r.play_bound for r in rows if r.play_bound is not None]
    if limited:
        held = sum(b >= 1.0 for b in limited)
        good = good and held >= 0.9 * len(limited)
        lines += [
            "", f"Play whose width stays in doubt: {len(limited)} axes. The bound told instead holds on {held}. "
            f"Nothing is said of it on {sum(r.play_unseen for r in rows)} axes more, whose swing tells too little.",
        ]  # fmt: skip
    seen = [r for r in through if r.db is not None]
    tight, loose = [r for r in seen if not r.has_play], [r for r in seen if r.has_play]
    figures: list[tuple[str, Any, float]] = [
        ("without backlash, dB", [r.db for r in tight], ASKED_DB),
        ("without backlash, degrees", [r.deg for r in tight], ASKED_DEG),
        ("with backlash, against its play closed, dB", [r.db for r in loose], math.inf),
        ("with backlash, against its play closed, degrees", [r.deg for r in loose], math.inf),
    ]
    lines += [
        "", "On lines with coherence above 0.9, of each axis the 95th percentile:", "",
        "| | axes | median | 95 % within | asked |", "| --- | --- | --- | --- | --- |",
    ]  # fmt: skip
    for name, values, asked in figures:
        if values:
            good = good and float(np.quantile(values, 0.95)) <= asked
            lines.append(
                f"| {name} | {len(values)} | {np.median(values):.2f} | {np.quantile(values, 0.95):.2f} "
                f"| {f'{asked:g}' if math.isfinite(asked) else '–'} |"
            )
    if tight:
        covered = 100 * float(np.mean([r.covered for r in tight]))
        lines += ["", f"Within two stated std, without backlash: {covered:.0f} % of the lines."]
    lines += [
        "", "Play makes a shaft softer the smaller it swings: with it the measured response is that of this amplitude, "
        "which no linear system of the rig's figures is.",
    ]  # fmt: skip
    offsets = [abs(r.offset_deg) for r in rows if r.offset_deg is not None]
    lines += [
        "", f"Commutation: {len(offsets)} found, worst {max(offsets, default=0.0):.2f}°.", "", "Went no further:", "",
    ]  # fmt: skip
    stopped = Counter((r.device, r.refused) for r in rows if r.refused and r.device != "halls")
    lines += [f"- {n} × {device}: {why}" for (device, why), n in stopped.items()] or ["- none"]
    lines += ["", "Not done beside, of those that came through:", ""]
    left = Counter((key, why.split(". ")[0]) for r in through for key, why in r.beside.items())
    for key in BESIDE:
        of_key = [(why, n) for (k, why), n in left.items() if k == key]
        reasons = Counter({re.sub(r"[-\d.]+", "…", why): 0 for why, _ in of_key})
        for why, n in of_key:
            reasons[re.sub(r"[-\d.]+", "…", why)] += n
        lines += [f"- {n} × {key}: {why}." for why, n in reasons.items()] or [f"- {key}: none"]
    lines += ["", f"All bounds kept: {'yes' if good else 'NO'}.", ""]
    return "\n".join(lines), good
