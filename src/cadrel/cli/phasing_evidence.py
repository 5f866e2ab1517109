"""Commutation over drawn benches: accuracy, faults named, travel kept; as a document anyone can draw again."""

import math
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from cadrel.cli.alignment_evidence import alignment_part
from cadrel.cli.by_hand_evidence import by_hand_part
from cadrel.cli.entries_evidence import entries_part
from cadrel.cli.phasing_draws import DrawnBench, draw_phasing_bench, possible_faults, with_fault
from cadrel.cli.true_angle import TravelLink, true_error
from cadrel.core.axis import understand
from cadrel.core.errors import CadrelError
from cadrel.core.feedback import ROUND, SignalCircle, angle_error, fit_circle
from cadrel.core.parameters import Entry
from cadrel.core.simulation import FAULTS, SimulatedDrive
from cadrel.link import LinkedDrive
from cadrel.procedures import Session, WiredWrongly, find_angle, run_commutation
from cadrel.procedures.route import consent_for, load_project_values

WITHIN = {"halls": 4.0}  # [°] 95 % must be within; others 1°
BEYOND = {"halls": 8.0}  # [°] none may be accepted beyond
BEYOND_OTHERS = 5.0  # [°]
TURN = 2 * math.pi
# What may rightly be said of each fault. An empty set: the offset takes it up, proven with the usual error is right.
NAMES: dict[str, set[str]] = {
    "phases_swapped": {"direction", "halls_mirrored"},
    "phases_rotated": set(),
    "ab_swapped": {"direction"},
    "index_missing": {"index_missing"},
    "halls_permuted": {"halls_mirrored"},
    "halls_rotated": set(),
    "hall_inverted": {"hall_inverted"},
    "hall_dead": {"hall_dead"},
    "sincos_swapped": {"direction"},
    "pole_pairs": {"pole_pairs", "ratio", "flux"},
    "resolution": {"resolution", "ratio", "word_layout"},
    "mounted_reversed": {"direction"},
    "loose_coupling": {"coupling", "counts_lost"},
    "brake_closed": {"did_not_follow"},
    "heavy_load": {"did_not_follow", "too_heavy"},
    "vertical_load": {"load_pulls"},
    "stiction": {"did_not_follow"},
    "low_current": {"did_not_follow"},
    "end_stop_near": {"end_stop"},
    "stop_on_one_side": {"end_stop"},
    "phase_open": {"phase_open"},
    "unplugged": {"no_device"},
    "word_errors": {"word_errors"},
    "word_layout": {"word_layout"},
}
MAY_BE_TAKEN_UP = {"phases_rotated", "halls_rotated", "heavy_load", "stiction"}
CANCEL = {"phases_swapped", "ab_swapped", "mounted_reversed", "sincos_swapped"}  # two of them undo each other


@dataclass(frozen=True, slots=True)
class Outing:
    """How one bench went."""

    bench: DrawnBench
    status: str  # "proven", "refused"
    codes: tuple[str, ...]  # named when refused, remarked when proven
    reason: str
    error_deg: float | None  # found minus true, of a proven one
    drive_time: float  # [s]
    travel_share: float  # of what was announced
    speed_share: float  # of what was stated

    @property
    def within(self) -> bool:
        """Whether a proven offset may stand."""
        return self.error_deg is not None and abs(self.error_deg) <= BEYOND.get(self.bench.device, BEYOND_OTHERS)


def try_bench(bench: DrawnBench, *, seed: int) -> Outing:
    """Run commutation on a bench and compare with its truth."""
    simulated = SimulatedDrive("a", bench.truth, seed=seed)
    link = TravelLink(simulated)
    drive, axis = LinkedDrive(link, "a"), understand(bench.values)
    sent = load_project_values(drive, bench.values, owner="evidence")
    session = Session(drive=drive, axis=axis, consent=consent_for("commutation", axis, sent))
    begun = simulated.time
    status, reason = "refused", ""
    codes: tuple[str, ...] = ()
    error: float | None = None
    try:
        outcome = run_commutation(session)
        status, codes, error = "proven", tuple(outcome.remarks), true_error(simulated)
    except WiredWrongly as refusal:
        codes, reason = refusal.codes, refusal.parts[0]
    except CadrelError as refusal:
        codes, reason = (refusal.code,), refusal.parts[0]
    return Outing(
        bench, status, codes, reason, error, simulated.time - begun, link.furthest / session.consent.travel,
        link.fastest / session.consent.speed,
    )  # fmt: skip


