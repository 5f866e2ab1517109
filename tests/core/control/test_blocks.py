"""Blocks joined by name, against general-purpose libraries and brute force."""

import control
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.linalg import expm

from cadrel.core.control.block_kernels import exponential
from cadrel.core.control.blocks import Block, connect, static
from cadrel.core.control.filters import low_pass, notch, pi_regulator, second_order

T = 250e-6


def some_block(rng: np.random.Generator, n: int, entry: str, output: str) -> Block:
    a = rng.normal(size=(n, n))
    a *= 0.8 / max(np.abs(np.linalg.eigvals(a)).max(), 1e-9)
    return Block(
        a, rng.normal(size=(n, 1)), rng.normal(size=(1, n)), rng.normal(size=(1, 1)), (entry,), (output,),
        tuple(f"{output}{k}" for k in range(n)), T,
    )  # fmt: skip


def as_control(block: Block) -> control.StateSpace:
    return control.ss(block.a, block.b, block.c, block.d, block.period)


@settings(deadline=None)  # the first call compiles
@given(st.integers(0, 10_000), st.integers(1, 9))
def test_the_response_is_that_of_python_control(seed: int, n: int) -> None:
    block = some_block(np.random.default_rng(seed), n, "u", "y")
    f = np.geomspace(1, 1990, 25)
    judge = as_control(block)(np.exp(2j * np.pi * f * T))
    np.testing.assert_allclose(block.response(f, output="y", entry="u"), judge, rtol=1e-6, atol=1e-9)


@settings(deadline=None)  # the first call compiles
@given(st.integers(0, 10_000))
def test_a_feedback_loop_joined_by_name_is_that_of_python_control(seed: int) -> None:
    rng = np.random.default_rng(seed)
    forward, back = some_block(rng, 3, "error", "y"), some_block(rng, 2, "y", "seen")
    if abs(1 + float(forward.d[0, 0] * back.d[0, 0])) < 0.05:
        return  # nearly a signal that depends on itself
    sums = static({"error": {"command": 1.0, "seen": -1.0}}, period=T)
    loop = connect([forward, back, sums], inputs=("command",), outputs=("y",))
    judge = control.feedback(as_control(forward), as_control(back))
    ours, theirs = np.sort_complex(np.linalg.eigvals(loop.a)), np.sort_complex(judge.poles())
    np.testing.assert_allclose(np.abs(ours), np.abs(theirs), rtol=1e-4, atol=1e-5)
    f = np.geomspace(1, 1900, 20)
    np.testing.assert_allclose(
        loop.response(f, output="y", entry="command"), judge(np.exp(2j * np.pi * f * T)), rtol=1e-5, atol=1e-8
    )


@settings(deadline=None)  # the first call compiles
@given(st.integers(0, 10_000), st.integers(1, 7))
def test_the_exponential_is_scipys(seed: int, n: int) -> None:
    a = np.random.default_rng(seed).normal(scale=3.0, size=(n, n))
    np.testing.assert_allclose(exponential(a), expm(a), rtol=1e-9, atol=1e-9 * np.abs(expm(a)).max())


def test_a_step_is_the_sum_of_what_the_block_does() -> None:
    block = some_block(np.random.default_rng(5), 4, "u", "y")
    x, expected = np.zeros(4), []
    for _ in range(50):
        expected.append(float((block.c @ x)[0] + block.d[0, 0]))
        x = block.a @ x + block.b[:, 0]
    np.testing.assert_allclose(block.step(50, output="y", entry="u"), expected, rtol=1e-9)


def test_seen_once_in_four_samples_a_block_shows_every_fourth_of_them() -> None:
    block = some_block(np.random.default_rng(6), 4, "u", "y")
    np.testing.assert_allclose(
        block.held(4).step(12, output="y", entry="u"), block.step(48, output="y", entry="u")[::4], rtol=1e-9
    )


def test_filters_as_blocks_are_their_difference_equations() -> None:
    rng = np.random.default_rng(7)
    x = rng.normal(size=200)
    section = notch(300.0, width=0.3, depth_db=-12.0, period=T)
    y, x1, x2, y1, y2 = [], 0.0, 0.0, 0.0, 0.0
    for value in x:
        out = section.b0 * value + section.b1 * x1 + section.b2 * x2 - section.a1 * y1 - section.a2 * y2
        x2, x1, y2, y1 = x1, value, y1, out
        y.append(out)
    f = np.geomspace(3, 1900, 50)
    block = second_order(section, period=T, entry="u", output="y")
    np.testing.assert_allclose(
        block.response(f, output="y", entry="u"), section.response(np.exp(-2j * np.pi * f * T)), rtol=1e-9
    )
    state, seen = np.zeros(2), []
    for value in x:
        seen.append(float((block.c @ state)[0] + block.d[0, 0] * value))
        state = block.a @ state + block.b[:, 0] * value
    np.testing.assert_allclose(seen, y, rtol=1e-9, atol=1e-12)
    z = np.exp(-2j * np.pi * f * T)
    a = np.exp(-2 * np.pi * 800.0 * T)
    smooth = low_pass(800.0, period=T, entry="u", output="y").response(f, output="y", entry="u")
    np.testing.assert_allclose(smooth, (1 - a) / (1 - a * z), rtol=1e-9)
    pi = pi_regulator(2.0, 5e-3, period=T, entry="u", output="y").response(f, output="y", entry="u")
    np.testing.assert_allclose(pi, 2.0 * (1 + T / 5e-3 * z / (1 - z)), rtol=1e-9)


def test_what_cannot_be_joined_is_refused() -> None:
    first, other = some_block(np.random.default_rng(1), 2, "u", "y"), some_block(np.random.default_rng(2), 2, "v", "w")
    with pytest.raises(ValueError, match="comes from nowhere"):
        connect([first, other], inputs=("u",), outputs=("y",))
    slow = static({"u": {"y": 1.0}}, period=2 * T)
    with pytest.raises(ValueError, match="different periods"):
        connect([first, slow], inputs=(), outputs=("y",))
    itself = static({"u": {"y": 1.0 / float(first.d[0, 0])}}, period=T)
    with pytest.raises(ValueError, match="depends on itself"):
        connect([first, itself], inputs=(), outputs=("y",))
    with pytest.raises(ValueError, match="matters"):
        first.without("y0")
