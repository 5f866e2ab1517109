"""The whole route over axes as machines are: verdicts against the true plant's spread, stiffness against one who knows.

A proven loop is judged by an independent calculation (`true_plant.py`) with its resonances at both ends of the drift
asked for, and for stability at the least and the largest inertia as well. How stiff it is is held against
`known_plant.py`, as far as that does on the rig what was asked (`known_on_rig.py`).
"""

import math
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from cadrel.cli.at_the_load import DWELL, Moved, moved_at_the_load, with_starting_gains
from cadrel.cli.commission import Cost, commission_in_process
from cadrel.cli.known_on_rig import SLOWER, SPEED_OF_RUN, budget_of, references, stiffer_of
from cadrel.cli.known_plant import rigs_of_spread
from cadrel.cli.spread import rows_of
from cadrel.cli.true_plant import resonances, true_loops, true_position_closed, true_velocity_bandwidth
from cadrel.cli.unkind_draws import draw_at_ends, draw_unkind
from cadrel.core.axis import AxisModel, understand
from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.core.simulation.layout import TV
from cadrel.core.tuning import EASED
from cadrel.procedures.route import RouteResult

MISS = 0.10  # of what was asked: a proven loop that misses it by more is falsely proven
ASKED_PROVEN, ASKED_MEDIAN, ASKED_TENTH = 0.97, 0.85, 0.6
ASKED_LOAD_DB = 2.0
ASKED_DRIVE_TIME, ASKED_COMPUTE = 60.0, 5.0  # [s]
ON_LOAD = 20_000.0  # counts per motor turn of the device on the load, where every axis is given one


@dataclass(slots=True)
class Tuned:
    """What became of one axis."""

    bench: int
    device: str = ""
    status: str = ""
    reason: str = ""
    false: list[str] = field(default_factory=list)  # of loops called proven
    loops: dict[str, list[float]] = field(default_factory=dict)  # worst peak, phase margin [°], gain margin [dB]
    integral: float | None = None  # [N·m/rad]
    stiff: float | None = None  # integral gain over that of one who knows the plant
    stiff_at_rest: float | None = None  # over that of one who need not settle, and whose motor may sway
    quick: float | None = None  # velocity gain over it
    over_pi: float | None = None  # integral gain over that of one who knows the plant and has PI and filters alone
    wide: float | None = None  # bandwidth of the velocity loop over it, on the true plant
    conditional: bool = False  # a loop is stable on the condition that nothing takes gain from it
    sections: int = 0
    load_db: float | None = None  # peak of the load over the command, position loop closed
    settling: float | None = None  # [s] of the planned move, as measured
    at_load: list[float] | None = None  # settling at the load [s] with the starting gains, and tuned
    followed: list[float] | None = None  # following error [rad] likewise
    shaped: bool = False  # planned moves pass a notch
    rests: float | None = None  # [1] ripple at rest of the whole axis, of what was asked
    calmed: bool = False  # the reference had to be made calmer, until it rested on the rig
    eased: bool = False  # softer than its margins allow, so that the load settles
    play: list[float] | None = None  # found, its std, true; where one was found [°]
    play_missed: float | None = None  # true, where none was found [°]
    play_bound: list[float] | None = None  # what it is said not to exceed, and the true one [°]
    drive_time: float = 0.0
    compute: float = 0.0  # [s] of the processor, without what the simulated drive takes
    reachable: bool | None = None  # where a move was not accepted: whether one who knows the plant could meet its goal


def tune(numbered: tuple[int, int]) -> Tuned:
    """Commission one axis and hold its loops against the truth."""
    seed, number = numbered
    return _tuned(numbered, *draw_unkind(np.random.default_rng([seed, number])))


def tune_on_load(numbered: tuple[int, int]) -> Tuned:
    """The same axis with a device on its load, which the position loop compares."""
    seed, number = numbered
    truth, values = draw_unkind(np.random.default_rng([seed, number]))
    second: dict[str, Entry] = {
        "second.kind": {"value": "incremental"},
        "second.resolution": {"value": ON_LOAD},
        "feedback.position_from": {"value": "load"},
    }
    return _tuned(numbered, replace(truth, second_counts=ON_LOAD), values | second)


