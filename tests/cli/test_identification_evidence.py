"""The document on identification says what it was given, and a bound that is broken breaks it."""

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from cadrel.cli.identification_evidence import ASKED, Identified, document, evidence, identify
from cadrel.cli.true_plant import antiresonances, resonances, true_velocity_plant
from cadrel.cli.unkind_draws import draw_unkind
from cadrel.core.simulation import plant_of, rated_torque
from tests.conftest import rig_of


def good(bench: int) -> Identified:
    return Identified(
        bench, device="serial", reached="response", errors={k: 0.001 for k in ASKED}, sigmas={k: 0.5 for k in ASKED},
        offset_deg=0.1, db=0.2, deg=1.0, covered=0.95, lines=60, drive_time=30.0,
    )  # fmt: skip


def test_all_within_is_said_and_one_beyond_is_too() -> None:
    text, passed = document([good(k) for k in range(60)], seed=1)
    assert passed
    assert "**Through all of it: 60 of 60**" in text
    bad = [good(k) for k in range(60)]
    for row in bad[:6]:
        row.errors["load"] = 0.2
    text, passed = document(bad, seed=1)
    assert not passed
    assert "All bounds kept: NO" in text


def test_viscous_friction_is_within_its_bound_or_within_what_was_stated() -> None:
    rows = [good(k) for k in range(60)]
    for row in rows[:6]:
        row.errors["viscous"] = 2.0
        row.sigmas["viscous"] = 1.5  # hardly seen beside other friction, and said so
    text, passed = document(rows, seed=1)
    assert passed
    assert "| 200.00 % | 30 % or stated |" in text, "what it is off by is told all the same"
    for row in rows[:6]:
        row.sigmas["viscous"] = 3.0
    assert not document(rows, seed=1)[1]


def test_a_bound_on_play_that_does_not_hold_counts_and_so_does_play_where_there_is_none() -> None:
    rows = [good(k) for k in range(20)]
    for row in rows[:10]:
        row.play_bound = 1.2
    rows[11].play_unseen = True
    text, passed = document(rows, seed=1)
    assert passed
    assert "stays in doubt: 10 axes. The bound told instead holds on 10. Nothing is said of it on 1 axes more" in text
    for row in rows[:2]:
        row.play_bound = 0.8
    assert not document(rows, seed=1)[1]
    rows = [good(k) for k in range(20)]
    for row in rows[:2]:
        row.errors["play"] = 1.0
    assert not document(rows, seed=1)[1]


def test_time_is_told_with_and_without_the_commutation() -> None:
    rows = [replace(good(k), drive_time=41.0, commuted=14.0) for k in range(3)]
    assert "27 s from a commutated motor to its response (35 asked), 41 s with" in document(rows, seed=1)[0]


def test_a_refusal_is_listed_by_its_reason_and_counts_against_the_share() -> None:
    rows = [good(k) for k in range(20)]
    rows[3] = Identified(3, device="resolver", reached="load", refused="response: too noisy")
    text, passed = document(rows, seed=1)
    assert "- 1 × resolver: response: too noisy" in text
    assert not passed  # 95 percent came through, 98 are asked


def test_what_was_not_done_beside_is_counted_by_its_reason() -> None:
    rows = [good(k) for k in range(20)]
    rows[2].beside = {"cogging": "It stood for 12.5 % of the time. Free it."}
    rows[5].beside = {"cogging": "It stood for 3 % of the time. Free it."}
    text, passed = document(rows, seed=1)
    assert "- 2 × cogging: It stood for … % of the time." in text
    assert "- friction: none" in text
    assert passed, "each is done by itself and breaks no bound"


def test_halls_alone_are_asked_for_less() -> None:
    rows = [*(good(k) for k in range(20)), Identified(20, device="halls", reached="current", refused="too coarse")]
    text, passed = document(rows, seed=1)
    assert "1 of 1" in text
    assert passed


def test_what_was_done_is_not_done_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    kept, out = tmp_path / "kept.jsonl", tmp_path / "out.md"

    def once(numbered: tuple[int, int]) -> Identified:
        return good(numbered[1])

    class InHere:
        """A pool of this process."""

        def __init__(self, cores: int) -> None:
            self.imap_unordered = map

        def __enter__(self) -> "InHere":
            return self

        def __exit__(self, *ended: object) -> None:
            return None

    monkeypatch.setattr("cadrel.cli.identification_evidence.identify", once)
    monkeypatch.setattr("cadrel.cli.resumable.multiprocessing.Pool", InHere)
    assert evidence(benches=3, seed=1, out=out, kept=kept) == 0
    monkeypatch.setattr(
        "cadrel.cli.identification_evidence.identify", lambda numbered: pytest.fail("bench done a second time")
    )
    assert evidence(benches=3, seed=1, out=out, kept=kept) == 0
    assert len(kept.read_text().splitlines()) == 3


