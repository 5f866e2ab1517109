"""A load that hangs behind a brake stays where it is, through every procedure, at STOP and when the line is lost."""

import math
from collections.abc import Callable

import numpy as np
import pytest

from cadrel.cli.commission import commission_in_process
from cadrel.cli.guard_evidence import draw_hanging, try_bench
from cadrel.cli.unkind_draws import draw_unkind
from cadrel.core.axis import understand
from cadrel.core.simulation import SimulatedDrive
from cadrel.procedures import PROCEDURES, Session
from cadrel.procedures.route import load_project_values
from tests.conftest import rig_of, values_of

MakeDrive = Callable[..., tuple[object, SimulatedDrive]]


@pytest.mark.parametrize("closed", [True, False])
def test_a_brake_told_to_stay_closed_lets_current_flow_and_nothing_move(make_drive: MakeDrive, closed: bool) -> None:
    client, drive = make_drive(rig_of("kiln-car-lift"))
    load_project_values(client, values_of("kiln-car-lift"), owner="test")  # type: ignore[arg-type]
    drive.check_lease(drive.lease)
    begun = float(drive.running.state.theta1)
    drive.enable("vector", guard_low=-1e9, guard_high=1e9, guard_speed=1e9, brake_closed=closed)
    drive.motion.vector(angle=math.pi / 2, rate=1e6, current=6.0, rise=60.0)
    drive.advance(0.5)
    assert drive.running.state.vec_current == pytest.approx(6.0)
    moved = abs(float(drive.running.state.theta1) - begun)
    assert moved < 1e-6 if closed else moved > 0.01


def test_the_next_enabling_opens_the_brake_again(make_drive: MakeDrive) -> None:
    client, drive = make_drive(rig_of("kiln-car-lift"))
    load_project_values(client, values_of("kiln-car-lift"), owner="test")  # type: ignore[arg-type]
    drive.check_lease(drive.lease)
    for closed in (True, False):
        drive.enable("vector", guard_low=-1e9, guard_high=1e9, guard_speed=1e9, brake_closed=closed)
        drive.motion.vector(angle=drive.status()["vector_angle"], rate=1e6, current=6.0, rise=60.0)
        drive.advance(0.25)
        assert drive.status()["mode"] == "vector"
        assert bool(drive.running.state.brake) is closed
        drive.disable()
        assert drive.running.state.brake == 1


def test_draws_hang_both_ways_up_to_sixty_percent() -> None:
    drawn = [draw_hanging(np.random.default_rng([3, k])) for k in range(40)]
    shares = [gravity for _, _, gravity in drawn]
    assert min(shares) < -0.4
    assert max(shares) > 0.4
    assert all(truth.brake_torque > abs(truth.torque_load) for truth, _, _ in drawn)


def test_a_load_of_half_the_rated_torque_hangs_through_the_whole_route_and_falls_nowhere() -> None:
    found = try_bench(
        6, 7
    )  # 53 % of the rated torque: it slipped through its vector at the share taken without a brake
    assert abs(found.gravity) > 0.5
    assert set(found.ends.values()) == {"ok"}
    assert set(found.interrupted) == {"STOP", "lost line"}
    assert found.worst <= found.allowed
    assert found.sags["current"] < 0.01


def test_the_demonstrations_lift_goes_from_its_data_to_an_accepted_move() -> None:
    values, truth = values_of("kiln-car-lift"), rig_of("kiln-car-lift")
    result, drive = commission_in_process(values, truth, seed=1, here=200.0)  # [mm] up, with the whole move above it
    assert (result.status, result.reason) == ("proven", "")
    assert drive.running.state.brake == 1
    assert result.outcomes["acceptance"].verdict is not None


def test_a_load_that_friction_holds_but_sliding_friction_does_not_is_not_let_go(make_drive: MakeDrive) -> None:
    """It stood still on shorted windings, then slipped through a vector a quarter turn beside, and fell."""
    truth, values = draw_unkind(np.random.default_rng([7, 29]))
    sliding = truth.coulomb_motor + truth.coulomb_load
    assert sliding < truth.torque_load < truth.breakaway_ratio * sliding
    client, drive = make_drive(truth, seed=36)
    axis, sent = understand(values), load_project_values(client, values, owner="test")  # type: ignore[arg-type]
    phases = [""]
    fastest: dict[str, float] = {}
    advance = drive.advance

    def watched(seconds: float) -> None:
        advance(seconds)
        fastest[phases[-1]] = max(fastest.get(phases[-1], 0.0), abs(float(drive.running.state.omega1)))

    drive.advance = watched  # type: ignore[method-assign]
    procedure = PROCEDURES["commutation"]
    session = Session(
        drive=client, axis=axis, consent=procedure.consent(axis, sent),  # type: ignore[arg-type]
        report=lambda phase, share: phases.append(phase),
    )  # fmt: skip
    outcome = procedure.run(session)
    assert outcome.verdict is not None
    assert outcome.verdict.is_proven
    # Until the vector is turned on purpose nothing is faster than a swing about it; it fell at 50 rad/s before.
    opening = [speed for phase, speed in fastest.items() if "opening" in phase or "looking" in phase]
    assert opening
    assert max(opening) < 20.0
