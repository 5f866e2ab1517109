"""How much a response asks for: by how much louder, in how many passes, which lines the stronger."""

import math
from dataclasses import replace

import numpy as np
from scipy.special import erfc

from cadrel.core.response import FrequencyResponse, among_neighbours
from cadrel.core.response.estimate import IntArray
from cadrel.procedures.session import FloatArray

# Of nineteen in twenty trusted lines: until then passes are added. 3° and half a decibel are asked for; that lines are
# off by alike, and by how much few passes scatter, is not among what they scatter by.
PRECISE, WRONG = math.radians(2.1), 0.05
TRUSTED = 0.9  # coherence of a line that is claimed
MOST_PASSES = 16  # where friction and noise ask for more than is usual
LOUDEST = 4.5  # times the amplitude asked for, where friction and noise cover it
STRONGEST, WEAKEST = 3.0, 0.4  # times the median line, of one that scatters more or less


def is_enough(scatter: FloatArray) -> bool:
    """Whether nineteen in twenty lines are right to `PRECISE`; `scatter` is the std of each over its value.

    That is of a complex value, half of its variance in size, half in phase. Lines differ in it: few that scatter much
    may be among those twentieth.
    """
    of_phase = scatter / math.sqrt(2)
    return bool(np.mean(erfc(PRECISE / np.maximum(math.sqrt(2) * of_phase, 1e-12))) <= WRONG)


def passes_needed(measured: FrequencyResponse, done: int) -> int:
    """Return how many passes make enough of the trusted lines precise; their scatter averages. Not over the most."""
    sure = measured.trusted(TRUSTED)
    if not len(sure.frequency):
        return done
    scatter = np.asarray(sure.std / np.abs(sure.value))
    for wanted in range(done, MOST_PASSES, 2):  # as many one way as the other
        if is_enough(scatter * math.sqrt(done / wanted)):
            return wanted
    return max(done, MOST_PASSES)


def times_needed(measured: FrequencyResponse, done: int, wanted: int) -> float:
    """Return how many times as loud makes `wanted` passes enough, of what `done` showed; `LOUDEST` where none does.

    What friction, cogging and the device add does not grow with the excitation: a line's scatter falls with it, and
    lines come to be trusted that were not.
    """
    scatter = np.asarray(measured.std / np.abs(measured.value)) * math.sqrt(done / wanted)
    doubt = 1 / np.clip(measured.coherence, 1e-6, 1.0) - 1
    for times in np.geomspace(1.0, LOUDEST, 23):
        sure = 1 / (1 + doubt / times**2) >= TRUSTED
        if sure.any() and is_enough(scatter[sure] / times):
            return float(times)
    return LOUDEST


def line_strengths(measured: FrequencyResponse, lines: IntArray, *, step: float) -> FloatArray:
    """Return how strong each line is made for those that scatter to scatter less; `step` is their spacing. [Hz]

    A line that was not read (beyond what a counted speed tells) is left as it is.
    """
    scatter = measured.std / np.maximum(np.abs(measured.value), 1e-300)
    strong = scatter / np.median(scatter)
    return np.clip(np.interp(lines * step, measured.frequency, strong, right=1.0), WEAKEST, STRONGEST)


def with_neighbours(measured: FrequencyResponse) -> FrequencyResponse:
    """Return a response whose lines scatter as they and their neighbours do: two passes tell it of no line alone."""
    scatter = np.sqrt(among_neighbours((measured.std / np.abs(measured.value)) ** 2))
    doubt = among_neighbours(1 / np.clip(measured.coherence, 1e-6, 1.0) - 1)
    return replace(measured, std=scatter * np.abs(measured.value), coherence=1 / (1 + doubt))
