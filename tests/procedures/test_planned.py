"""The planned move on gains that are tried: friction fed forward where it likes it; how soon it settles, by moving."""

import math
from dataclasses import replace

from cadrel.core.control import Gains
from cadrel.core.identification import IdentifiedPlant
from cadrel.core.tuning import FRICTION_SHARE
from cadrel.procedures import PROCEDURES, Consent, Session
from cadrel.procedures.acceptance import moved
from cadrel.procedures.planned import friction_share, settling_when_moved
from cadrel.procedures.real_move import move_within_consent, plan_stroke
from tests.procedures.test_stops import LIFT, Ready, typed

SHORT = {"goal.distance": typed(300.0, "mm"), "goal.move_time": typed(1450.0, "ms"), "goal.window": typed(0.05, "mm")}
RUBS = LIFT.coulomb_motor + LIFT.coulomb_load


def session_with(position_gain: float, crossover_hz: float, **entries: object) -> tuple[Session, Gains]:
    ready = Ready(LIFT, **{**SHORT, **entries})  # type: ignore[arg-type]
    consent = PROCEDURES["acceptance"].consent(ready.axis, ready.client.read())
    session = Session(drive=ready.client, axis=ready.axis, consent=consent, plant=ready.plant)
    session.refresh()
    gain = 2 * math.pi * crossover_hz * (LIFT.inertia_motor + LIFT.inertia_load)
    gains = Gains.from_drive(session.values, session.rates).with_(
        velocity_gain=gain, velocity_reset=5 / (2 * math.pi * crossover_hz), position_gain=position_gain
    )
    session.write({
        "load.friction": RUBS, "velocity.gain": gain, "velocity.reset_time": gains.velocity_reset,
        "position.gain": position_gain, "position.velocity_feedforward": 1.0,
        "position.acceleration_feedforward": 1.0,
    })  # fmt: skip
    return session, gains


def test_a_firm_loop_follows_closer_with_it_and_the_machine_agrees() -> None:
    session, gains = session_with(40.0, 30.0)
    assert friction_share(session, gains) == FRICTION_SHARE
    errors = []
    for share in (0.0, FRICTION_SHARE):
        session.write({"position.friction_feedforward": share})
        _, moves = moved(session, plan_stroke(session), 1)
        session.standstill()
        errors.append(max(m.following_error_peak for m in moves))
    assert errors[1] < errors[0]


def test_where_friction_is_not_known_or_no_move_can_be_planned_none_is() -> None:
    session, gains = session_with(40.0, 30.0)
    session.write({"load.friction": 0.0})
    assert friction_share(session, gains) == 0.0, "nothing to feed forward is none the better"
    session.write({"load.friction": RUBS})
    session.values["limit.velocity"] *= 1e-3
    assert friction_share(session, gains) == 0.0


def test_friction_taken_for_far_more_than_it_is_would_push_the_axis_and_is_not_fed_forward() -> None:
    session, gains = session_with(40.0, 30.0)
    session.write({"load.friction": 8 * RUBS})  # as another, dirtier axis had it
    assert friction_share(session, gains) == 0.0


def test_how_soon_the_move_settles_is_what_the_same_move_shows_and_a_slack_loop_takes_longer() -> None:
    session, firm = session_with(40.0, 30.0, **{"goal.window": typed(0.01, "mm")})
    session.consent = Consent(travel=1.2 * session.axis.goal.distance, speed=1.2 * session.consent.speed)
    slack = firm.with_(position_gain=4.0)
    before = {k: v for k, v in session.drive.read().items() if k.startswith("position.")}
    found = [settling_when_moved(session, gains, session.plant) for gains in (firm, slack)]
    assert {k: v for k, v in session.drive.read().items() if k.startswith("position.")} == before
    session.write({"position.friction_feedforward": friction_share(session, firm)})
    _, moves = moved(session, plan_stroke(session), 1)
    seen = [m.settling_time for m in moves]
    assert None not in seen
    assert math.isclose(found[0], max(t for t in seen if t is not None), abs_tol=0.03)
    assert found[1] > found[0] + 0.1
    assert session.drive.status()["mode"] == "off"


def test_a_move_beyond_what_was_agreed_to_is_not_run() -> None:
    session, gains = session_with(40.0, 30.0)
    start = session.drive.status()
    for consent in (
        Consent(travel=0.8 * session.axis.goal.distance, speed=session.consent.speed),
        Consent(travel=2 * session.axis.goal.distance, speed=0.5 * plan_stroke(session).peak_speed),
    ):
        session.consent = consent
        assert math.isinf(settling_when_moved(session, gains, session.plant))
    session.consent = Consent(travel=2 * session.axis.goal.distance, speed=2 * session.consent.speed)
    assert math.isinf(settling_when_moved(session, gains, IdentifiedPlant())), "without a load there is no twin"
    assert session.drive.status()["counts"] == start["counts"], "nothing moved"


def test_a_move_beyond_what_was_agreed_to_is_not_what_a_loop_is_looked_at_with() -> None:
    """A ninth of travel and speed is left: the loop is still to be found."""
    session, _ = session_with(40.0, 30.0)
    goal, peak = session.axis.goal, plan_stroke(session).peak_speed
    enough = Consent(travel=1.2 * goal.distance, speed=1.2 * peak)
    little, slow = replace(enough, travel=1.05 * goal.distance), replace(enough, speed=1.05 * peak)
    for consent, fits in ((enough, True), (little, False), (slow, False)):
        session.consent = consent
        assert (move_within_consent(session) is not None) is fits