def tune_at_ends(numbered: tuple[int, int]) -> Tuned:
    """An axis of the draws at the ends of their ranges."""
    seed, number = numbered
    return _tuned(numbered, *draw_at_ends(np.random.default_rng([seed, number])))


def _tuned(numbered: tuple[int, int], truth: RigTruth, values: dict[str, Entry]) -> Tuned:
    seed, number = numbered
    cost = Cost()
    result, drive = commission_in_process(values, truth, seed=seed + number, cost=cost)
    axis = understand(values)
    found = Tuned(number, truth.device, result.status, result.reason, drive_time=drive.time, compute=cost.computing)
    for name in ("velocity", "position"):
        outcome = result.outcomes.get(name)
        if outcome is not None and outcome.verdict is not None and outcome.verdict.is_proven:
            _hold_against(found, name, truth, result, axis.robustness)
    if "velocity" in result.outcomes:
        _compare_play(found, truth, result)
    acceptance = result.outcomes.get("acceptance")
    tuned = moved_at_the_load(drive, axis) if "position" in found.loops else None
    if tuned is not None:
        _compare_at_rest(found, tuned, truth, result, axis)
    if "velocity" in found.loops:
        _compare_with_known(found, truth, result, axis, drive if tuned is not None else None)
    if acceptance is not None:
        found.settling = acceptance.acceptance.get("settling_time")
        _compare_with_start(found, tuned, drive, axis)
    return found


def _compare_at_rest(found: Tuned, moved: Moved, truth: RigTruth, result: RouteResult, axis: AxisModel) -> None:
    """The ripple of the whole axis at rest, read off the rig after its planned move, against what was asked.

    Of an axis whose move was accepted: else it was said not to be proven.
    """
    found.rests = moved.ripple / budget_of(truth, result, axis)
    if result.status != "proven":
        return
    if found.rests > 1 + MISS or moved.swings:
        found.false.append(f"ripple at rest {found.rests:.2f} of what was asked, {moved.swings} swings")


def _compare_with_start(found: Tuned, tuned: Moved | None, drive: SimulatedDrive, axis: AxisModel) -> None:
    """The planned move at the load, tuned and then with the gains that the axis started with."""
    with_starting_gains(drive, axis)
    start = moved_at_the_load(drive, axis)
    if tuned is not None and start is not None:
        found.at_load = [start.settling, tuned.settling]
        found.followed = [start.following_error, tuned.following_error]


def _hold_against(found: Tuned, name: str, truth: RigTruth, result: RouteResult, asked: Robustness) -> None:
    drifts, corners = rigs_of_spread(truth, asked)
    loops = [true_loops(rig, result.parameters, names=(name,))[name] for rig in drifts]
    margins = [loop.margins for loop in loops]
    found.conditional |= any(loop.is_conditional for loop in loops)
    peak = max(m.sensitivity_peak for m in margins)
    phase = min((math.degrees(m.phase_margin) for m in margins if m.phase_margin is not None), default=math.inf)
    gain = min((m.gain_margin_db for m in margins if m.gain_margin_db is not None), default=math.inf)
    found.loops[name] = [peak, min(phase, 180.0), min(gain, 99.0)]
    unstable = sum(not true_loops(rig, result.parameters, names=(name,))[name].is_stable for rig in corners)
    if unstable:
        found.false.append(f"{name} unstable at {unstable} of {len(corners)} corners")
    if peak > (1 + MISS) * asked.sensitivity_peak:
        found.false.append(f"{name} peak {peak:.2f}")
    if phase < (1 - MISS) * math.degrees(asked.phase_margin):
        found.false.append(f"{name} phase margin {phase:.0f}°")
    if gain < (1 - MISS) * asked.gain_margin_db:
        found.false.append(f"{name} gain margin {gain:.1f} dB")


def _compare_play(found: Tuned, truth: RigTruth, result: RouteResult) -> None:
    of = {f.kind: f for f in result.outcomes["velocity"].findings}
    if "play" in of:
        seen = of["play"]
        assert seen.std is not None
        found.play = [seen.value, seen.std, truth.backlash_deg]
    elif "play_bound" in of:
        found.play_bound = [of["play_bound"].value, truth.backlash_deg]
    elif truth.backlash_deg > 0.0:
        found.play_missed = truth.backlash_deg


