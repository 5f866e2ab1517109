"""Which gains are looked at, at rest, one after the other, and which of them are left in force.

The looks themselves are scripted here: an axis that hunts above a gain. What a look does to an axis is tested through
the whole run.
"""

import math
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from types import SimpleNamespace
from typing import Any

import pytest

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.control.filters import Section
from cadrel.core.identification import Unrest
from cadrel.core.tuning import LEAST_DAMPING, NOISY, TuningRefused, VelocityTuning, noise_behind, softened
from cadrel.procedures.velocity import proposal as velocity_proposal
from cadrel.procedures.velocity import rest as velocity_rest
from cadrel.procedures.velocity import soft as velocity_soft
from cadrel.procedures.velocity.reach import Reached
from cadrel.procedures.velocity.rest import BACK_OFF, BESIDE, HUNTING, MOST_LOOKS, NEAR, SLOWER, proposed_to_rest, told
from cadrel.procedures.velocity.seen import (
    CALM,
    FAR_BEYOND,
    FIRMLY,
    FREE,
    HEARD,
    LESS,
    ONCE_LATE,
    WITHIN,
    Bearing,
    Looked,
    Seen,
)
from cadrel.procedures.velocity.soft import SURELY

START = Gains(
    current_gain=17.0, current_reset=3.5e-3, velocity_gain=0.1, velocity_reset=0.05, feedback_filter_hz=800,
    torque_filter_hz=1200,
)  # fmt: skip
ASKED = Robustness(phase_margin=0.8, gain_margin_db=8.0, sensitivity_peak=1.8, ripple=0.1)
BUDGET = 0.1  # [N·m]: a tenth of 1 A at 1 N·m/A


class Bench:
    """As much of a session as the looks need."""

    def __init__(self) -> None:
        self.notes: list[str] = []
        self.written: dict[str, float] = {}
        self.current_continuous = 1.0
        self.axis = SimpleNamespace(
            robustness=ASKED, motor=SimpleNamespace(torque_constant=1.0),
            mechanism=SimpleNamespace(unit_per_rad=180 / math.pi, unit="°"),
        )  # fmt: skip

        self.plant = SimpleNamespace(with_part=lambda part: None, unrest=None)

    def note(self, text: str) -> None:
        self.notes.append(text)

    def enter(self, phase: str, share: float) -> None:
        pass

    def computed(self, work: Callable[[], Any]) -> Any:
        return work()

    def write(self, values: dict[str, float]) -> None:
        self.written.update(values)


def seen(noise: float, *, hunts: bool = False) -> Seen:
    return Seen(measured=None, fit=None, closed=None, moved=0.0, noise=noise, device=noise, hunts=hunts)  # type: ignore[arg-type]


@pytest.fixture
def looks(monkeypatch: pytest.MonkeyPatch) -> Callable[..., tuple[Looked, Bench, list[dict[str, Any]]]]:
    """Look at an axis that hunts above a gain; a proposal has the gain that its noise leaves within the budget."""

    def run(
        above: float, *, first: float = 1.0, hunts: bool = False, unbearable: float = math.inf
    ) -> tuple[Looked, Bench, list[dict[str, Any]]]:
        made: list[dict[str, Any]] = []
        shape = noise_behind(1.0, START.with_(velocity_gain=1.0))  # [rad/s] per N·m at gain 1

        def look(session: Bench, before: Gains, given: Seen, asked: Any, must: Any, *, known: Any) -> Looked:
            if must.noise > unbearable * shape:
                raise TuningRefused(asked="this", limit="that")
            gain = min(first, WITHIN * BUDGET * shape / must.noise, must.most_gain)
            gain = gain if must.shape is None else must.shape.velocity_gain
            gains = softened(START.with_(velocity_gain=1.0), gain)
            hunting = gain > above
            ripple = 3 * BUDGET if hunting else 0.5 * BUDGET
            made.append({"gain": gain, "damping": must.damping, "hunts": hunting, "most": must.most_gain})
            session.write({"velocity.gain": gain})
            return Looked(
                gains=gains, limited_by=NOISY if gain < first else "the delay", noise=must.noise, ripple=ripple,
                swings=0, hunts=hunting, loud=hunting, owed=FIRMLY * noise_behind(ripple, gains),
                most_gain=must.most_gain,
            )  # fmt: skip

        monkeypatch.setattr(velocity_rest, "_look", look)
        bench = Bench()
        found = proposed_to_rest(bench, START, seen(1e-3 * shape, hunts=hunts), ASKED, known=None)  # type: ignore[arg-type]
        return found, bench, made

    return run


