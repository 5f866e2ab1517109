"""What was asked against what was measured: the one place that says "proven".

    verdict.py    Criterion, Verdict, decide: start reading here
    loops.py      a loop's margins, measured and refined on its models, as criteria
    spread.py     the same axis drifted, lighter, heavier, gripped: what a loop must bear

Uses core.control. Knows of no run, no page, no drive.
"""

from cadrel.core.verdict.loops import AskedOfLoop, judge_loop, refined_margins, resonance_grid
from cadrel.core.verdict.verdict import Criterion, Verdict, at_least, at_most, decide, told

__all__ = [
    "AskedOfLoop",
    "Criterion",
    "Verdict",
    "at_least",
    "at_most",
    "decide",
    "judge_loop",
    "refined_margins",
    "resonance_grid",
    "told",
]