def _compare_with_known(
    found: Tuned, truth: RigTruth, result: RouteResult, axis: AxisModel, drive: SimulatedDrive | None
) -> None:
    v = result.parameters
    found.integral = v["velocity.gain"] / v["velocity.reset_time"]
    found.shaped = v["position.shaping_frequency"] > 0.0
    found.eased = result.outcomes["velocity"].margins["velocity"]["limited_by"] == EASED
    found.sections = sum(v[f"velocity.section{n}_pole"] > 0.0 for n in (2, 3, 4))
    by_sections, alone = (
        references(truth, result, axis, drive, with_sections=with_sections) for with_sections in (True, False)
    )
    # Who knows the plant may leave out sections as well, where none of the loops with some does as asked.
    known, found.calmed = stiffer_of(by_sections.known, alone.known), by_sections.calmed
    if alone.known is not None:
        found.over_pi = found.integral / alone.known.integral
    resting = stiffer_of(by_sections.resting, alone.resting)
    if resting is not None:
        found.stiff_at_rest = found.integral / resting.integral
    if known is not None:
        found.stiff, found.quick = found.integral / known.integral, v["velocity.gain"] / known.gain
        speed = SPEED_OF_RUN * axis.goal.velocity
        own, best = (
            true_velocity_bandwidth(truth, values, speed_of_run=speed) for values in (v, {**v, **known.to_drive()})
        )
        found.wide = own / best
    if "acceptance" in result.outcomes and result.status != "proven" and drive is not None:
        found.reachable = known is not None
    if "position" in found.loops:
        found.load_db = _load_peak(truth, v)


def _load_peak(truth: RigTruth, values: dict[str, float]) -> float:
    """Peak of the load's motion over the commanded position, two masses, feedforward left aside. [dB]"""
    top = min(1.3 * max(resonances(truth)), 1500.0)
    f = np.geomspace(1.0, top, 3000)
    s = 2j * np.pi * f
    spring = truth.damping * s + truth.stiffness
    beyond = truth.inertia_load * s**2 + truth.viscous_load * s
    if truth.inertia_third > 0.0:
        third = truth.damping_third * s + truth.stiffness_third
        beyond = beyond + third * truth.inertia_third * s**2 / (truth.inertia_third * s**2 + third)
    shape = Gains.from_drive(values).shaping().response(np.exp(-2j * np.pi * f * TV))
    closed = true_position_closed(truth, values, f) * shape
    if values["feedback.position_device"] != 0.0:  # what is fed back is the load's own motion
        return float(20 * np.log10(np.abs(closed).max()))
    return float(20 * np.log10(np.abs(closed * spring / (beyond + spring)).max()))


def evidence(
    *, benches: int, seed: int, out: Path, kept: Path, fleet: str = "", queue: str | None = None,
    workers: int | None = None,
) -> int:  # fmt: skip
    """Work off the benches that are not in `kept` yet, and write the document; 1 if anything is falsely proven.

    `fleet` is one of `FLEETS`.
    """
    function, _ = FLEETS[fleet]
    subject = f"tuning-{fleet}" if fleet else "tuning"
    rows = rows_of(
        subject, function, Tuned, benches=benches, seed=seed, kept=kept, queue=queue, own_workers=workers,
        said=lambda r: f"{r.device}: {r.status} {r.reason[:70]} {r.false or ''}",
    )  # fmt: skip
    text = document(rows, seed=seed, fleet=fleet)
    out.write_text(text)
    print(text)
    return int(any(r.false for r in rows))


def _counted(values: Iterable[int]) -> str:
    return ", ".join(f"{value}: {n}" for value, n in sorted(Counter(values).items())) or "none"


