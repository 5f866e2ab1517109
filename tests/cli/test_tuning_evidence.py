"""The document on tuning: what is counted, and that nothing falsely proven is passed over."""

from dataclasses import replace
from pathlib import Path

import pytest

from cadrel.cli import tuning_evidence
from cadrel.cli.commission import Cost
from cadrel.cli.tuning_evidence import Tuned, document

ROWS = [
    Tuned(
        0, "serial", "proven", loops={"velocity": [1.6, 50.0, 9.0], "position": [1.5, 60.0, 12.0]}, stiff=0.9,
        quick=1.0, wide=0.8, load_db=1.0, drive_time=100.0, play=[0.020, 0.004, 0.021],
    ),
    Tuned(1, "resolver", "failed", "acceptance, not proven: settling", loops={"velocity": [1.7, 46.0, 8.2]}, stiff=0.5,
          eased=True),
    Tuned(2, "halls", "refused", "too coarse"),
    Tuned(3, "serial", "proven", false=["velocity peak 2.40"], loops={"velocity": [2.4, 30.0, 8.0]}, stiff=0.7),
]  # fmt: skip


def test_what_is_falsely_proven_is_told_first_and_in_its_row() -> None:
    text = document(ROWS, seed=5)
    assert "**Falsely proven: 1 of 4.**" in text
    assert "| 3 | serial | proven | 2.40, 30°, 8.0 dB" in text
    assert text.count("velocity peak 2.40") == 1


def test_bandwidth_and_gain_are_told_apart() -> None:
    text = document(ROWS, seed=5)
    assert "| bandwidth of the velocity loop over the known plant's | 0.80 / 0.80 / 0.80 |" in text
    assert "| velocity gain over the known plant's | 1.00 / 1.00 / 1.00 |" in text


def test_axes_that_close_no_loop_are_not_counted_among_those_proven() -> None:
    text = document(ROWS, seed=5)
    assert "Proven to the accepted move: 2 of 3" in text
    assert "refused by name: 1." in text
    assert "1 × resolver, failed: acceptance, not proven: settling" in text


def test_play_is_held_against_the_rigs_own() -> None:
    text = document(ROWS, seed=5)
    assert "measured on 1 of 1 axes that have some, median 5 % off" in text
    assert "measured where there is none: 0" in text


def test_bounds_of_play_are_counted_where_they_hold_and_where_there_is_none() -> None:
    told = [(0.03, 0.02), (0.03, 0.04), (0.05, 0.0)]  # one holds, one does not, one is told where there is none
    rows = [replace(ROWS[3], bench=4 + k, play_bound=list(one)) for k, one in enumerate(told)]
    text = document([*ROWS, *rows], seed=5)
    assert "measured on 1 of 3 axes that have some" in text
    assert "On 2 more a bound is told, which holds on 1; told where there is none: 1." in text


def test_axes_softened_for_their_load_are_counted_and_told_apart() -> None:
    text = document(ROWS, seed=5)
    assert "on 1 axes the velocity gain is taken back" in text
    assert "median of the integral gain 0.50 there; on the other 2 0.80" in text
    assert "taken back" not in document([ROWS[0], ROWS[3]], seed=5)


def test_goals_that_not_even_one_who_knows_the_plant_meets_are_told_apart() -> None:
    beyond = replace(ROWS[1], reachable=False)
    assert "Of the other axes 2 of 2 are proven (100 %)" in document([ROWS[0], beyond, *ROWS[2:]], seed=5)
    within = replace(ROWS[1], reachable=True)
    assert "Of the other axes" not in document([ROWS[0], within, *ROWS[2:]], seed=5)


@pytest.mark.parametrize(("false", "status"), [(["position peak 3.00"], 1), ([], 0)])
def test_the_command_fails_where_anything_is_falsely_proven(
    false: list[str], status: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(tuning_evidence, "rows_of", lambda *args, **how: [Tuned(0, "serial", "proven", false=false)])
    out = tmp_path / "tuning.md"
    assert tuning_evidence.evidence(benches=1, seed=1, out=out, kept=tmp_path / "kept.jsonl") == status
    assert out.read_text().startswith("# Tuning of axes")


def test_what_it_takes_to_compute_and_loops_that_are_stable_on_a_condition_are_told() -> None:
    rows = [replace(ROWS[0], compute=7.25), replace(ROWS[3], compute=3.25, conditional=True), ROWS[1]]
    text = document(rows, seed=5)
    assert "takes 5.2 s of processor time, median (5 asked)" in text
    assert "as a limit does: 1 (none asked)." in text


def test_the_time_of_the_simulated_drive_is_not_the_procedures() -> None:
    cost = Cost()
    total = cost.of_drive(lambda n: sum(k * k for k in range(n)))
    assert total(10) == 285
    little = cost.standing_in
    total(300_000)
    assert cost.standing_in > 10 * little
    with pytest.raises(ZeroDivisionError):
        cost.of_drive(lambda n: sum(range(300_000)) / n)(0)
    assert cost.computing == 0.0


def test_what_is_stiff_beside_one_that_need_not_settle_is_told_apart_and_where_there_is_no_reference() -> None:
    rows = [replace(ROWS[0], stiff_at_rest=0.6, rests=0.1), replace(ROWS[0], bench=9, stiff=None, rests=0.2)]
    text = document(rows, seed=5)
    assert "whatever its motor and the move do | 0.60 / 0.60 / 0.60 |" in text
    assert "integral gain over the known plant's | 0.90 / 0.90 / 0.90 |" in text
    assert "On 1 that are proven no loop of it does as asked" in text
