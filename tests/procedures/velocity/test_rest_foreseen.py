"""The twin at rest beside the axis itself, and which proposals are looked at by what the twin does."""

import math
from collections.abc import Callable
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import pytest

from cadrel.core.control import Gains
from cadrel.core.tuning import TuningRefused, VelocityTuning, noise_behind, quicker, softened
from cadrel.procedures import PROCEDURES, Session
from cadrel.procedures.judging import at_rest_when_moved, kick_size, position_values
from cadrel.procedures.velocity import reach as velocity_reach
from cadrel.procedures.velocity.looks import noise_at_rest
from cadrel.procedures.velocity.reach import HALVINGS, LEAST_OF_IT, Reached, within_reach
from cadrel.procedures.velocity.report import velocity_values
from cadrel.procedures.velocity.rest_foreseen import RestForeseen
from cadrel.procedures.velocity.seen import FAR_BEYOND, FIRMLY, HEARD, WITHIN, Bearing, Seen, budget
from tests.procedures.test_stops import LIFT, Ready, typed
from tests.procedures.velocity.test_rest import ASKED, BUDGET, START, Bench, seen

EASY = replace(
    LIFT, device="incremental", halls_fitted=True, coulomb_motor=0.01, coulomb_load=0.01, torque_load=0.0
)  # fmt: skip


def rests_on_lines(lines: int, times: float) -> tuple[float, tuple[float, float]]:
    """Ripple at rest of an axis and of its twin, of what may be, with so many lines and times the starting gains."""
    ready = Ready(
        replace(EASY, encoder_lines=lines), **{"feedback.kind": typed("incremental"), "feedback.lines": typed(lines)}
    )
    consent = PROCEDURES["velocity"].consent(ready.axis, ready.client.read())
    session = Session(drive=ready.client, axis=ready.axis, consent=consent, plant=ready.plant)
    session.refresh()
    gains = quicker(Gains.from_drive(session.values, session.rates).with_(position_gain=30.0), times)
    rest = RestForeseen.of(session, session.plant)
    assert rest is not None
    foreseen = rest.ripple(gains)
    session.write({**velocity_values(gains), **position_values(gains)})
    ripple, _ = at_rest_when_moved(session, kick_size(session, gains.position_gain), load_swings_hz=None)
    most = budget(session)
    return ripple / most, (foreseen[0] / most, foreseen[1] / most)


def test_a_stiff_loop_hunts_between_coarse_counts_on_the_twin_as_much_as_on_the_axis() -> None:
    """The axis is the rig, whose friction builds up before it slides and which the twin knows nothing of."""
    seen_so, (least, most) = rests_on_lines(500, 4.0)
    assert seen_so > FAR_BEYOND
    assert least == pytest.approx(seen_so, rel=0.1) and most == pytest.approx(seen_so, rel=0.1)


@pytest.mark.parametrize(("lines", "times"), [(500, 1.0), (25_000, 4.0)])
def test_softer_or_between_fine_counts_both_of_them_rest(lines: int, times: float) -> None:
    seen_so, foreseen = rests_on_lines(lines, times)
    assert seen_so < 0.05 * HEARD and max(foreseen) < 0.05 * HEARD


def test_nothing_is_foreseen_of_an_axis_whose_load_is_not_known() -> None:
    assert RestForeseen.of(Bench(), SimpleNamespace(total=None)) is None  # type: ignore[arg-type]


@pytest.mark.parametrize("noise", [0.002, 0.01])
def test_what_a_resolver_flickers_by_at_rest_is_the_noise_of_its_signals(noise: float) -> None:
    """Noise of two signals in quadrature, of an amplitude of 1, is so much angle; the converter's steps come on top."""
    ready = Ready(
        replace(LIFT, device="resolver", signal_noise=noise, torque_load=0.0),
        **{"feedback.kind": typed("resolver"), "feedback.resolver_pairs": typed(1)},  # type: ignore[arg-type]
    )
    consent = PROCEDURES["velocity"].consent(ready.axis, ready.client.read())
    session = Session(drive=ready.client, axis=ready.axis, consent=consent, plant=ready.plant)
    session.refresh()
    _, flicker = noise_at_rest(session, Gains.from_drive(session.values, session.rates))
    assert flicker == pytest.approx(noise, rel=0.15)


SHAPE = noise_behind(1.0, START.with_(velocity_gain=1.0))  # [rad/s] per N·m at gain 1