def _of_play(rows: list[Tuned]) -> list[str]:
    """What was found of the play between motor and load."""
    seen = np.array([r.play for r in rows if r.play is not None]).reshape(-1, 3)
    bounds = [r.play_bound for r in rows if r.play_bound is not None]
    missed = sum(r.play_missed is not None for r in rows)
    there, some = seen[seen[:, 2] > 0.0], sum(true > 0.0 for _, true in bounds)
    if not len(there):
        return ["Play: none found."]
    errors = 100 * np.abs(there[:, 0] / there[:, 2] - 1)
    within = np.mean(np.abs(there[:, 0] - there[:, 2]) <= 2 * there[:, 1])
    return [
        f"Play between motor and load: measured on {len(there)} of {len(there) + missed + some} axes that have some, "
        f"median {np.median(errors):.0f} % off, 95 % within {np.quantile(errors, 0.95):.0f} % (20 asked), within two "
        f"std {100 * float(within):.0f} %; measured where there is none: {len(seen) - len(there)}. On {some} more a "
        f"bound is told, which holds on {sum(told >= true for told, true in bounds if true > 0.0)}; told where there "
        f"is none: {len(bounds) - some}. Where nothing is told the shaft twists so much beside it that it hardly "
        "softens."
    ]  # fmt: skip


def _by_play(rows: list[Tuned]) -> list[str]:
    """Stiffness where play was found, and elsewhere."""
    stiff = [(r.stiff, bool(r.play or r.play_bound)) for r in rows if r.stiff is not None]
    found, others = [s for s, has in stiff if has], [s for s, has in stiff if not has]
    if not found or not others:
        return []
    return [
        "A shaft with play is softer the less it swings. The loop keeps its margins from the softest that was seen to "
        "the closed one, and so does the reference, by the true rig's figures: median of the integral gain "
        f"{np.median(found):.2f} where play was found ({len(found)} axes), {np.median(others):.2f} on the other "
        f"{len(others)}."
    ]


def _over_pi(rows: list[Tuned]) -> list[str]:
    """How far the loop lies above the best that PI and two filters can do."""
    shares = np.array([r.over_pi for r in rows if r.over_pi is not None])
    if not len(shares):
        return []
    below = int(np.sum(shares < 1.0))
    return [
        "Beside the known plant's best PI with both filters and without sections, which keeps and bears the same: "
        f"integral gain {np.median(shares):.1f} times as much, median of {len(shares)}, at the least "
        f"{shares.min():.2f}; below it on {below} (none asked)."
    ]  # fmt: skip


def _calmed(rows: list[Tuned]) -> list[str]:
    """How the axes rest, and how often the reference had to be calmed until they did with it as well."""
    rests = [r.rests for r in rows if r.rests is not None]
    both = [(r.stiff, r.calmed) for r in rows if r.stiff is not None]
    if not rests or not both:
        return []
    held = [stiff for stiff, calmed in both if calmed]
    told = "" if not held else f", and the integral gain over it there {np.median(held):.2f}, median"
    lost = sum(r.status == "proven" and r.stiff is None for r in rows)
    none = f" On {lost} that are proven no loop of it does as asked, and nothing is compared." if lost else ""
    return [
        "Ripple of the current at rest after three strokes, read off the rig with all loops closed, of what was "
        f"asked: median {np.median(rests):.2f}, at most {max(rests):.2f}. The reference has to rest as well: on "
        f"{len(held)} of {len(both)} axes the stiffest linear loop does not, and is softened by its own shape, and "
        f"searched once more to bear more noise, until it does{told}.{none}"
    ]  # fmt: skip


def _eased(rows: list[Tuned]) -> list[str]:
    """What settling has cost of the stiffness, where the load's swing made it cost something."""
    eased = [r.stiff for r in rows if r.stiff is not None and r.eased]
    others = [r.stiff for r in rows if r.stiff is not None and not r.eased]
    if not eased or not others:
        return []
    return [
        f"What matters most is left as it is, that the planned move settles in time: on {len(eased)} axes the velocity "
        "gain is taken back for a load that swings behind its shaft, as far as a twin foresees it: median of "
        f"the integral gain {np.median(eased):.2f} there; on the other {len(others)} {np.median(others):.2f}, tenth "
        f"percentile {np.quantile(others, 0.1):.2f}."
    ]  # fmt: skip