def is_right(outing: Outing) -> bool:
    """Whether what was said of a bench with faults is right: named, or rightly taken up by the offset."""
    faults = set(outing.bench.truth.faults)
    if outing.status == "proven":
        cancelled = len(faults & CANCEL) == 2
        unnamed = {f for f in faults if not NAMES[f] & set(outing.codes)} - MAY_BE_TAKEN_UP
        return outing.within and (not unnamed or (cancelled and not unnamed - CANCEL))
    allowed = set().union(*(NAMES[f] for f in faults))
    if outing.bench.truth.hall_spacing == 60 and faults & {"halls_permuted", "halls_rotated"}:
        allowed.add("hall_inverted")  # among a 60° set the one is the other
    return bool(outing.codes) and set(outing.codes) <= allowed


# --- the four parts -------------------------------------------------------------------------------------------------


def accuracy(*, benches: int, seed: int) -> list[Outing]:
    """Return outings of benches without wiring faults."""
    return [try_bench(draw_phasing_bench(np.random.default_rng([seed, n])), seed=seed + n) for n in range(benches)]


def fault_benches(rng: np.random.Generator, *, pairs: int, each: int) -> Iterable[DrawnBench]:
    """Yield benches with every single fault on every device it befalls, then drawn pairs."""
    for code, fault in FAULTS.items():
        for device in fault.devices:
            for _ in range(each):
                bench = bench_that_can(rng, code, device)
                if bench is not None:
                    yield with_fault(bench, code)
    for _ in range(pairs):
        bench = _faultless(rng)
        codes = [str(c) for c in rng.choice(possible_faults(bench), size=2, replace=False)]
        yield with_fault(bench, *codes)


def _faultless(rng: np.random.Generator) -> DrawnBench:
    bench = draw_phasing_bench(rng, loaded=False)
    return replace(bench, truth=replace(bench.truth, halls_mirrored=False))


def bench_that_can(rng: np.random.Generator, code: str, device: str) -> DrawnBench | None:
    """Draw a bench with a device that a fault may befall; None where two hundred tries found none."""
    for _ in range(200):
        bench = _faultless(rng)
        if bench.device == device and code in possible_faults(bench):
            return bench
    return None


@dataclass(frozen=True, slots=True)
class Search:
    """One small-motion search."""

    found: bool
    moved_deg: float
    error_deg: float
    reason: str


def searches(*, benches: int, seed: int) -> list[Search]:
    """Return small-motion searches on axes without Halls, the offset of whose index is not used."""
    results: list[Search] = []
    n = 0
    while len(results) < benches:
        rng = np.random.default_rng([seed, 77, n])
        n += 1
        bench = draw_phasing_bench(rng, loaded=bool(rng.random() < 0.5))
        if bench.device not in ("incremental", "sincos") or bench.truth.has_halls or bench.truth.brake_torque:
            continue
        if abs(bench.truth.torque_load) > bench.truth.coulomb_motor + bench.truth.coulomb_load:
            continue
        results.append(_search(bench, seed=seed + n))
    return results


def _search(bench: DrawnBench, *, seed: int) -> Search:
    values: dict[str, Entry] = {
        **bench.values,
        "phasing.power_up": {"value": "search"},
        "feedback.index": {"value": "0"},
    }
    simulated = SimulatedDrive("a", bench.truth, seed=seed)
    link = TravelLink(simulated)
    drive, axis = LinkedDrive(link, "a"), understand(values)
    sent = load_project_values(drive, values, owner="evidence")
    session = Session(drive=drive, axis=axis, consent=consent_for("power_up", axis, sent))
    try:
        find_angle(session)
    except CadrelError as refusal:
        return Search(False, math.degrees(link.furthest * bench.truth.pole_pairs), 0.0, refusal.parts[0])
    moved = math.degrees(link.furthest * bench.truth.pole_pairs)
    return Search(True, moved, true_error(simulated), "")