def test_what_rests_at_once_is_looked_at_once(looks) -> None:
    found, bench, made = looks(above=2.0)
    assert len(made) == 1 and found.gains.velocity_gain == 1.0 and not bench.notes
    assert made[0]["damping"] == LEAST_DAMPING


def test_an_axis_that_was_seen_hunting_is_proposed_calm_sections_from_the_first(looks) -> None:
    assert looks(above=2.0, hunts=True)[2][0]["damping"] == CALM


@pytest.mark.parametrize("above", [0.9, 0.5, 0.2])
def test_the_highest_gain_that_rests_is_closed_in_on_from_both_sides(looks, above: float) -> None:
    found, bench, made = looks(above=above)
    assert not found.hunts and found.gains.velocity_gain <= above
    hunting = min(look["gain"] for look in made if look["hunts"])
    resting = max(look["gain"] for look in made if not look["hunts"])
    assert hunting < BESIDE * resting or len(made) == MOST_LOOKS
    assert found.gains.velocity_gain == pytest.approx(min(resting, hunting / BACK_OFF))
    assert bench.written["velocity.gain"] == found.gains.velocity_gain
    assert found.limited_by == HUNTING  # and not the device's noise, which is far below
    assert any("rests" in note and "hunts" in note for note in bench.notes)


def scripted(
    monkeypatch: pytest.MonkeyPatch, *looks: dict[str, Any], before: Seen | None = None
) -> tuple[Looked, list[Bearing]]:
    """Look with gains that are given, one after the other; return what is left and what each look had to bear."""
    asked: list[Bearing] = []
    script = list(looks)

    def look(*given: Any, **_: Any) -> Looked:
        asked.append(given[4])
        told_so = {"limited_by": "", "swings": 0, "hunts": False, "loud": False, "ripple": 0.0} | script.pop(0)
        gains = softened(START.with_(velocity_gain=1.0, sections=told_so.pop("sections", ())), told_so.pop("gain"))
        owed = FIRMLY * noise_behind(max(told_so["ripple"], BUDGET), gains)
        return Looked(gains=gains, noise=given[4].noise, owed=owed, most_gain=math.inf, **told_so)

    monkeypatch.setattr(velocity_rest, "_look", look)
    monkeypatch.setattr(velocity_rest, "most_swing", lambda session: 0.01)
    found = proposed_to_rest(Bench(), START, before or seen(1e-9), ASKED, known=None)  # type: ignore[arg-type]
    assert not script, "a look that was expected was not taken"
    return found, asked


def test_where_the_twin_hunts_too_a_little_less_is_asked_of_both(monkeypatch: pytest.MonkeyPatch) -> None:
    hunts = {"gain": 1.0, "hunts": True, "loud": True, "ripple": 1.6 * BUDGET, "on_twin": 2.0 * BUDGET}
    _, asked = scripted(monkeypatch, hunts, {"gain": 0.9})
    bore = noise_behind(WITHIN * BUDGET, softened(START.with_(velocity_gain=1.0), 1.0))
    assert asked[1].noise == pytest.approx(LESS * bore)
    assert asked[1].on_twin == pytest.approx((2.0 * HEARD / 1.6,) * 2), "as much less as the axis has to hunt"


