"""The inverter and its sensors before the winding: offsets without current, resistance and dead time from levels."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from cadrel.core.identification import (
    DeadTime,
    Estimated,
    SensorGain,
    fit_dead_time,
    fit_sensor_gain,
    resistance_from_levels,
    sensor_offsets,
)
from cadrel.core.parameters import DEAD_SHAPES
from cadrel.procedures.errors import WindingUnsteady
from cadrel.procedures.outcome import Finding, RunRecord
from cadrel.procedures.session import FloatArray, Session

LEVELS = (0.15, 0.3, 0.45, 0.6, 0.75, 0.9)  # of continuous current, all one sign: the resistance is their slope
FAINT = (0.005, 0.01, 0.02, 0.04, 0.08)  # of it: where the dead time bends
CHECKED = (0.01, 0.04, 0.15, 0.6)  # of it: looked at again with the dead time given back
ZEROED = 0.1  # [s] without current that the sensors are read
SETTLED, FAINT_SETTLED, READ = 0.12, 0.05, 0.1  # [s] at each level; a faint one moves nothing
RISE = 5.0  # times the continuous current, in a second: from level to level within 30 ms
SURE = 0.2  # std over value up to which a dead-time voltage is given back
GAIN_SURE = 0.003  # [1] std up to which the second sensor's gain is taken out: sensors are off by 0.5 to 1 %
HELPS = 0.5  # of the lost voltage may be left at the most, or nothing is given back


@dataclass(frozen=True, slots=True, kw_only=True)
class Inverter:
    """What was found of it, and the two recordings."""

    resistance: Estimated  # [ohm]
    dead_time: DeadTime | None  # none where it could not be told, or giving it back did not help
    left: float | None  # share of the lost voltage that is left while the drive gives it back
    offsets: tuple[Estimated, Estimated]  # [A] of the sensors of phases a and b
    sensor_gain: Estimated | None  # of phase b's over phase a's; none where the vector's angle does not show it
    runs: tuple[RunRecord, ...]

    def findings(self, run: int) -> list[Finding]:
        """What is claimed; `run` is the index of the first of the recordings in the outcome."""
        found = [
            Finding(kind=f"current_offset_{phase}", label=f"Sensor offset, phase {phase}", value=offset.value,
                    unit="A", std=offset.std, run=run + 1)
            for phase, offset in zip("ab", self.offsets, strict=True)
        ]  # fmt: skip
        if self.sensor_gain is not None:
            gain = self.sensor_gain
            found.append(
                Finding(kind="sensor_gain_b", label="Sensor gain, phase b over a", value=gain.value, unit="",
                        std=gain.std, run=run)
            )  # fmt: skip
        if self.dead_time is not None:
            voltage = self.dead_time.voltage
            found += [
                Finding(kind="dead_voltage", label="Dead-time voltage of a phase", value=voltage.value, unit="V",
                        std=voltage.std, run=run),
                Finding(kind="dead_current", label="Current where dead time bends", value=self.dead_time.current,
                        unit="A", run=run),
            ]  # fmt: skip
        return found


def zero_sensors(session: Session) -> tuple[tuple[Estimated, Estimated], RunRecord]:
    """Read the current sensors with the power stage off, and let the drive take off what they show."""
    session.enter("current sensors without current", 0.02)
    session.write({"current.offset_a": 0.0, "current.offset_b": 0.0, "current.sensor_gain_b": 1.0})
    session.arm(["i_d", "i_q", "angle_el"], seconds=ZEROED, divider=1)
    session.rest(1.5 * ZEROED)
    record = session.drive.recording()
    a, b = sensor_offsets(record["i_d"], record["i_q"], record["angle_el"], order=_order(session))
    session.write({"current.offset_a": a.value, "current.offset_b": b.value})
    run = RunRecord(
        kind="current_zero", title="Current sensors, power stage off", period=record.period, channels=record.channels,
        excitation={}, metrics={"offset_a": a.as_dict(), "offset_b": b.as_dict()},
    )  # fmt: skip
    return (a, b), run


def _order(session: Session) -> int:
    return -1 if session.values["motor.phase_order"] else 1


def measure_inverter(
    session: Session, continuous: float, at: float, zeroed: tuple[tuple[Estimated, Estimated], RunRecord]
) -> Inverter:
    """Hold a vector at levels of current, faint ones first, and give back what the dead time was seen to take.

    What is seen across the vector tells the second current sensor's gain over the first's; the drive takes that out,
    too, and the resistance is corrected for it.
    Whether giving back helps is measured, on levels of which half were not in the fit; where more than half of the lost
    voltage is left, the drive gives nothing back.

    Raises
    ------
    WindingUnsteady
        The voltages do not rise evenly with the current.
    """
    session.enter("resistance and dead time", 0.1)
    session.write({"current.dead_voltage": 0.0})
    shares = (*FAINT, *LEVELS)
    current, voltage, across, run = _held(session, [s * continuous for s in shares], at, "Voltage at eleven currents")
    strong = slice(len(FAINT), None)
    resistance = resistance_from_levels(current[strong], voltage[strong])
    if resistance.value <= 0 or resistance.std > 0.1 * resistance.value:
        raise WindingUnsteady(value=resistance.value, std=resistance.std)
    dead_time: DeadTime | None = fit_dead_time(current, voltage, angle=at)
    assert dead_time is not None
    sensors = fit_sensor_gain(
        current[strong], across[strong], angle=at, order=_order(session), resistance=resistance.value,
        dead_time=dead_time,
    )  # fmt: skip
    if sensors is None or sensors.ratio.std > GAIN_SURE:
        session.note("At the angle where the vector was held, the second current sensor's gain over the first's does "
                     "not show; it is taken to be 1.")  # fmt: skip
        sensors = None
    else:
        resistance = _corrected(session, resistance, sensors)
    left = None
    if dead_time.voltage.value <= 0 or dead_time.voltage.std > SURE * dead_time.voltage.value:
        session.note("The voltage that dead time takes could not be told from the levels; the drive adds none.")
        dead_time = None
    else:
        left = _left(session, continuous, at, resistance.value, dead_time)
        if left > HELPS:
            session.note(f"Giving back what dead time takes left {100 * left:.0f} % of it; the drive adds none.")
            session.write({"current.dead_voltage": 0.0})
            dead_time = None
    run.metrics.update({"resistance": resistance.as_dict(), "dead_time_left": left})
    return Inverter(
        resistance=resistance, dead_time=dead_time, left=left, offsets=zeroed[0],
        sensor_gain=None if sensors is None else sensors.ratio, runs=(run, zeroed[1]),
    )  # fmt: skip


def _corrected(session: Session, resistance: Estimated, sensors: SensorGain) -> Estimated:
    """Let the drive divide by the second sensor's gain; return what the resistance is with that."""
    session.write({"current.sensor_gain_b": sensors.ratio.value})
    share = sensors.resistance
    return Estimated(resistance.value * share, math.hypot(resistance.std * share, resistance.value * sensors.ratio.std))


