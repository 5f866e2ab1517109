"""Pairs of wrong entries that agree with each other: evidence on commutation.

Poles typed for pole pairs with twice the lines turn the vector and the counts alike; speed and travel are off by two.
"""

from collections import Counter

import numpy as np

from cadrel.cli.phasing_draws import DrawnBench, draw_phasing_bench
from cadrel.cli.true_angle import TravelLink
from cadrel.core.axis import understand
from cadrel.core.errors import CadrelError
from cadrel.core.parameters import Entry
from cadrel.core.simulation import SimulatedDrive
from cadrel.link import LinkedDrive
from cadrel.procedures import Session, WiredWrongly, run_commutation
from cadrel.procedures.route import consent_for, load_project_values

FACTOR = 2


def doubled(bench: DrawnBench, *, also_constant: bool) -> dict[str, Entry]:
    """Return the entries with twice the pole pairs and twice the lines; the back-EMF too off by 1.73 if so wished."""
    values = dict(bench.values)
    for key in ("sheet.poles", "feedback.lines"):
        values[key] = {**values[key], "value": FACTOR * float(values[key]["value"])}
    if also_constant:
        emf = values["sheet.back_emf"]
        values["sheet.back_emf"] = {**emf, "value": 3**0.5 * float(emf["value"])}
        values.pop("sheet.torque_constant", None)
    return values


def _said(bench: DrawnBench, values: dict[str, Entry], seed: int) -> str:
    simulated = SimulatedDrive("a", bench.truth, seed=seed)
    drive, axis = LinkedDrive(TravelLink(simulated), "a"), understand(values)
    sent = load_project_values(drive, values, owner="evidence")
    session = Session(drive=drive, axis=axis, consent=consent_for("commutation", axis, sent))
    try:
        outcome = run_commutation(session)
    except WiredWrongly as refusal:
        return f"refused: {', '.join(refusal.codes)}"
    except CadrelError as refusal:
        return f"refused: {type(refusal).__name__}"
    asked = [r for r in outcome.remarks if r in ("turn_not_seen", "flux")]
    return f"proven, beside it: {', '.join(asked)}" if asked else "proven, nothing said"


def entries_part(benches: int, seed: int) -> tuple[list[str], bool]:
    """Return the lines of the document, and whether nothing passed without a word."""
    lines = [
        "## Pairs of wrong entries that agree", "",
        "Twice the pole pairs with twice the lines, on rotary incremental axes; with and without an index, and without "
        "one with a back-EMF off by the square root of three as well, so that the flux hardly tells.", "",
        "| | benches | said |", "| --- | --- | --- |",
    ]  # fmt: skip
    silent = 0
    for name, index, constant in (
        ("index", True, False),
        ("no index", False, False),
        ("no index, back-EMF off", False, True),
    ):
        said: Counter[str] = Counter()
        n = 0
        while said.total() < benches // 3:
            n += 1
            bench = draw_phasing_bench(np.random.default_rng([seed, 31, n]), loaded=False)
            has_index = bench.values.get("feedback.index", {}).get("value") == "1"
            if bench.device != "incremental" or bench.linear or has_index != index:
                continue
            said[_said(bench, doubled(bench, also_constant=constant), seed + n)] += 1
        silent += said["proven, nothing said"]
        lines.append(f"| {name} | {said.total()} | {'; '.join(f'{what} {k}' for what, k in said.most_common())} |")
    return [*lines, ""], silent == 0
