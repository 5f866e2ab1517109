"""How surely the lines of a measured plant are known, and what is told where too few are."""

import math

import numpy as np

from cadrel.core.control import Gains, velocity_open
from cadrel.core.parameters import field_of
from cadrel.core.response import (
    FrequencyResponse,
)
from cadrel.procedures.errors import AnswerInNoise
from cadrel.procedures.plant.excitation import (
    BIAS_SHARE,
    PASSES,
    Excitation,
    bias_speed,
    frequency_of,
    most_by_torque,
    most_by_voltage,
)
from cadrel.procedures.session import Session

FEWEST_PASSES = 2  # one each way: where lines are sure after so many, no more are run
MOST_PASSES = 40  # where the noise of the device asks for more, each as long as the others
HOPELESS = 2.0  # times the most passes: what asks for more is not tried at all
PRECISE = 0.06  # standard deviation over value of a line that may prove or propose something: half a decibel
ENOUGH = 0.6  # share of the lines that must be so
SURE = 0.8  # share of the lines that must be so for a measurement to end early
FAINTLY = 0.15  # of a line beyond the others: enough to tell what rings there
SENSITIVITY = 0.03  # standard deviation of a loop's sensitivity, of which peaks of 1.4 to 2 are asked: a fiftieth of it
FEWEST = 10  # lines below which nothing is computed
# Times the travel, that a coarse device wants at the least: twice as fast, more lines are read, and none is surer.
FAR_FASTER = 5.0


def is_over(measured: FrequencyResponse, done: int, *, sure_to: float, may_drown: bool) -> bool:
    """Whether more passes would tell nothing more, as many having run one way as the other.

    Enough lines are `sure_to` a share of their value; or, where a measurement `may_drown`, noise would cover too many
    of them after all passes as well: it falls with their root.
    """
    if done < FEWEST_PASSES or done % 2:
        return False
    if _scatter(measured, SURE) <= sure_to:
        return True
    return may_drown and done < len(PASSES) and _scatter(measured, ENOUGH) > PRECISE * math.sqrt(len(PASSES) / done)


def knows_sensitivity(measured: FrequencyResponse, gains: Gains) -> bool:
    """Whether enough lines are precise, and nineteen in twenty of them tell the loop's sensitivity to `SENSITIVITY`.

    What a line scatters by matters as far as it moves 1 / (1 + L): that is by the line's own share, times both closed
    responses. Where the loop has much gain or hardly any, one of them is small.
    """
    if _scatter(measured, ENOUGH) > PRECISE:
        return False
    loop = velocity_open(measured.value, gains, measured.frequency)
    error = measured.std / np.abs(measured.value) * np.abs(loop / (1 + loop) ** 2)
    return float(np.quantile(error, 0.95)) <= SENSITIVITY


def passes_for(measured: FrequencyResponse, done: int) -> int:
    """Return how many passes make enough lines precise, noise falling with their root; those done if none would do."""
    noise = _scatter(measured, ENOUGH)
    needed = 2 * math.ceil(0.5 * done * (noise / PRECISE) ** 2)
    return min(needed, MOST_PASSES) if done < needed <= HOPELESS * MOST_PASSES else done


def is_drowned(measured: FrequencyResponse) -> bool:
    """Whether the device's noise covers the answer on too many lines."""
    return len(measured.precise(PRECISE).frequency) < ENOUGH * len(measured.frequency)


def _scatter(measured: FrequencyResponse, share: float) -> float:
    """Return the standard deviation over the value that a share of the lines keeps."""
    return float(np.quantile(measured.std / np.abs(measured.value), share)) if len(measured.frequency) else math.inf


def require_lines(session: Session, measured: FrequencyResponse, excitation: Excitation, *, share: float) -> None:
    """Raise `AnswerInNoise` where too few lines are known to a share of their value; it says what would help."""
    known = len(measured.precise(share).frequency)
    if known >= FEWEST:
        return
    noise = float(np.median(measured.std / np.abs(measured.value)))
    raise AnswerInNoise(
        few=known, lines=len(measured.frequency), noise=100 * noise, remedy=_remedy(session, excitation, noise / share)
    )


def _remedy(session: Session, excitation: Excitation, factor: float) -> str:
    """What makes the answer stronger by a factor: speed or travel agreed to, as long as the torque allows more."""
    gains = Gains.from_drive(session.values, session.rates)
    by_speed = bias_speed(session) >= 0.99 * BIAS_SHARE * session.consent.speed
    field = field_of("procedure.velocity" if by_speed else "procedure.travel")
    if excitation.rms >= 0.99 * min(
        2 * most_by_torque(session), most_by_voltage(session, frequency_of(excitation.lines, gains))
    ):
        finer = "improve the device's signal (cable, shield, amplitude), or fit a finer device."
        enough = "The torque of the excitation is as large as motor and bus allow"
        if by_speed:
            return f"{enough}: {finer}"
        # A device's steps and noise weigh less the faster it passes, and passes within little travel are slow.
        times = max(factor, FAR_FASTER)
        return f"{enough}. Raise {field} to at least {times:.1f} times, so that it passes faster; or {finer}"
    return f"Raise {field} to at least {max(factor, 1.2):.1f} times, or improve the device's signal."
