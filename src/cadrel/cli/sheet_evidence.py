"""How often a right sheet is accused, and how often a wrong label is noticed and named. docs/evidence/sheets.md"""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from cadrel.cli.sheet_draws import DrawnSheet, draw_sheet
from cadrel.core.errors import CoreError
from cadrel.core.motor import Check, check_motor
from cadrel.core.parameters import Entry

SCATTER = (0.0, 0.02, 0.05, 0.10)
WANTED_PLAIN, WANTED_WARM = 0.02, 0.05  # of right sheets, accused at ±5 %


@dataclass(slots=True)
class Accused:
    """Right sheets of one row of the table."""

    sheets: int = 0
    wrong: int = 0  # called wrong
    look: int = 0  # only said to be worth a look

    def add(self, checks: list[Check]) -> None:
        """Count a sheet."""
        self.sheets += 1
        states = {c.state for c in checks}
        self.wrong += "wrong" in states
        self.look += "wrong" not in states and "look" in states


@dataclass(slots=True)
class Noticed:
    """Wrong labels that another printed value can check."""

    labels: int = 0
    noticed: int = 0
    named: int = 0  # the right label is among what is offered


def _checks(values: dict[str, Entry]) -> list[Check]:
    try:
        return check_motor(values)
    except CoreError as error:  # out of bounds, or no whole number of pole pairs: a sentence beside the field
        return [Check("Entry", "wrong", error.text)]


def accusations(sheets: list[DrawnSheet], *, scatter: float, digits: int, warm: bool, seed: int) -> Accused:
    """Return how right sheets fare."""
    rng = np.random.default_rng([seed, int(1000 * scatter), digits, warm])
    found = Accused()
    for sheet in sheets:
        if warm and "sheet.resistance" not in sheet.true:
            continue
        found.add(_checks(sheet.printed(rng, scatter=scatter, digits=digits, warm=warm)))
    return found


def wrong_labels(sheets: list[DrawnSheet], *, scatter: float, seed: int) -> Noticed:
    """Return how wrong labels fare, each set wrong alone."""
    rng = np.random.default_rng([seed, 77, int(1000 * scatter)])
    found = Noticed()
    for sheet in sheets:
        right = sheet.printed(rng, scatter=scatter, digits=3)
        for key, wrong in sheet.wrong_labels():
            values = {**right, key: {**right[key], "convention": wrong}}
            checks = _checks(values)  # type: ignore[arg-type]
            bad = [c for c in checks if c.state == "wrong"]
            found.labels += 1
            found.noticed += bool(bad)
            true = sheet.labels[key][1]
            found.named += any(c.key == key and c.value == true for b in bad for r in b.remedies for c in r)
    return found


def evidence(*, sheets: int, seed: int, out: Path | None) -> int:
    """Print the tables, and write them; exit status 1 if what is wanted was not reached."""
    rng = np.random.default_rng(seed)
    drawn = [draw_sheet(rng) for _ in range(sheets)]
    lines = [
        "# Sheets: right ones accused, wrong labels noticed",
        "",
        f"`bin/cadrel evidence sheets --sheets {sheets} --seed {seed}`: drawn motors of every kind whose numbers "
        "belong together, printed in any unit and convention, a part of the optional values left out. Every printed "
        "value is off by up to the scatter, evenly. \"Warm\": the resistance is that at 100 °C, and the sheet "
        "does not say so. Whole numbers, and frequency and speed on an induction motor's plate, have no scatter.",
        "",
        "## Right sheets",
        "",
        "| scatter | digits | resistance | sheets | called wrong | worth a look |",
        "| --- | --- | --- | --- | --- | --- |",
    ]  # fmt: skip
    good = True
    for warm in (False, True):
        for digits in (3, 2):
            for scatter in SCATTER:
                row = accusations(drawn, scatter=scatter, digits=digits, warm=warm, seed=seed)
                lines.append(
                    f"| ±{100 * scatter:.0f} % | {digits} | {'warm' if warm else '20 °C'} | {row.sheets} | "
                    f"{row.wrong / row.sheets:.1%} | {row.look / row.sheets:.1%} |"
                )
                if scatter == 0.05 and digits == 3:
                    good &= row.wrong / row.sheets < (WANTED_WARM if warm else WANTED_PLAIN)
    lines += [
        "",
        f"Wanted at ±5 % with three digits: under {WANTED_PLAIN:.0%}, warm under {WANTED_WARM:.0%}.",
        "",
        "## Wrong labels",
        "",
        "Each convention that another printed value of the sheet can check, set wrong alone; two within 16 % of each "
        "other, as sine peak and block commutation, count as one.",
        "",
        "| scatter | wrong labels | noticed | right one offered |",
        "| --- | --- | --- | --- |",
    ]
    for scatter in SCATTER[:3]:
        seen = wrong_labels(drawn, scatter=scatter, seed=seed)
        lines.append(
            f"| ±{100 * scatter:.0f} % | {seen.labels} | {seen.noticed / seen.labels:.1%} | "
            f"{seen.named / seen.labels:.1%} |"
        )
    text = "\n".join(lines) + "\n"
    print(text)
    if out is not None:
        out.write_text(text)
    return 0 if good else 1
