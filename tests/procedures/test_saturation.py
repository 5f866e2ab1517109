"""Inductance over current on the stand-in, against the law that its iron follows; what stands in the way is named."""

from itertools import pairwise

import pytest

from cadrel.procedures import saturation
from cadrel.procedures.errors import AxisStopped, NotAllowed, RotorSwings, RotorTurned
from tests.conftest import rig_of
from tests.procedures.test_awkward_axes import found_on
from tests.procedures.test_stops import Ready, typed

LIFT = rig_of("kiln-car-lift")


@pytest.mark.parametrize(("seed", "bench"), [(7, 49), (61129, 59)])  # the second one's brake slips under a large sine
def test_inductance_at_the_largest_current_is_what_the_iron_leaves(seed: int, bench: int) -> None:
    # A bench as unkind as machines are; its iron follows an arctangent, of which the run knows nothing.
    truth, simulated, outcomes = found_on(seed, bench, ("commutation", "current", "saturation"))
    outcome = outcomes["saturation"]
    found = {f.kind: f for f in outcome.findings}
    q, d = (run.metrics for run in outcome.runs)
    bend, magnets = truth.saturation_current, truth.magnet_current
    whole = truth.inductance_d * (1 + (magnets / bend) ** 2)
    true = {
        "saturation_q": truth.inductance_q / (1 + (q["highest"] / bend) ** 2),
        "saturation_d": whole / (1 + ((magnets + d["highest"]) / bend) ** 2),
        "saturation_against": whole / (1 + ((magnets + d["lowest"]) / bend) ** 2),
    }
    for kind, value in true.items():
        assert found[kind].value == pytest.approx(value, rel=0.03), kind
        assert found[kind].std is not None and found[kind].std > 0.0
    assert true["saturation_q"] < 0.97 * truth.inductance_q, "it does bend"
    assert found["saturation_d"].value < found["saturation_against"].value, "the magnets help one way"
    assert simulated.status()["mode"] == "off"


def test_iron_that_does_not_bend_is_found_straight() -> None:
    outcome, session = Ready(LIFT).run("saturation")
    found = {f.kind: f.value for f in outcome.findings}
    assert found["saturation_q"] == pytest.approx(LIFT.inductance_q, rel=0.04)
    assert found["saturation_d"] == pytest.approx(found["saturation_against"], rel=0.04)
    assert "phase margin" in " ".join(session.notes)


def test_where_voltage_leaves_no_room_nothing_is_tried() -> None:
    ready = Ready(LIFT)
    ready.client.write({"motor.inductance": 200 * LIFT.inductance_q})
    with pytest.raises(NotAllowed, match="less than the continuous current"):
        ready.run("saturation")


def test_a_rotor_that_slips_in_its_brake_is_tried_with_less_and_named(monkeypatch: pytest.MonkeyPatch) -> None:
    sizes: list[float] = []

    def slipping(session: object, ic: float, size: float, hertz: float) -> None:
        sizes.append(size)
        raise saturation._Turned(0.5)

    monkeypatch.setattr(saturation, "_measured", slipping)
    with pytest.raises(RotorTurned, match=r"turned the rotor by 29°.*Lower"):
        Ready(LIFT).run("saturation")
    assert len(sizes) > 1
    assert all(later == pytest.approx(saturation.SMALLER * size) for size, later in pairwise(sizes))


def test_a_rotor_that_swings_is_tried_with_less_and_named(monkeypatch: pytest.MonkeyPatch) -> None:
    sizes: list[float] = []

    def too_fast(session: object, ic: float, size: float, hertz: float) -> None:
        sizes.append(size)
        raise AxisStopped(phase="a sine", reason="it ran at 900 mm/s, 400 were agreed to", hint="")

    monkeypatch.setattr(saturation, "_measured", too_fast)
    ready = Ready(LIFT, **{"procedure.velocity": typed(400.0, "mm/s")})
    with pytest.raises(RotorSwings, match="made the rotor swing"):
        ready.run("saturation")
    assert 1 <= len(sizes) <= saturation.TRIES
    assert all(b == pytest.approx(saturation.SMALLER * a) for a, b in pairwise(sizes))