def test_one_that_sways_must_sway_less_on_the_twin_as_well(monkeypatch: pytest.MonkeyPatch) -> None:
    hunts = {"gain": 1.0, "hunts": True, "ripple": 0.1 * BUDGET, "sways": 0.02, "on_twin": 4.0 * BUDGET}
    assert scripted(monkeypatch, hunts, {"gain": 0.9})[1][1].on_twin == pytest.approx((2.0, 2.0))


@pytest.mark.parametrize("so", [{"on_twin": 0.0}, {"on_twin": math.inf}, {"on_twin": 3 * BUDGET, "swings": 1}])
def test_where_the_twin_does_not_do_as_the_axis_it_tells_nothing(monkeypatch, so: dict[str, Any]) -> None:
    """Not where it rests, nor where no proposal had it rest; and of a loop that was halved not what it does whole."""
    hunts = {"gain": 1.0, "hunts": True, "loud": True, "ripple": 3 * BUDGET} | so
    _, asked = scripted(monkeypatch, hunts, {"gain": 0.9})
    assert asked[1].on_twin == (FAR_BEYOND, math.inf)
    assert asked[1].noise == pytest.approx(
        FIRMLY * noise_behind(3 * BUDGET, softened(START.with_(velocity_gain=1.0), 1.0))
    )


def integral(gain: float) -> float:
    return gain**2 * START.with_(velocity_gain=1.0).velocity_gain / START.velocity_reset


@pytest.mark.parametrize(("eased", "room_from"), [(False, 1.0), (True, 0.95)])
def test_room_is_kept_from_what_hunts_with_the_quickest_position_loop_as_well(monkeypatch, eased, room_from) -> None:
    """It rests with a slower one around it, and may hunt after some move: what hunts by itself lies a hair above."""
    hunts = {"gain": 1.0, "hunts": True, "loud": True, "ripple": 2 * BUDGET}
    found, _ = scripted(monkeypatch, hunts, {"gain": 0.95, "is_eased": eased})
    assert found.gains.velocity_gain == pytest.approx(room_from / BACK_OFF) and found.limited_by == HUNTING


def test_what_rests_with_a_slower_position_loop_alone_is_left_where_nothing_hunts_near_it(monkeypatch) -> None:
    found, _ = scripted(monkeypatch, {"gain": 0.95, "is_eased": True})
    assert found.gains.velocity_gain == pytest.approx(0.95)


@pytest.mark.parametrize(("ripple", "share"), [(1.2, 0.8 / 1.2), (0.85, 1 / NEAR), (8.0, 1 / FIRMLY)])
def test_one_that_hunts_untold_is_softened_by_as_much_as_it_hunts_too_much(monkeypatch, ripple, share) -> None:
    hunts = {"gain": 1.0, "hunts": True, "loud": True, "ripple": ripple * BUDGET}
    found, asked = scripted(monkeypatch, hunts, {"gain": 0.9})
    shape = asked[1].shape
    assert shape is not None and shape.velocity_gain == pytest.approx(share) and not asked[1].plain
    assert found.gains.velocity_gain == pytest.approx(1.0 / BACK_OFF)


def test_where_the_plainest_is_at_least_as_stiff_it_is_looked_at_first_and_once(monkeypatch) -> None:
    hunts = {"gain": 1.0, "hunts": True, "loud": True, "ripple": 8 * BUDGET, "plainest": integral(0.6)}
    also = {"gain": 0.6, "hunts": True, "loud": True, "ripple": 8 * BUDGET}
    _, asked = scripted(monkeypatch, hunts, also, {"gain": 0.55})
    assert [one.plain for one in asked] == [False, True, False]
    assert asked[2].shape is not None and asked[2].shape.velocity_gain == pytest.approx(0.6 / FIRMLY)
    weak = hunts | {"plainest": integral(0.4)}
    assert not scripted(monkeypatch, weak, {"gain": 0.9})[1][1].plain