def _of_goals(rows: list[Tuned]) -> list[str]:
    """Whether the goals that were not met could have been."""
    beyond = sum(r.reachable is False for r in rows)
    if not beyond:
        return []
    proven, met = sum(r.status == "proven" for r in rows), len(rows) - beyond
    return [
        f"On {beyond} of those not accepted the planned move is not done as asked on the rig with the known plant's "
        "velocity loop either: tried with the quickest position loop that keeps the margins around it and with "
        f"{len(SLOWER) - 1} slower ones, friction fed forward or not, without a command notch. Of the other axes "
        f"{proven} of {met} are proven ({100 * proven / max(met, 1):.0f} %).", "",
    ]  # fmt: skip


def _at_the_load(rows: list[Tuned]) -> list[str]:
    """The planned move, as the load makes it, beside that of the starting gains."""
    both = [r for r in rows if r.at_load is not None and r.followed is not None]
    if not both:
        return ["Settling at the load: not looked at."]
    settled = np.array([r.at_load for r in both])
    followed = np.array([r.followed for r in both])
    swung = settled[:, 0] > 0.0
    shares = settled[swung, 1] / settled[swung, 0] if swung.any() else np.zeros(0)
    less = followed[:, 0] / np.maximum(followed[:, 1], 1e-12)
    told = (
        "none" if not len(shares) else f"{np.median(shares):.2f} (0.5 asked), 90 % below {np.quantile(shares, 0.9):.2f}"
    )
    return [
        f"The planned move, three strokes of the rig's load (`cli/at_the_load.py`), {len(both)} axes: settled after "
        f"{1e3 * np.median(settled[:, 0]):.0f} ms with the starting gains and {1e3 * np.median(settled[:, 1]):.0f} ms "
        f"tuned, medians, of at most {1e3 * DWELL:.0f}; share of the one in the other where the load left its window "
        f"({int(swung.sum())} axes), median: {told}. Following error less by {np.median(less):.0f} times, median (20 "
        f"asked), tenth percentile {np.quantile(less, 0.1):.1f}. Command notch on {sum(r.shaped for r in rows)}."
    ]  # fmt: skip


FLEETS: dict[str, tuple[Callable[[tuple[int, int]], Tuned], list[str]]] = {
    "": (tune, ["# Tuning of axes as machines are", ""]),
    "on-load": (
        tune_on_load,
        [
            "# Tuning of axes whose position loop compares a device on the load", "",
            f"Every axis has one of {ON_LOAD:.0f} counts per motor turn; velocity is the motor's.", "",
        ],
    ),
    "at-ends": (
        tune_at_ends,
        [
            "# Tuning of axes at the ends of their ranges", "",
            "Half of all figures lie at an end of their range, windings are up to 2.5 times off beyond it, travel is a "
            "tenth to all of the usual one (`cli/unkind_draws.py`).", "",
        ],
    ),
}  # fmt: skip


