"""A loop tuned on a wrong model is not proven, and what the drive held before is in it again."""

import pytest

from cadrel.bench import DriveService
from cadrel.core.axis import understand
from cadrel.core.simulation import SimulatedDrive
from cadrel.core.tuning import VelocityTuning, tune_velocity
from cadrel.link import LinkedDrive, LocalLink
from cadrel.procedures import velocity
from cadrel.procedures.route import run_route
from tests.conftest import rig_of, values_of

KEYS = ("velocity.gain", "velocity.reset_time", "velocity.notch_frequency", "velocity.torque_filter")


def test_a_loop_tuned_on_a_wrong_model_is_not_proven_and_goes_back(monkeypatch: pytest.MonkeyPatch) -> None:
    before: dict[str, float] = {}

    def on_a_wrong_model(load: object, winding: object, gains: object, asked: object, **more: object) -> VelocityTuning:
        found = tune_velocity(load, winding, gains, asked, **more)  # type: ignore[arg-type]
        before.update({k: v for k, v in gains.to_drive().items() if k in KEYS})  # type: ignore[attr-defined]
        # As if the load had been taken for twice as heavy as it is: every gain is twice as high.
        return VelocityTuning(
            gains=found.gains.with_(velocity_gain=2.0 * found.gains.velocity_gain), margins=found.margins, limited_by=""
        )

    monkeypatch.setattr(velocity, "tune_velocity", on_a_wrong_model)
    simulated = SimulatedDrive("axis", rig_of("tile-pusher"), seed=4)
    service = DriveService({"axis": simulated})
    values = values_of("tile-pusher")
    drive = LinkedDrive(LocalLink(service.answer, service.advance), "axis")
    result = run_route(drive, understand(values), values, report=lambda phase, share: None)
    assert result.status == "failed"
    assert result.reason.startswith("velocity, not proven: sensitivity peak ")
    assert "asked at most 1.8" in result.reason
    outcome = result.outcomes["velocity"]
    assert outcome.verdict is not None
    assert not outcome.verdict.is_proven
    assert {k: simulated.memory.working[k] for k in KEYS} == pytest.approx(before)
    assert set(KEYS) <= set(outcome.withheld)
    assert not set(KEYS) & set(outcome.changes)
    assert "position" not in result.outcomes  # nothing is built on a loop that is not proven