def test_where_the_twin_tells_the_shape_stays_and_has_to_be_stiffer_than_the_plainest(monkeypatch) -> None:
    hunts = {"gain": 1.0, "hunts": True, "loud": True, "ripple": 2 * BUDGET, "on_twin": 2 * BUDGET, "plainest": 3.0}
    _, asked = scripted(monkeypatch, hunts, {"gain": 0.9})
    assert asked[1].until_calm and asked[1].shape == softened(START.with_(velocity_gain=1.0), 1.0)
    assert asked[1].least == 3.0


def test_nobody_is_left_with_less_than_the_plainest_without_a_look_at_it(monkeypatch) -> None:
    """Its twin hunts with filters alone as well, and errs: looked at, they rest, stiffer than all that was shaped."""
    hunts = {"gain": 1.0, "hunts": True, "loud": True, "ripple": 2 * BUDGET, "on_twin": 2 * BUDGET}
    shaped = {"gain": 0.5, "sections": (Section(zero_hz=200.0, zero_damping=0.3, pole_hz=150.0, pole_damping=0.4),)}
    first, between = hunts | {"plainest": integral(0.6)}, hunts | {"gain": 0.62}
    found, asked = scripted(monkeypatch, first, shaped, {"gain": 0.6}, between)
    assert [one.plain for one in asked] == [False, False, True, False]  # before what lies between both
    assert asked[2].on_twin == (math.inf, math.inf) and asked[2].shape is None
    assert found.gains.velocity_gain == pytest.approx(0.62 / BACK_OFF)  # room to what hunts, as for any
    weaker = hunts | {"plainest": integral(0.45)}
    between = hunts | {"gain": 0.57}
    assert not any(one.plain for one in scripted(monkeypatch, weaker, shaped, between)[1])


def test_where_the_plainest_rests_what_lies_between_is_looked_at_and_not_the_plainest_of_another_search(
    monkeypatch,
) -> None:
    """The other's is a hair stiffer: a look at it would tell nothing, and end what lies between."""
    hunts = {"gain": 1.0, "hunts": True, "loud": True, "ripple": 2 * BUDGET, "on_twin": 2 * BUDGET}
    found, asked = scripted(
        monkeypatch, hunts | {"plainest": integral(0.5)}, {"gain": 0.5, "plainest": integral(0.501)},
        {"gain": 0.8, "plainest": integral(0.501)}, {"gain": 0.9},
    )  # fmt: skip
    assert not any(one.plain for one in asked)
    assert found.gains.velocity_gain == pytest.approx(1.0 / BACK_OFF)


@pytest.mark.parametrize(
    ("by_itself", "held", "looks", "hunts"),
    [
        (0.0, [3.0, 0.1], 2, False),  # it stands with a slower position loop
        (0.0, [3.0, 3.0], 2, True),
        (3.0, [3.0], 1, True),  # by itself: no position loop mends that
        (0.0, [0.1], 1, False),
    ],
)
def test_a_loop_that_stands_by_itself_is_not_blamed_for_its_position_loop(
    monkeypatch, by_itself: float, held: list[float], looks: int, hunts: bool
) -> None:
    shares: list[float] = []

    def look(*_: Any, share: float) -> tuple[float, float]:
        shares.append(share)
        return held[len(shares) - 1] * BUDGET, 0.0

    monkeypatch.setattr(velocity_rest, "at_rest_after_a_kick", lambda *_, **__: (by_itself * BUDGET, 0.0))
    monkeypatch.setattr(velocity_rest, "held_around", look)
    bench: Any = Bench()
    bench.consent, bench.swings = SimpleNamespace(speed=1.0), 0
    known = replace(seen(1e-9), fit=SimpleNamespace(load=SimpleNamespace(antiresonance_hz=None)))
    found = velocity_rest._standing(bench, known, ASKED, START)
    assert found.hunts is hunts and shares == list(SLOWER[:looks])
    assert found.is_eased is (looks == 2 and not hunts)
    assert found.ripple == pytest.approx(max(by_itself, held[-1]) * BUDGET)
    assert bench.written["velocity.gain"] == START.velocity_gain


