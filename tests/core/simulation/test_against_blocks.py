"""The simulated drive held against the composed blocks: the same law, once as a machine's program, once as matrices."""

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import lfilter

from cadrel.core.axis import drive_values
from cadrel.core.control import Gains, Rates, TwoMass, Winding, step_response
from cadrel.core.control.filters import lowpass_pole
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.link import LinkedDrive
from tests.conftest import rig_of
from tests.core.simulation.test_devices import DEVICE_CODE, word_values

Make = Callable[..., tuple[LinkedDrive, SimulatedDrive]]
TV = Rates().velocity
KIND = {  # as fine as can be, so that quantisation hides nothing
    "incremental": {"encoder_lines": 250_000},
    "sincos": {"encoder_lines": 2500},
    "resolver": {"resolver_pairs": 2},
    "serial": {"single_turn_bits": 28, "word_latency": 93e-6},
}
SIZE = 4.0  # [rad/s], and [rad] in the position step over a hundred: far from every limit


ON_LOAD = 2.0**24  # counts per motor turn of a device on the load, where there is one


def linear_rig(device: str, second: float) -> RigTruth:
    """A rig without friction, dead time or noise: nothing is left that is not linear."""
    return rig_of(
        "tile-pusher", device=device, coulomb_motor=0.0, coulomb_load=0.0, dead_voltage=0.0, current_noise=0.0,
        current_lsb=1e-6, signal_noise=0.0, inductance_d=0.0046, inductance_q=0.0046, word_flags=0,
        word_checksum="none", second_counts=abs(second), second_inverted=second < 0.0,
        stop_low=-1e9, stop_high=1e9, **KIND[device],
    )  # fmt: skip


@pytest.fixture
def linear(make_drive: Make, pusher: dict[str, Entry]) -> Callable[..., tuple[LinkedDrive, RigTruth]]:
    def make(device: str, second: float = 0.0) -> tuple[LinkedDrive, RigTruth]:
        truth = linear_rig(device, second)
        drive, _ = make_drive(truth)
        counts = {
            "incremental": 1e6, "sincos": 4096.0 * 2500, "resolver": 2.0**22, "serial": 2.0**28,
        }[device]  # fmt: skip
        values = drive_values(pusher, drive_current_peak=truth.drive_current_peak) | {
            "motor.resistance": truth.resistance, "motor.inductance": truth.inductance_q,
            "motor.flux_linkage": truth.flux_linkage, "commutation.valid": 1.0,
            "commutation.offset": math.remainder(truth.pole_pairs * truth.index_angle, 2 * math.pi),
            "commutation.hall_offset": math.radians(truth.hall_offset_deg), "feedback.device": DEVICE_CODE[device],
            "feedback.counts": counts, "feedback.periods": 2.0 if device == "resolver" else 2500.0,
            "feedback.resolver_bandwidth": 900.0, "feedback.word_latency": truth.word_latency, "feedback.halls": 0.0,
            "feedback.index": 1.0, "velocity.gain": 0.12, "velocity.reset_time": 0.02, "position.gain": 60.0,
            "limit.following_error": 100.0, "velocity.notch_frequency": 250.0, "velocity.notch_depth": -6.0,
            # Sections 2 and 4: zeros below poles, and a low-pass; 3 is off, so that 4 comes second.
            "velocity.section2_zero": 300.0, "velocity.section2_zero_damping": 0.2, "velocity.section2_pole": 420.0,
            "velocity.section2_pole_damping": 0.6, "velocity.section4_pole": 900.0,
            "velocity.section4_pole_damping": 0.7, "feedback.second_counts": second,
            "feedback.position_device": float(second != 0.0),
        }  # fmt: skip
        drive.take_control("test")
        drive.write(values | word_values(truth))
        drive.store()
        drive.restart()
        drive.take_control("test")
        return drive, truth

    return make


