"""The judge of the commutation evidence: what counts as right, and that benches are drawn as said."""

from dataclasses import replace

import numpy as np
import pytest

from cadrel.cli.phasing_draws import DrawnBench, draw_phasing_bench, possible_faults, with_fault
from cadrel.cli.phasing_evidence import Outing, fault_benches, heydemann, is_right, try_bench
from cadrel.core.axis import missing_entries, understand
from cadrel.core.simulation import FAULTS, rated_torque, wired

BENCHES = [draw_phasing_bench(np.random.default_rng([3, n])) for n in range(120)]


def outing(
    bench: DrawnBench, *faults: str, status: str = "refused", codes: tuple[str, ...] = (), error: float | None = None
) -> Outing:
    return Outing(with_fault(bench, *faults), status, codes, "", error, 10.0, 0.5, 0.5)


def of_device(device: str) -> DrawnBench:
    return next(b for b in BENCHES if b.device == device and b.truth.hall_spacing == 120)


def test_every_device_and_both_shapes_are_drawn_with_complete_data() -> None:
    assert {b.device for b in BENCHES} == {"incremental", "sincos", "resolver", "serial", "halls"}
    assert {b.linear for b in BENCHES} == {True, False}
    for bench in BENCHES:
        assert missing_entries(bench.values) == []
        axis = understand(bench.values)
        assert axis.motor.pole_pairs == bench.truth.pole_pairs
        assert axis.feedback.kind.key == bench.device
        assert axis.has_brake == (bench.truth.brake_torque > 0)


def test_loaded_benches_reach_the_stiction_and_gravity_that_are_claimed() -> None:
    loaded = [b.truth for b in BENCHES if b.loaded]
    # The drive's rating is half above the motor's continuous current in every draw.
    rated = [rated_torque(t) / 1.5 for t in loaded]
    gravity = [abs(t.torque_load) / r for t, r in zip(loaded, rated, strict=True)]
    stiction = [t.breakaway_ratio * (t.coulomb_motor + t.coulomb_load) / r for t, r in zip(loaded, rated, strict=True)]
    assert 0.17 < max(gravity) <= 0.2
    assert 0.25 < max(stiction) <= 0.3 + 1e-9


def test_the_same_seed_draws_the_same_bench() -> None:
    again = draw_phasing_bench(np.random.default_rng([3, 5]))
    assert again == BENCHES[5]


@pytest.mark.parametrize(
    ("faults", "status", "codes", "error", "right"),
    [
        (("phases_swapped",), "refused", ("direction",), None, True),
        (("phases_swapped",), "refused", ("coupling",), None, False),
        (("phases_swapped",), "refused", ("direction", "coupling"), None, False),  # one too many accused
        (("phases_swapped",), "proven", (), 0.1, False),  # not noticed
        (("phases_rotated",), "proven", (), 0.3, True),  # the offset takes it up
        (("phases_rotated",), "proven", (), 6.0, False),  # but wrongly
        (("phases_swapped", "mounted_reversed"), "proven", (), 0.2, True),  # they undo each other
        (("phases_swapped", "pole_pairs"), "proven", (), 0.2, False),
        (("pole_pairs", "brake_closed"), "refused", ("did_not_follow",), None, True),
        (("low_current",), "refused", ("AxisStopped",), None, False),
    ],
)
def test_what_counts_as_right(
    faults: tuple[str, ...], status: str, codes: tuple[str, ...], error: float | None, right: bool
) -> None:
    assert is_right(outing(of_device("serial"), *faults, status=status, codes=codes, error=error)) is right


def test_halls_alone_are_judged_by_their_own_bound() -> None:
    assert outing(of_device("halls"), status="proven", error=7.5).within
    assert not outing(of_device("halls"), status="proven", error=8.5).within
    assert not outing(of_device("serial"), status="proven", error=5.5).within


def test_the_matrix_has_every_fault_on_every_device_it_befalls_and_the_pairs_asked_for() -> None:
    drawn = [b.truth.faults for b in fault_benches(np.random.default_rng(1), pairs=7, each=1)]
    assert {f[0] for f in drawn if len(f) == 1} == set(FAULTS)
    pairs = [f for f in drawn if len(f) == 2]
    assert len(pairs) == 7
    assert all(a != b for a, b in pairs)


def test_a_fault_of_an_index_is_drawn_only_where_one_is_described() -> None:
    for bench in BENCHES:
        described = bench.values.get("feedback.index", {}).get("value") == "1"
        assert ("index_missing" in possible_faults(bench)) == (described and bench.device in ("incremental", "sincos"))
        for code in possible_faults(bench):
            assert wired(replace(bench.truth, faults=(code,))) != bench.truth


def test_a_load_nobody_holds_is_refused_for_that_reason_within_a_moment() -> None:
    judged = try_bench(with_fault(of_device("resolver"), "vertical_load"), seed=1)
    assert judged.codes == ("load_pulls",)
    assert judged.drive_time < 1


def test_the_stated_fault_of_the_signal_circle_is_corrected_below_its_bound() -> None:
    before, after = heydemann(np.random.default_rng(4))
    assert before > 5
    assert after < 0.1