def heydemann(rng: np.random.Generator) -> tuple[float, float]:
    """Return angle error before and after, of 10 % gain, 5 % offset, 5° quadrature, with noise. [°] of a period"""
    true = SignalCircle(
        amplitude=1.0, offset_cos=0.05, offset_sin=-0.05, gain=1.1, quadrature=math.radians(5)
    )  # fmt: skip
    cos, sin = true.signals(rng.uniform(0, TURN, 4000))
    noise = rng.normal(0, 0.003, (2, 4000))
    fitted = fit_circle(cos + noise[0], sin + noise[1])
    return math.degrees(angle_error(true, ROUND)), math.degrees(angle_error(true, fitted))


# --- the document ---------------------------------------------------------------------------------------------------


def phasing_evidence(*, benches: int, pairs: int, each: int, found: int, seed: int, out: Path | None) -> int:
    """Print all parts as they come and write the document; exit status 1 if a bound is broken."""
    lines = [
        "# Commutation over drawn benches",
        "",
        f"Drawn with `bin/cadrel evidence commutation --benches {benches} --pairs {pairs} --each {each} "
        f"--searches {found} --seed {seed}`. Another seed draws other benches. Errors are found minus true electrical "
        "angle; the procedure sees only what the drive recorded.",
        "",
    ]
    good = True
    for part in (_accuracy_part(benches, seed), _faults_part(pairs, each, seed), _search_part(found, seed),
                 alignment_part(found, seed), by_hand_part(found, seed), entries_part(found, seed),
                 _circle_part(seed)):  # fmt: skip
        text, passed = part
        print("\n".join(text), flush=True)
        lines += text
        good = good and passed
    lines += [f"All bounds kept: {'yes' if good else 'NO'}.", ""]
    if out is not None:
        out.write_text("\n".join(lines))
    return 0 if good else 1


def _accuracy_part(benches: int, seed: int) -> tuple[list[str], bool]:
    outings = accuracy(benches=benches, seed=seed)
    lines = [
        f"## {benches} benches without wiring faults", "",
        "Half of them with stiction up to 30 % and gravity up to 20 % of rated torque. Bounds: 95 % within 1° (Halls "
        "alone 4°), none accepted beyond 5° (8°). Travel is a share of what was announced; a load that falls with the "
        "power off is left out of it.", "",
        "| device | benches | proven | refused | 50 % within | 95 % within | worst | longest run | most travel |",
        "| --- | --- | --- | --- | --- | --- | --- | --- | --- |",
    ]  # fmt: skip
    passed = True
    for device in ("incremental", "sincos", "resolver", "serial", "halls"):
        of = [o for o in outings if o.bench.device == device]
        errors = sorted(abs(o.error_deg) for o in of if o.error_deg is not None)
        if not errors:
            continue
        at95 = errors[min(math.ceil(0.95 * len(errors)) - 1, len(errors) - 1)]
        passed = passed and at95 <= WITHIN.get(device, 1.0) and errors[-1] <= BEYOND.get(device, BEYOND_OTHERS)
        lines.append(
            f"| {device} | {len(of)} | {len(errors)} | {len(of) - len(errors)} | {errors[len(errors) // 2]:.2f}° | "
            f"{at95:.2f}° | {errors[-1]:.2f}° | {max(o.drive_time for o in of):.1f} s | "
            f"{100 * max(o.travel_share for o in of if 'load_pulls' not in o.codes):.0f} % |"
        )
    lines += ["", "Refused, and why:", ""]
    reasons = Counter(f"{', '.join(o.codes)}: {o.reason}" for o in outings if o.status == "refused")
    lines += [f"- {n} × {why}" for why, n in reasons.items()] or ["- none"]
    wrong = [o for o in outings if o.status == "refused" and o.codes != ("load_pulls",)]
    passed = passed and len(wrong) <= 0.05 * len(outings)
    passed = passed and all(o.travel_share <= 1.0 for o in outings if "load_pulls" not in o.codes)
    return [*lines, ""], passed