def recorded_step(drive: LinkedDrive, simulated_point: str, size: float, channel: str, n: int) -> np.ndarray:
    mode = "velocity" if simulated_point == "velocity" else "position"
    drive.enable(mode, guard_low=-1e3, guard_high=1e3, guard_speed=500)
    for _ in range(10):
        drive.beat()
        drive.wait(0.02)
    drive.arm(
        ["excitation", channel], divider=4, samples=n + 8, pre=4,
        trigger={"signal": "excitation", "level": 0.5 * size, "rising": True},
    )  # fmt: skip
    drive.wait(0.01)  # until what comes before the trigger is there
    drive.excite(simulated_point, np.full(n + 40, size), divider=4, repeats=1)
    for _ in range(50):
        drive.beat()
        drive.wait(0.02)
    assert drive.recorder_state() == "done", drive.events()
    record = drive.recording()
    start = int(np.argmax(record["excitation"] != 0.0))
    return np.asarray(record[channel][start : start + n] - record[channel][start - 1])


def load_of(truth: RigTruth) -> TwoMass:
    return TwoMass(
        inertia_motor=truth.inertia_motor, inertia_load=truth.inertia_load, stiffness=truth.stiffness,
        damping=truth.damping, viscous=truth.viscous_motor, viscous_load=truth.viscous_load,
    )  # fmt: skip


@pytest.mark.parametrize("device", KIND)
def test_velocity_and_position_steps_are_those_of_the_blocks(
    linear: Callable[..., tuple[LinkedDrive, RigTruth]], device: str
) -> None:
    drive, truth = linear(device)
    if device in ("incremental", "sincos"):  # the angle comes from the index: turn past it once
        drive.enable("vector", guard_low=-1e3, guard_high=1e3, guard_speed=500)
        drive.vector(angle=0.0, rate=20, current=3, rise=10)
        for turn in (0.0, 2.2 * math.pi * truth.pole_pairs):
            drive.vector(angle=turn, rate=20, current=3, rise=10)
            for _ in range(120):
                drive.beat()
                drive.wait(0.02)
        drive.disable()
        assert drive.status()["angle_quality"] == "index"
        drive.wait(1.0)
    values = drive.read()
    gains = Gains.from_drive(values, drive.capabilities().rates)
    load = load_of(truth)
    winding = Winding.from_drive(values)
    n = 400
    for loop, size, channel in (("velocity", SIZE, "velocity"), ("position", SIZE / 100, "position")):
        seen = recorded_step(drive, loop, size, channel, n) / size
        drive.disable()
        drive.wait(0.5)
        _, expected = step_response(loop, load, winding, gains, duration=n * TV)  # type: ignore[arg-type]
        if loop == "velocity":  # the recorder has the filtered speed
            a = lowpass_pole(gains.feedback_filter_hz, period=TV)
            expected = lfilter([1 - a], [1, -a], expected)
        np.testing.assert_allclose(seen, expected, atol=0.012)
        assert seen[-1] > 0.9


# Late, and tracked: the device on the load is neither. It may count the other way, if that is entered.
@pytest.mark.parametrize(("device", "second"), [("serial", ON_LOAD), ("resolver", -ON_LOAD)])
def test_a_position_step_of_the_load_by_its_own_device_is_that_of_the_blocks(
    linear: Callable[..., tuple[LinkedDrive, RigTruth]], device: str, second: float
) -> None:
    drive, truth = linear(device, second)
    values = drive.read()
    gains = Gains.from_drive(values, drive.capabilities().rates)
    assert gains.on_load
    n = 400
    seen = recorded_step(drive, "position", SIZE / 100, "load_position", n) / (SIZE / 100)
    _, expected = step_response("position", load_of(truth), Winding.from_drive(values), gains, duration=n * TV)
    np.testing.assert_allclose(seen, expected, atol=0.004)
    # What the motor does is not what is compared: its own step is another.
    plain = replace(gains, on_load=False)
    _, other = step_response("position", load_of(truth), Winding.from_drive(values), plain, duration=n * TV)
    assert np.abs(seen - other).max() > 0.01
    status = drive.status()
    assert abs(status["following_error"]) < 1e-3