@pytest.fixture
def reach(monkeypatch: pytest.MonkeyPatch) -> Callable[..., tuple[Reached, list[float]]]:
    """Reach for a proposal whose gain follows from the noise it bears; the twin hunts above one gain, more the more."""

    def run(
        above: float,
        *,
        unbearable: float = math.inf,
        twin: bool = True,
        must: dict[str, Any] | None = None,
        simpler: float | None = None,
        shapes: list[float] | None = None,
        refused: tuple[float, ...] = (),
    ) -> tuple[Reached, list[float]]:
        made: list[float] = []
        shapes = [] if shapes is None else shapes

        def proposed(noise: float, damping: float) -> Any:
            if noise > unbearable * SHAPE:
                raise TuningRefused(asked="this", limit="that")
            gain = min(1.0, WITHIN * BUDGET * SHAPE / noise)
            made.append(gain)
            gains = softened(START.with_(velocity_gain=1.0), gain)
            simple = (
                ()
                if simpler is None
                else (VelocityTuning(gains=softened(gains, simpler), margins=None, limited_by=""),)
            )  # type: ignore[arg-type]
            return VelocityTuning(gains=gains, margins=None, limited_by="", others=simple)  # type: ignore[arg-type]

        def ripple(gains: Gains) -> tuple[float, float]:
            worst = 4 * BUDGET * gains.velocity_gain / above if gains.velocity_gain > above else 0.0
            return worst, worst

        foreseen = SimpleNamespace(ripple=ripple) if twin else None
        monkeypatch.setattr(RestForeseen, "of", lambda session, plant: foreseen)
        monkeypatch.setattr(velocity_reach, "positioned_around", lambda session, seen, gains, asked: (gains, ""))
        monkeypatch.setattr(Seen, "springy", None)
        bearing = Bearing(**{"noise": 1e-3 * SHAPE, "damping": 0.1, **(must or {})})

        def shaped(shape: Gains) -> Any:
            shapes.append(shape.velocity_gain)
            return None if shape.velocity_gain in refused else VelocityTuning(gains=shape, margins=None, limited_by="")  # type: ignore[arg-type]

        return within_reach(Bench(), seen(1e-3), ASKED, bearing, proposed, shaped), made  # type: ignore[arg-type]

    return run


def test_what_the_twin_rests_with_is_looked_at_as_it_is(reach) -> None:
    found, made = reach(above=2.0)
    assert made == [1.0] and found.beyond is None and found.tuning.gains.velocity_gain == 1.0


@pytest.mark.parametrize("above", [0.9, 0.6, 0.2])
def test_what_the_twin_hunts_with_is_softened_until_it_rests_and_no_further(reach, above: float) -> None:
    found, made = reach(above=above)
    assert made == [1.0], "the shape stays: nothing else is searched"
    closest = LEAST_OF_IT ** (0.5**HALVINGS)
    assert closest * above <= found.tuning.gains.velocity_gain <= above
    assert found.beyond is not None and found.beyond.gains.velocity_gain == 1.0


def test_where_not_even_the_softest_rests_one_that_bears_more_noise_is_sought(reach) -> None:
    found, made = reach(above=0.5 * LEAST_OF_IT)
    assert len(made) > 1 and found.tuning.gains.velocity_gain <= 0.5 * LEAST_OF_IT


def test_of_simpler_and_richer_proposals_the_stiffest_that_the_twin_rests_with_is_looked_at(reach) -> None:
    richer, _ = reach(above=0.9, simpler=0.5)
    assert 0.8 < richer.tuning.gains.velocity_gain <= 0.9, "softened, it is stiffer than the simpler one"
    simpler, _ = reach(above=0.9, simpler=0.89)
    assert simpler.tuning.gains.velocity_gain >= 0.89
    assert simpler.noise == pytest.approx(noise_behind(WITHIN * BUDGET, simpler.tuning.gains), rel=1e-3)


def test_one_of_a_shape_is_looked_at_as_it_is_where_it_is_stiff_enough(reach) -> None:
    shape, shapes = START.with_(velocity_gain=0.3), []
    found, made = reach(above=0.1, must={"shape": shape}, shapes=shapes)
    assert (found.tuning.gains.velocity_gain, made, shapes) == (0.3, [], [0.3]), "whatever the twin does"
    stiff = 2 * shape.velocity_gain / shape.velocity_reset
    assert reach(above=2.0, must={"shape": shape, "least": stiff})[1] == [1.0], "else one is searched"
    assert reach(above=2.0, must={"shape": shape}, refused=(0.3,))[1] == [1.0]


def test_a_proposal_that_rests_itself_is_not_left_for_a_little_more_of_a_less_simple_one(reach) -> None:
    found, made = reach(above=2.0, simpler=1.02)
    assert made == [1.0] and found.tuning.gains.velocity_gain == 1.0


def test_the_noise_told_is_that_of_the_proposal_that_was_reached(reach) -> None:
    found, _ = reach(above=0.3)
    assert found.tuning.gains.velocity_gain <= 0.3
    assert found.noise == pytest.approx(noise_behind(WITHIN * BUDGET, found.tuning.gains))


def test_one_of_which_no_twin_tells_or_whose_twin_may_hunt_is_looked_at_at_once(reach) -> None:
    assert reach(above=0.1, twin=False)[1] == [1.0]
    assert reach(above=0.1, must={"on_twin": (math.inf, math.inf)})[1] == [1.0]


def test_where_no_loop_bears_what_the_twin_asks_for_the_last_one_is_looked_at(reach) -> None:
    found, made = reach(above=0.01, unbearable=0.2)
    assert found.tuning.gains.velocity_gain == made[-1] and found.beyond is not None
    assert all(LEAST_OF_IT * gain > 0.01 for gain in made)


def test_a_little_hunting_is_looked_at_unless_the_axis_has_hunted_as_well(reach, monkeypatch) -> None:
    """Four times the budget at the edge is too much; a twin that is told to rest has to do so."""
    some = 0.5 * FAR_BEYOND
    assert some > HEARD
    calm = {"on_twin": (HEARD, HEARD), "noise": FIRMLY * 1e-3 * SHAPE}
    looked, strict = ({"on_twin": (4.0 / 0.9 * 1.01, math.inf)}, calm)
    assert reach(above=0.9, must=looked)[1] == [1.0]
    assert reach(above=0.9, must=strict)[0].tuning.gains.velocity_gain <= 0.9