@pytest.mark.parametrize(("twin", "hunts", "done"), [(2.0, True, ["look"]), (2.0, False, ["look", "move"]),
                                                     (0.1, False, ["move", "look"])])  # fmt: skip
def test_one_whose_twin_hunts_is_looked_at_before_it_is_moved(monkeypatch, twin, hunts, done) -> None:
    """A move with a loop that hunts does not settle, and that is none of the load's doing."""
    tuning = VelocityTuning(gains=START, margins=None, limited_by="")  # type: ignore[arg-type]
    order: list[str] = []

    def standing(*_: Any) -> Any:
        order.append("look")
        return velocity_rest._Standing(ripple=3 * BUDGET if hunts else 0.0, hunts=hunts)

    def soft(*_: Any, **__: Any) -> Any:
        order.append("move")
        return tuning

    monkeypatch.setattr(velocity_rest, "within_reach", lambda *_: Reached(tuning, 1.0, twin * BUDGET))
    monkeypatch.setattr(velocity_rest, "_standing", standing)
    monkeypatch.setattr(velocity_rest, "soft_enough", soft)
    monkeypatch.setattr(velocity_proposal, "edge_age", lambda *_: 0.0)
    monkeypatch.setattr(velocity_proposal, "most_change", lambda *_: math.inf)
    monkeypatch.setattr(velocity_proposal, "bias_speed", lambda *_: 1.0)
    bench: Any = Bench()
    bench.axis.goal, bench.values = SimpleNamespace(settling_time=0.1), {}
    monkeypatch.setattr(velocity_proposal.Winding, "from_drive", lambda values: None)
    known = replace(seen(1e-9), measured=SimpleNamespace(precise=lambda share: None),
                    fit=SimpleNamespace(load=None, winding=None))  # fmt: skip
    must = Bearing(noise=1e-9, damping=LEAST_DAMPING)
    found = velocity_rest._look(bench, START, known, ASKED, must, known=None)
    assert order == done and found.hunts is hunts


def beyond(gain: float, noise: float) -> Looked:
    """A proposal with which the twin hunts."""
    return Looked(
        gains=softened(START.with_(velocity_gain=1.0), gain), limited_by="", noise=noise, ripple=BUDGET, swings=0,
        hunts=True, loud=True, owed=1.0, most_gain=math.inf,
    )  # fmt: skip


def test_an_axis_that_rests_where_its_twin_hunts_is_looked_at_with_stiffer_ones_until_it_hunts(monkeypatch) -> None:
    first = {"gain": 0.5, "beyond": beyond(0.6, 8.0)}
    hunts = {"gain": 0.9, "hunts": True, "loud": True, "ripple": 3 * BUDGET}
    found, asked = scripted(monkeypatch, first, {"gain": 0.8}, hunts)
    assert found.gains.velocity_gain == pytest.approx(0.9 / BACK_OFF), "what rested is softened for the one that hunts"
    assert [one.on_twin for one in asked[1:]] == [(math.inf, math.inf)] * 2, "whatever the twin does"