def test_one_drawn_axis_is_identified_from_its_sheet() -> None:
    found = identify((7, 6))  # a serial device
    assert found.refused == ""
    assert found.reached == "response"
    assert abs(found.errors["load"]) < 0.03
    assert abs(found.errors["cogging"]) < 0.1  # a quarter off, where the load is taken to move with the motor
    assert set(found.beside) <= {"friction", "saturation"}
    assert 0 < found.drive_time < found.drive_time + found.time_beside
    assert abs(found.errors["resistance"]) < 0.02
    assert found.lines > 25


def test_the_draws_are_as_wide_as_they_say() -> None:
    drawn = [draw_unkind(np.random.default_rng([3, k]))[0] for k in range(120)]
    ratios = [(t.inertia_load + t.inertia_third) / t.inertia_motor for t in drawn]
    assert min(ratios) < 0.5
    assert max(ratios) > 20
    assert max(t.backlash_deg for t in drawn) <= 0.05
    assert 0.2 < np.mean([t.inertia_third > 0 for t in drawn]) < 0.5
    assert {t.device for t in drawn} == {"incremental", "sincos", "resolver", "serial", "halls"}
    shares = [(t.coulomb_motor + t.coulomb_load) / (rated_torque(t) / 1.5) for t in drawn]
    assert max(shares) > 0.15
    for t in drawn[:30]:
        assert plant_of(t, rng=np.random.default_rng(0)).plant.unkind == 1
        assert t.brake_torque > 0 or abs(t.torque_load) < t.coulomb_motor + t.coulomb_load


def test_cables_that_are_drawn_are_as_long_as_is_said_and_entered_on_most() -> None:
    drawn = [draw_unkind(np.random.default_rng([3, k])) for k in range(120)]
    cabled = [(t, v) for t, v in drawn if t.cable_length > 0.0]
    assert 0.35 < len(cabled) / len(drawn) < 0.65
    assert all(1.0 < t.phase_resistance / t.resistance < 1.2 for t, _ in cabled)
    entered = [(t, v) for t, v in cabled if "cable.length" in v]
    assert 0.5 < len(entered) / len(cabled) < 0.9
    assert all(v["cable.length"]["value"] == t.cable_length for t, v in entered)
    assert not any("cable.length" in v for t, v in drawn if t.cable_length == 0.0)
    for t, _ in drawn:  # the continuous current, its copper loss and the cooling: the rise that it ends at
        rise = 1.5 * t.resistance * (t.drive_current_continuous / 1.5) ** 2 / t.winding_cooling
        assert 60.0 <= rise <= 110.0
        assert abs(t.sampling_skew) <= 0.3e-6


def test_true_resonances_of_three_masses_are_where_the_true_plant_peaks() -> None:
    truth = replace(
        rig_of("tile-pusher"), inertia_third=1.5e-4, stiffness_third=500.0, damping_third=0.002, damping=0.002
    )
    low, high = resonances(truth)
    assert resonances(rig_of("tile-pusher"))[0] == pytest.approx(
        math.sqrt(truth.stiffness * (1 / truth.inertia_motor + 1 / truth.inertia_load)) / (2 * math.pi)
    )
    values = {
        "current.gain": 17.0, "current.reset_time": 3.4e-3, "motor.pole_pairs": float(truth.pole_pairs),
        "motor.flux_linkage": truth.flux_linkage, "velocity.feedback_filter": 800.0, "feedback.counts": 10000.0,
        "feedback.resolver_bandwidth": 1200.0,
    }  # fmt: skip
    for ring in (low, high):
        f = np.linspace(0.95 * ring, 1.05 * ring, 400)
        size = np.abs(true_velocity_plant(truth, values, f, speed_of_run=100.0))
        assert f[np.argmax(size)] == pytest.approx(ring, rel=0.01)
    for held in antiresonances(truth):
        f = np.linspace(0.95 * held, 1.05 * held, 400)
        size = np.abs(true_velocity_plant(truth, values, f, speed_of_run=100.0))
        assert f[np.argmin(size)] == pytest.approx(held, rel=0.01)