def document(rows: list[Tuned], *, seed: int, fleet: str = "") -> str:
    """Return the Markdown document."""
    fine = [r for r in rows if r.device != "halls"]  # refused by name: Halls alone close no velocity loop
    proven = [r for r in fine if r.status == "proven"]
    false = [r for r in rows if r.false]
    stiff, at_rest, quick, wide = (
        np.array([getattr(r, k) for r in fine if getattr(r, k) is not None])
        for k in ("stiff", "stiff_at_rest", "quick", "wide")
    )
    peaks = np.array([r.load_db for r in fine if r.load_db is not None])
    settled = [1e3 * r.settling for r in fine if r.settling is not None]

    def quantiles(values: np.ndarray) -> str:
        if not len(values):
            return "–"
        return " / ".join(f"{np.quantile(values, q):.2f}" for q in (0.1, 0.5, 0.9))

    option = f" --{fleet}" if fleet else ""
    lines = [
        *FLEETS[fleet][1],
        f"`bin/cadrel evidence tuning{option} --benches {len(rows)} --seed {seed}`: "
        "the axes of `evidence identification`, "
        "through the whole route, unattended, from sheets off by up to 10 %. Every loop called proven is judged anew "
        "on the exact sampled system of the rig's own figures (`cli/true_plant.py`, currents large against dead time, "
        "play closed): margins with the resonances at both ends of their drift, stability at the least and the largest "
        "inertia as well. Falsely proven is one that is unstable anywhere there, or misses what was asked by more than "
        f"{100 * MISS:.0f} %.", "",
        f"**Falsely proven: {len(false)} of {len(rows)}.** Proven to the accepted move: {len(proven)} of {len(fine)} "
        f"({100 * len(proven) / max(len(fine), 1):.0f} %; {100 * ASKED_PROVEN:.0f} asked). Halls alone, refused by "
        f"name: {len(rows) - len(fine)}.", "", *_of_goals(fine),
        "Beside the loop of one who knows the plant (`cli/known_plant.py`: PI, torque and speed filter, two "
        "second-order sections, the same margins over the same drift, stable over the same inertias and as dry "
        "friction grips it, never on a condition, the same noise budget, by differential evolution of its own, once "
        "from nothing and once from the tuner's loop, the better counts; and on the rig itself "
        "(`cli/known_on_rig.py`) the axis rests with it as asked, and its move settles and follows as the goal asks):",
        "", "| | 10th percentile, median, 90th | asked |", "| --- | --- | --- |",
        f"| integral gain over the known plant's | {quantiles(stiff)} | {ASKED_TENTH} / {ASKED_MEDIAN} |",
        f"| the same over that of one whose current rests, whatever its motor and the move do | {quantiles(at_rest)} "
        "| – |",
        f"| bandwidth of the velocity loop over the known plant's | {quantiles(wide)} "
        f"| {ASKED_TENTH} / {ASKED_MEDIAN} |",
        f"| velocity gain over the known plant's | {quantiles(quick)} | – |",
        "", "Bandwidth is read on the true plant with either loop closed, where the motor's speed first falls 3 dB "
        "behind the commanded one. The gain alone tells little of it where second-order sections lift or lower what "
        "comes behind it.",
        "", "Loops that are stable on the true plant on the condition that nothing takes gain from them, as a limit "
        f"does: {sum(r.conditional for r in fine)} (none asked).",
        "", *_over_pi(fine), "", *_by_play(fine), "", *_calmed(fine), "", *_eased(fine),
        "", f"On {len(stiff)} axes; sections used, and how often: {_counted(r.sections for r in fine if r.loops)}.",
        "", f"Peak of the load over the planned position, feedforward left aside: at most {ASKED_LOAD_DB:g} dB on "
        f"{100 * float(np.mean(peaks <= ASKED_LOAD_DB)) if len(peaks) else 0:.0f} % of {len(peaks)} (95 asked), "
        f"median {np.median(peaks) if len(peaks) else 0:.1f} dB.", "",
        *_of_play(fine), "", *_at_the_load(fine), "",
        f"Settling of the planned move, measured at the motor: median {np.median(settled or [0]):.0f} ms. Drive time "
        f"of the whole route, median: {np.median([r.drive_time for r in proven] or [0]):.0f} s ({ASKED_DRIVE_TIME:.0f} "
        f"asked). What the procedures compute in it takes {np.median([r.compute for r in proven] or [0]):.1f} s of "
        f"processor time, median ({ASKED_COMPUTE:.0f} asked).", "", "Not proven:", "",
    ]  # fmt: skip
    why = Counter((r.device, r.status, r.reason) for r in fine if r.status != "proven")
    lines += [f"- {n} × {device}, {status}: {reason}" for (device, status, reason), n in why.items()] or ["- none"]
    lines += ["", "| bench | device | status | velocity: peak, phase, gain | position | stiff | false |",
              "| --- | --- | --- | --- | --- | --- | --- |"]  # fmt: skip
    for r in fine:
        cells = [
            "{:.2f}, {:.0f}°, {:.1f} dB".format(*r.loops[k]) if k in r.loops else "–" for k in ("velocity", "position")
        ]
        share = "–" if r.stiff is None else f"{r.stiff:.2f}"
        lines.append(f"| {r.bench} | {r.device} | {r.status} | {' | '.join(cells)} | {share} | {'; '.join(r.false)} |")
    return "\n".join(lines) + "\n"