@pytest.mark.parametrize(("damping", "is_sharp"), [(0.08, True), (CALM, False)])
def test_where_a_sharp_shape_hunts_with_less_gain_as_well_a_blunt_one_is_looked_at(
    monkeypatch, damping: float, is_sharp: bool
) -> None:
    """Twice it hunts where its twin rests: then one that swings less is searched for, once: it may be stiffer."""
    section = Section(zero_hz=79.0, zero_damping=0.08, pole_hz=31.0, pole_damping=damping)
    hunts = {"gain": 1.0, "sections": (section,), "hunts": True, "loud": True, "ripple": 2 * BUDGET}
    found, asked = scripted(monkeypatch, hunts, hunts | {"gain": 0.5}, {"gain": 0.8})
    assert asked[1].shape is not None, "of the same shape first"
    assert (asked[2].shape is None) is is_sharp
    if is_sharp:
        assert asked[2].noise == asked[0].noise and asked[2].damping == CALM and asked[2].most_gain == math.inf
        assert found.gains.velocity_gain == pytest.approx(0.8), (
            "one of another shape that hunts with less tells nothing"
        )
        twice = [hunts, hunts | {"gain": 0.5}, hunts | {"gain": 0.7}, {"gain": 0.2}]
        _, asked = scripted(monkeypatch, *twice, *[{"gain": 0.3}] * 2)
        assert asked[3].shape is not None, "once"


@pytest.mark.parametrize(("ripple", "errs"), [(0.05 * BUDGET, True), (0.8 * BUDGET, False)])
def test_where_the_twin_hunts_with_what_the_axis_rests_with_the_stiffest_of_all_is_looked_at_once(
    monkeypatch, ripple: float, errs: bool
) -> None:
    """Such a twin tells nothing; another one tells that what lies further must bear more than the device's noise."""
    first = {"gain": 0.5, "beyond": beyond(0.6, 8.0), "on_twin": 2 * BUDGET, "ripple": ripple}
    further = first | {"gain": 0.55}
    script = [first, further] if errs else [first, further, {"gain": 0.5}]
    _, asked = scripted(monkeypatch, *script)
    assert [one.on_twin for one in asked[1:]] == [FREE] * (len(script) - 1)
    assert (asked[1].noise == asked[0].noise) is errs


def test_what_hunted_in_the_try_before_is_closed_in_on_as_well(monkeypatch) -> None:
    """It hunted with a gain of 1; one of 0.5 rests: with one between them it is looked at, and that one is left."""
    gains = softened(START.with_(velocity_gain=1.0), 1.0)
    hunted = Looked(
        gains=gains, limited_by="", noise=0.0, ripple=2 * BUDGET, swings=0, hunts=True, loud=True, owed=0.0,
        most_gain=math.inf,
    )  # fmt: skip
    shape = noise_behind(1.0, START.with_(velocity_gain=1.0))
    before = replace(seen(1.6 * BUDGET * shape, hunts=True), hunted=hunted)
    found, asked = scripted(monkeypatch, {"gain": 0.5}, {"gain": 0.8}, {"gain": 0.9}, before=before)
    assert [one.shape is not None for one in asked] == [False, True, True], "closer than the twin alone is asked"
    assert asked[1].shape is not None and asked[2].shape is not None
    assert asked[1].shape.velocity_gain == pytest.approx(math.sqrt(0.5)), "of the shape of the stiffer"
    assert asked[2].shape.velocity_gain == pytest.approx(math.sqrt(0.8))
    assert found.gains.velocity_gain == pytest.approx(1.0 / BACK_OFF), "room to what hunts"
    alone, _ = scripted(monkeypatch, {"gain": 0.5}, before=replace(before, hunted=None))
    assert alone.gains.velocity_gain == pytest.approx(0.5)


def test_of_what_rests_the_stiffest_is_left_whichever_was_looked_at_last(monkeypatch) -> None:
    found, _ = scripted(monkeypatch, {"gain": 0.5, "beyond": beyond(0.6, 8.0)}, {"gain": 0.3})
    assert found.gains.velocity_gain == pytest.approx(0.5)


