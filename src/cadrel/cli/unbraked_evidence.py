"""Axes that hang without a brake: held by friction, or falling; part of the evidence on hanging loads."""

import re
from collections import Counter
from dataclasses import replace
from multiprocessing import Pool

import numpy as np

from cadrel.cli.commission import commission_in_process
from cadrel.cli.draws import draw_bench
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth

NUMBER = re.compile(r"\d+(\.\d+)?(e[+-]\d+)?")
HELD = (0.3, 0.9)  # of the friction that keeps it where it is
FALLS = (1.5, 3.0)


def draw_unbraked(rng: np.random.Generator, *, falls: bool) -> tuple[RigTruth, dict[str, Entry]]:
    """Return a bench whose load its friction holds, or does not; the sheet says nothing of either."""
    truth, values = draw_bench(rng)
    friction = truth.coulomb_motor + truth.coulomb_load
    share = float(rng.uniform(*(FALLS if falls else HELD)) * rng.choice([-1, 1]))
    return replace(truth, torque_load=share * friction, brake_torque=0.0), values


def _one(arguments: tuple[int, int, bool]) -> tuple[str, str]:
    number, seed, falls = arguments
    truth, values = draw_unbraked(np.random.default_rng([seed, 41, number]), falls=falls)
    result, _ = commission_in_process(values, truth, seed=seed + number)
    return result.status, result.reason


def unbraked_part(*, benches: int, seed: int, cores: int) -> list[str]:
    """Return the lines of the document: what became of axes that nothing but friction holds."""
    lines = [
        "## Without a brake",
        "",
        "| held by | benches | ended | why, where not proven |",
        "| --- | --- | --- | --- |",
    ]
    with Pool(cores) as pool:
        for name, falls in (("friction, 30 to 90 % of it", False), ("nothing: 1.5 to 3 times its friction", True)):
            ends = pool.map(_one, [(k, seed, falls) for k in range(benches)])
            states = ", ".join(f"{s} {n}" for s, n in Counter(s for s, _ in ends).most_common())
            why = Counter(NUMBER.sub("...", reason.split(". ")[0]) for _, reason in ends if reason)
            said = "; ".join(f"{n} × {text}" for text, n in why.most_common())
            lines.append(f"| {name} | {benches} | {states} | {said} |")
    return [*lines, ""]