def _faults_part(pairs: int, each: int, seed: int) -> tuple[list[str], bool]:
    rng = np.random.default_rng([seed, 99])
    outings = [try_bench(b, seed=seed + k) for k, b in enumerate(fault_benches(rng, pairs=pairs, each=each))]
    single = [o for o in outings if len(o.bench.truth.faults) == 1]
    double = [o for o in outings if len(o.bench.truth.faults) == 2]
    lines = [
        f"## Wiring faults: {len(single)} single, {len(double)} pairs", "",
        "Right is: refused and named, nothing else accused; or, where the offset takes the fault up, proven within the "
        "bounds above.", "", "| fault | benches | right | said |", "| --- | --- | --- | --- |",
    ]  # fmt: skip
    for code, fault in FAULTS.items():
        of = [o for o in single if o.bench.truth.faults == (code,)]
        said = Counter(", ".join(o.codes) or "proven" if o.status == "refused" else "proven" for o in of)
        text = ", ".join(f"{what} {n}" for what, n in said.most_common())
        lines.append(f"| {fault.label} | {len(of)} | {sum(map(is_right, of))} | {text} |")
    shares = [sum(map(is_right, part)) / max(len(part), 1) for part in (single, double)]
    too_far = [o for o in outings if o.status == "proven" and not o.within]
    beyond = max((o.travel_share for o in outings if "vertical_load" not in o.bench.truth.faults), default=0.0)
    fastest = max((o.speed_share for o in outings if "vertical_load" not in o.bench.truth.faults), default=0.0)
    lines += [
        "", f"Single faults right: {100 * shares[0]:.1f} %. Pairs right: {100 * shares[1]:.1f} %.",
        f"Proven beyond the bound: {len(too_far)}. Most travel: {100 * beyond:.0f} % of what was announced; highest "
        f"speed: {100 * fastest:.0f} % of what was stated.", "", "Not right:", "",
    ]  # fmt: skip
    lines += [
        f"- {' + '.join(o.bench.truth.faults)} on {o.bench.device}{', linear' if o.bench.linear else ''}: {o.status} "
        f"{', '.join(o.codes)} {o.reason}" + (f" error {o.error_deg:.1f}°" if o.error_deg is not None else "")
        for o in outings if not is_right(o)
    ] or ["- none"]  # fmt: skip
    return [*lines, ""], min(shares) >= 0.95 and not too_far and beyond <= 1.0 and fastest <= 1.0


def _search_part(found: int, seed: int) -> tuple[list[str], bool]:
    tried = searches(benches=found, seed=seed)
    good = [s for s in tried if s.found]
    moved = sorted(s.moved_deg for s in tried)
    errors = sorted(abs(s.error_deg) for s in good)
    small = sum(m < 10 for m in moved) / max(len(moved), 1)
    lines = [
        f"## Small-motion search on {found} benches without Halls", "",
        f"Found on {len(good)}; moved less than 10° electrical from rest on {100 * small:.0f} %, at most "
        f"{moved[-1]:.1f}°. Error: half within {errors[len(errors) // 2]:.1f}°, 95 % within "
        f"{errors[math.ceil(0.95 * len(errors)) - 1]:.1f}°, worst {errors[-1]:.1f}°. Not found:", "",
    ]  # fmt: skip
    lines += [f"- {n} × {why}" for why, n in Counter(s.reason for s in tried if not s.found).items()] or ["- none"]
    return [*lines, ""], small >= 0.95 and errors[-1] <= BEYOND_OTHERS


def _circle_part(seed: int) -> tuple[list[str], bool]:
    before, after = heydemann(np.random.default_rng([seed, 5]))
    return [
        "## Heydemann correction", "",
        f"10 % gain, 5 % offset of both signals, 5° quadrature, 0.3 % noise, 4000 samples: {before:.2f}° of a signal "
        f"period before, {after:.3f}° after; bound 0.1°.", "",
    ], after < 0.1  # fmt: skip
