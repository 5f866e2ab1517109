"""The angle at power-up by alignment, free and behind a brake with a load that hangs: evidence on commutation."""

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from cadrel.cli.guard_evidence import draw_hanging
from cadrel.cli.phasing_draws import draw_phasing_bench
from cadrel.cli.true_angle import TravelLink, true_error
from cadrel.core.axis import understand
from cadrel.core.errors import CadrelError
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.link import LinkedDrive
from cadrel.procedures import Session, find_angle
from cadrel.procedures.route import consent_for, load_project_values

ACCEPTED_BEYOND = 10.0  # [°] electrical: none may be accepted so far off


@dataclass(frozen=True, slots=True)
class Aligned:
    """One alignment: what it found, its own bound, and how far it moved of what was announced."""

    error_deg: float | None  # None: refused
    bound_deg: float
    share: float  # of the travel announced
    reason: str = ""


def _bare(values: dict[str, Entry]) -> dict[str, Entry]:
    """The same axis without index and Halls, its angle found by alignment."""
    off = {"feedback.index": {"value": "0"}, "feedback.halls": {"value": "0"}}
    return {**values, **off, "phasing.power_up": {"value": "alignment"}}  # type: ignore[dict-item]


def _drawn(seed: int, *, braked: bool) -> Iterator[tuple[RigTruth, dict[str, Entry], int]]:
    n = 0
    while True:
        n += 1
        rng = np.random.default_rng([seed, 5, n])
        if braked:
            truth, values, _ = draw_hanging(rng)
            yield replace(truth, halls_fitted=False), _bare(values), seed + n
            continue
        bench = draw_phasing_bench(rng, loaded=bool(rng.random() < 0.5))
        t = bench.truth
        if bench.device not in ("incremental", "sincos") or t.has_halls or t.brake_torque:
            continue
        if abs(t.torque_load) <= t.coulomb_motor + t.coulomb_load:  # what pulls harder falls with the power off
            yield t, _bare(bench.values), seed + n


def alignments(*, benches: int, seed: int, braked: bool) -> list[Aligned]:
    """Align drawn axes whose device tells no angle: behind a brake with 10 to 60 % hanging on it, or free."""
    source = _drawn(seed, braked=braked)
    return [_align(*next(source)) for _ in range(benches)]


def _align(truth: RigTruth, values: dict[str, Entry], seed: int) -> Aligned:
    simulated = SimulatedDrive("a", truth, seed=seed)
    link = TravelLink(simulated)
    drive, axis = LinkedDrive(link, "a"), understand(values)
    sent = load_project_values(drive, values, owner="evidence")
    consent = consent_for("power_up", axis, sent)
    session = Session(drive=drive, axis=axis, consent=consent)
    try:
        outcome = find_angle(session)
    except CadrelError as refusal:
        return Aligned(None, 0.0, link.furthest / consent.travel, refusal.parts[0])
    bound = float(outcome.runs[0].metrics["bound_deg"])
    return Aligned(true_error(simulated), bound, link.furthest / consent.travel)


def alignment_part(benches: int, seed: int) -> tuple[list[str], bool]:
    """Return the lines of the document, and whether the bounds are kept."""
    lines = [
        "## The angle at power-up by alignment", "",
        "No Halls, no index. Behind a brake 10 to 60 % of the rated torque hang; free axes have stiction up to 30 % "
        "and gravity up to their friction. The bound is the one the procedure states itself.", "",
        "| | benches | found | error: half within, worst | outside their bound | most travel | refused: at most |",
        "| --- | --- | --- | --- | --- | --- | --- |",
    ]  # fmt: skip
    good, reasons = True, Counter[str]()
    for name, braked in (("free", False), ("behind a brake", True)):
        tried = alignments(benches=benches, seed=seed, braked=braked)
        found = [(abs(a.error_deg), a) for a in tried if a.error_deg is not None]
        refused = [a for a in tried if a.error_deg is None]
        reasons.update(f"{name}: {a.reason}" for a in refused)
        if not found:
            lines.append(f"| {name} | {len(tried)} | 0 | – | – | – | – |")
            good = False
            continue
        errors = sorted(error for error, _ in found)
        outside = sum(error > a.bound_deg for error, a in found)
        worst = max(a.share for _, a in found)
        lines.append(
            f"| {name} | {len(tried)} | {len(found)} | {errors[len(errors) // 2]:.1f}°, {errors[-1]:.1f}° "
            f"| {outside} | {100 * worst:.0f} % | {100 * max((a.share for a in refused), default=0.0):.0f} % |"
        )
        good = good and errors[-1] <= ACCEPTED_BEYOND and worst <= 1.0
    lines += ["", "Refused:", ""]
    lines += [f"- {n} × {why}" for why, n in reasons.items()] or ["- none"]
    return [*lines, ""], good