def test_ripple_of_mere_noise_beyond_what_was_asked_asks_the_next_proposal_for_less(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    shape = noise_behind(1.0, START.with_(velocity_gain=1.0))
    made: list[float] = []

    def look(*given: Any, **_: Any) -> Looked:
        noise = given[4].noise
        gains = START.with_(velocity_gain=min(1.0, WITHIN * BUDGET * shape / noise))
        ripple = 1.3 * BUDGET * gains.velocity_gain  # a third more than the noise at rest foretold
        made.append(gains.velocity_gain)
        return Looked(
            gains=gains, limited_by=NOISY, noise=noise, ripple=ripple, swings=0, hunts=False, loud=ripple > BUDGET,
            owed=1.1 * noise_behind(ripple, gains), most_gain=math.inf,
        )  # fmt: skip

    monkeypatch.setattr(velocity_rest, "_look", look)
    bench = Bench()
    found = proposed_to_rest(bench, START, seen(1e-3 * shape), ASKED, known=None)  # type: ignore[arg-type]
    assert len(made) == 2 and made[0] == 1.0
    assert not found.loud and found.limited_by == NOISY  # no hunting was seen
    assert found.ripple < BUDGET and found.gains.velocity_gain > 0.5 * made[0]
    assert "the device's noise" in bench.notes[0]


@pytest.mark.parametrize(
    ("seen_so", "says"),
    [
        ({}, "5 % of the continuous current"), ({"sways": 0.01}, "swaying by 0.57 ° to either side"),
        ({"swings": 1, "sways": 0.01}, "halves its gains"),
    ],
)  # fmt: skip
def test_what_was_seen_of_one_that_does_not_rest_is_told(seen_so: dict[str, Any], says: str) -> None:
    bench = Bench()
    ripple = 0.05 * bench.current_continuous
    whole = {"swings": 0, "sways": 0.0} | seen_so
    looked = Looked(
        gains=START, limited_by="", noise=1.0, ripple=ripple, hunts=True, loud=False, owed=1.0, most_gain=math.inf,
        **whole,
    )  # fmt: skip
    assert says in told(bench, looked)  # type: ignore[arg-type]


def test_one_that_never_rests_is_returned_as_it_is(looks) -> None:
    found, bench, made = looks(above=0.0)
    assert found.hunts and len(made) == MOST_LOOKS
    gains = [look["gain"] for look in made]
    assert gains == sorted(gains, reverse=True) and bench.written["velocity.gain"] == gains[-1]


def test_the_second_that_hunts_is_taken_gain_whatever_noise_it_could_bear(looks) -> None:
    _, _, made = looks(above=0.0)
    assert [math.isinf(look["most"]) for look in made[:2]] == [True, True]
    for before, look in pairwise(made[1:]):
        assert look["most"] == pytest.approx(before["gain"] / FIRMLY)
        assert look["gain"] <= look["most"]


def test_where_more_is_owed_than_any_loop_bears_less_of_it_is_borne(looks) -> None:
    found, _, made = looks(above=0.05, first=1.0, unbearable=0.3)
    assert made[0]["hunts"] and len(made) > 1, "the first hunts, and what it owes is refused"
    assert found.gains.velocity_gain < made[0]["gain"]


def test_a_first_proposal_that_cannot_be_made_is_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    def refused(*_: Any, **__: Any) -> Looked:
        raise TuningRefused(asked="this", limit="that")

    monkeypatch.setattr(velocity_rest, "_look", refused)
    with pytest.raises(TuningRefused):
        proposed_to_rest(Bench(), START, seen(1.0), ASKED, known=None)  # type: ignore[arg-type]


@pytest.fixture
def choosing(monkeypatch: pytest.MonkeyPatch) -> Callable[..., tuple[str, Bench, list[str]]]:
    """Choose between a stiff loop and a soft one whose planned moves settle so soon. [s]"""

    def run(
        stiff_in: float,
        soft_in: float,
        *,
        quick: bool = False,
        has_softer: bool = True,
        has_twin: bool = True,
        late: bool = False,
    ) -> Any:
        stiff, soft = (SimpleNamespace(name=name, gains=START.with_(velocity_gain=gain)) for name, gain in
                       (("stiff", 1.0), ("soft", 0.1)))  # fmt: skip
        done: list[str] = []

        def moved(session: Bench, gains: Gains, plant: Any) -> float:
            done.append("stiff moved" if gains.velocity_gain == 1.0 else "soft moved")
            assert session.written["velocity.gain"] == gains.velocity_gain, "with the gains that are asked about"
            return stiff_in if gains.velocity_gain == 1.0 else soft_in

        def eased(*_: Any, **more: Any) -> Any:
            done.append("softened")
            return soft if has_softer else stiff

        monkeypatch.setattr(velocity_soft, "positioned_around", lambda session, seen, gains, asked: (gains, "the load"))
        monkeypatch.setattr(velocity_soft, "is_quick_enough", lambda gains, limit, settling: quick)
        monkeypatch.setattr(velocity_soft, "settling_when_moved", moved)
        monkeypatch.setattr(velocity_soft, "ease_for_settling", eased)
        monkeypatch.setattr(velocity_soft, "settling_foreseen", lambda session, plant: moved if has_twin else None)
        monkeypatch.setattr(Seen, "springy", None)
        bench = Bench()
        bench.plant.unrest = Unrest(late=True) if late else None
        known = replace(seen(1e-3), fit=SimpleNamespace(load=None, winding=None))
        chosen = velocity_soft.soft_enough(bench, known, ASKED, stiff, {}, settling=0.1)  # type: ignore[arg-type]
        return chosen.name, bench, done

    return run


def test_a_quick_position_loop_needs_no_move_to_tell(choosing) -> None:
    assert choosing(math.inf, 0.01, quick=True)[0::2] == ("stiff", [])


def test_once_a_move_was_late_the_stiff_loop_is_not_believed_again(choosing) -> None:
    name, _, done = choosing(0.01, 0.01, late=True)
    assert (name, done) == ("soft", ["softened"])


@pytest.mark.parametrize(("late", "told"), [(False, 0.02), (True, SURELY * ONCE_LATE / 5.0)])
def test_once_a_move_was_late_its_twin_alone_tells_no_more_when_it_settles(monkeypatch, late, told) -> None:
    """The twin foresees 20 ms; a position loop of 5 1/s has three time constants in 0.6 s."""
    bench = Bench()
    bench.plant.unrest = Unrest(late=late)
    monkeypatch.setattr(velocity_soft, "settling_foreseen", lambda session, plant: lambda gains: 0.02)
    monkeypatch.setattr(Seen, "springy", None)
    foreseen = velocity_soft._foreseen(bench, seen(1e-3))  # type: ignore[arg-type]
    assert foreseen is not None and foreseen(START.with_(position_gain=5.0)) == pytest.approx(told)


def test_a_stiff_loop_whose_move_surely_settles_stays_and_nothing_softer_is_sought(choosing) -> None:
    name, bench, done = choosing(0.079, 0.01)
    assert (name, done) == ("stiff", ["stiff moved"])
    assert "settles in 79 ms" in bench.notes[-1]


@pytest.mark.parametrize(
    ("stiff_in", "soft_in", "left"), [(0.085, 0.02, "soft"), (0.085, 0.09, "stiff"), (0.085, math.inf, "stiff")]
)
def test_of_two_that_were_moved_the_one_that_settles_sooner_is_left(choosing, stiff_in, soft_in, left) -> None:
    name, bench, done = choosing(stiff_in, soft_in)
    assert name == left
    assert done == ["stiff moved", "softened", "soft moved"]
    assert f"It is left {left}." in bench.notes[-1]


def test_where_the_stiff_one_never_settles_the_softer_one_is_taken_unmoved(choosing) -> None:
    assert choosing(math.inf, 0.05)[0::2] == ("soft", ["stiff moved", "softened"])
    assert choosing(0.09, 0.05, has_softer=False)[0] == "stiff"


def test_without_a_twin_nothing_is_given_up(choosing) -> None:
    assert choosing(math.inf, 0.05, has_twin=False)[0::2] == ("stiff", ["stiff moved"])
