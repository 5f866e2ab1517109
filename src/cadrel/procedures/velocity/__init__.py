"""The velocity loop: gains proposed on what was measured, looked at, measured around, and judged.

run.py           the procedure: measure, propose until it is calm, judge; start reading here
looks.py         noise at rest, and a step from a bias
seen.py          what a proposal rests on, and what is seen of it
proposal.py      the search, on what is known
reach.py         those worth a look, by the twin; rest_foreseen.py: how that would stand
rest.py          gains under which the axis stands still
soft.py          softer ones, where a move does not settle
around.py        the position loop around them
one_try.py       one proposal: measured around and judged
tries.py         proposals, each tried until one is calm
room.py          what the next is asked for beside what the engineer asks
again.py         one that is calm, tuned once more where that promises more
report.py        one try -> runs, findings, verdict
"""
