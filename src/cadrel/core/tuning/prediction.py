"""What gains would give on the identified plant, before the drive gets them."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from cadrel.core.control import (
    Gains,
    LoopName,
    TwoMass,
    Winding,
    feedback_filter,
    loop_responses,
    position_open,
    position_over_speed,
    read_margins,
    spectral_radius,
    step_response,
    velocity_open,
    velocity_plant,
)
from cadrel.core.identification import IdentifiedPlant, TotalLoad
from cadrel.core.response import curve_of

FloatArray = NDArray[np.float64]
GRIDS: dict[LoopName, tuple[float, float]] = {  # [Hz]
    "current": (10.0, 7000.0), "velocity": (1.0, 1900.0), "position": (0.5, 1900.0)
}  # fmt: skip
STEP_SECONDS: dict[LoopName, float] = {"current": 0.006, "velocity": 0.12, "position": 0.25}


SETTLES = 0.1  # [s] after the ramp, in which a loop comes to rest
NOT_SETTLED = 0.2  # of a step, after the whole stop: such a loop is none to predict with


@dataclass(frozen=True, slots=True, eq=False)
class StopTrace:
    """How a stop goes."""

    period: float  # [s]
    speed: FloatArray  # [rad/s]
    torque: FloatArray  # [N·m] of the motor


def load_of(plant: IdentifiedPlant, values: Mapping[str, float]) -> tuple[TwoMass, str]:
    """Return the load to predict with, and where it comes from."""
    if plant.springy is not None:
        return plant.springy.load, "identified model"
    viscous = plant.total.viscous_total if plant.total is not None else 0.0
    origin = "identified inertia, rigid" if plant.total is not None else "entered inertia, rigid"
    return TwoMass(inertia_motor=values["load.inertia"], viscous=viscous), origin


def predict_stop(
    load: TwoMass, winding: Winding, gains: Gains, total: TotalLoad, *, speed: float, rate: float, most: float
) -> StopTrace:
    """Return speed and torque of a stop from `speed` on a ramp, as the velocity loop follows it. [rad/s], [rad/s²]

    Parameters
    ----------
    most : float
        Torque that the motor gives at most. [N·m]

    Notes
    -----
    The loop is linear: its answer to a ramp is the sum of its step. The torque is what accelerates the whole load,
    and carries it. An unstable loop stops on its ramp.
    """
    period, falls = gains.rates.velocity, abs(speed) / rate
    n = max(round(falls / period), 1)
    samples = n + round(SETTLES / period)
    _, step = step_response("velocity", load, winding, gains, duration=samples * period)
    if abs(step[-1] - 1) > NOT_SETTLED:
        step = np.ones(samples)
    followed = np.cumsum(step)[:samples] * (-speed / n)
    followed[n:] -= np.cumsum(step)[: samples - n] * (-speed / n)
    turning = speed + followed
    torque = (
        total.inertia * np.gradient(turning, period) + total.viscous_total * turning + total.constant
        + total.coulomb * np.tanh(turning / (0.01 * abs(speed)))
    )  # fmt: skip
    return StopTrace(period, turning, np.clip(torque, -most, most))


def predict_loop(
    loop: LoopName, load: TwoMass, winding: Winding, gains: Gains, plant: IdentifiedPlant
) -> dict[str, Any]:
    """Return curves, margins and the unit step of a loop, on the model and, where there is one, the measured plant."""
    low, high = GRIDS[loop]
    f = np.geomspace(low, high, 330)
    responses = loop_responses(load, winding, gains, f, (loop,))[loop]
    radius = spectral_radius(loop, load, winding, gains)
    margins = read_margins(responses.open, f, closed_loop=responses.closed)
    time, y = step_response(loop, load, winding, gains, duration=STEP_SECONDS[loop])
    every = max(1, len(time) // 400)
    stable = radius < 1
    result = {
        "open": curve_of(f, responses.open),
        "closed": curve_of(f, responses.closed),
        "sensitivity": curve_of(f, responses.sensitivity),
        "stable": stable,
        "margins": margins.as_dict(),
        "step": {"t": time[::every].tolist(), "y": np.clip(y, -5, 5)[::every].tolist()},
    }
    if loop != "current":
        result["plant"] = curve_of(f, velocity_plant(load, winding, gains, f))
        _on_measured(loop, gains, winding, plant, result)
    return result


def _on_measured(loop: str, gains: Gains, winding: Winding, plant: IdentifiedPlant, result: dict[str, Any]) -> None:
    """The same gains on the measured plant, where one is kept."""
    if plant.springy is None:
        return
    f, value = plant.springy.measured.frequency, plant.springy.measured.value
    if loop == "velocity":
        opened = velocity_open(value, gains, f)
    else:
        opened = position_open(value, gains, f, position_over_speed(plant.springy.load, winding, gains, f))
    result["measured_open"] = curve_of(f, opened)
    # Command to measured value: the filter in the velocity feedback is outside the forward path.
    closed = opened / (1 + opened) / (feedback_filter(gains, f) if loop == "velocity" else 1.0)
    result["measured_closed"] = curve_of(f, closed)
    result["measured_plant"] = curve_of(f, value)
    result["measured_margins"] = read_margins(opened, f).as_dict()