def _left(session: Session, continuous: float, at: float, resistance: float, dead_time: DeadTime) -> float:
    """Let the drive give the dead time back, and return the rms of what is still lost, over what was."""
    session.write(
        {
            "current.dead_voltage": dead_time.voltage.value,
            "current.dead_current": dead_time.current,
            "current.dead_shape": float(DEAD_SHAPES.index(dead_time.shape)),
        }
    )
    current, voltage, _, _ = _held(session, [s * continuous for s in CHECKED], at, "Again, dead time given back")
    lost = voltage - resistance * current
    return float(np.sqrt(np.mean(lost**2) / np.mean(dead_time.lost(current, angle=at) ** 2)))


def _held(
    session: Session, levels: Sequence[float], at: float, title: str
) -> tuple[FloatArray, FloatArray, FloatArray, RunRecord]:
    """Mean current along a vector held at each level, voltage along it, voltage across it. [A], [V], [V]"""
    signals = ("i_d", "v_d", "v_q")
    records = []
    for level in levels:
        faint = level < LEVELS[0] * session.current_continuous
        session.drive.vector(angle=at, rate=10.0, current=level, rise=RISE * session.current_continuous)
        session.hold(FAINT_SETTLED if faint else SETTLED)
        session.arm(list(signals), seconds=READ, divider=1)
        records.append(session.recorded(at_most=2.0))
    run = RunRecord(
        kind="current_levels", title=title, period=records[0].period,
        channels={k: np.concatenate([r[k] for r in records]) for k in signals},
        excitation={"levels": list(levels)},
    )  # fmt: skip
    current, along, across = (np.array([float(r[key].mean()) for r in records]) for key in signals)
    return current, along, across, run
