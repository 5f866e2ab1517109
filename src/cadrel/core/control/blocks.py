"""Linear blocks at one sampling period, connected by the names of their signals.

A control law is said once, as blocks. Its frequency response, its step response and its eigenvalues all follow from the
matrices, and whoever adds a filter, an observer or a mass adds one block.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Self

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import hessenberg

from cadrel.core.control.block_kernels import hessenberg_response, step_of

FloatArray = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]


@dataclass(frozen=True, slots=True, eq=False)
class Block:
    """x(k+1) = A x(k) + B u(k), y(k) = C x(k) + D u(k), with named signals.

    Attributes
    ----------
    a, b, c, d : ndarray
        Shapes (n, n), (n, n_inputs), (n_outputs, n), (n_outputs, n_inputs); n may be 0.
    inputs, outputs, states : tuple of str
        Names. Blocks are connected where the name of an output is the name of an input.
    period : float
        Between samples. [s]
    """

    a: FloatArray
    b: FloatArray
    c: FloatArray
    d: FloatArray
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    states: tuple[str, ...]
    period: float

    def response(self, frequency: FloatArray, *, output: str, entry: str) -> ComplexArray:
        """Return the frequency response from one input to one output. [Hz]; shape of `frequency`.

        Notes
        -----
        A is brought to Hessenberg form once, then every frequency costs O(n²) (A. J. Laub, IEEE Trans. Automatic
        Control 26 (1981) 407-408, from memory).
        """
        z = np.exp(2j * np.pi * frequency * self.period)
        column, row = self.inputs.index(entry), self.outputs.index(output)
        b, c, d = self.b[:, column], self.c[row], float(self.d[row, column])
        if len(self.a) == 0:
            return np.full(len(z), d, dtype=np.complex128)
        if len(self.a) == 1:
            return np.asarray(c[0] * b[0] / (z - self.a[0, 0]) + d, dtype=np.complex128)
        h, q = hessenberg(self.a, calc_q=True, check_finite=False)
        return hessenberg_response(np.ascontiguousarray(h), q.T @ b, q.T @ c, d, z)

    def spectral_radius(self) -> float:
        """Return the largest modulus of the eigenvalues; below 1 the block is stable."""
        return float(np.abs(np.linalg.eigvals(self.a)).max()) if len(self.a) else 0.0

    def step(self, n: int, *, output: str, entry: str) -> FloatArray:
        """Return the first `n` samples of the answer to a unit step from rest."""
        column, row = self.inputs.index(entry), self.outputs.index(output)
        return step_of(self.a, np.ascontiguousarray(self.b[:, column]), self.c[row], float(self.d[row, column]), n)

    def held(self, n: int) -> Self:
        """Return this block seen once in `n` samples, its inputs held in between; outputs are those at the start."""
        power, total = np.eye(len(self.a)), np.zeros_like(self.a)
        for _ in range(n):
            power, total = self.a @ power, total + power
        return type(self)(
            power, total @ self.b, self.c, self.d, self.inputs, self.outputs, self.states, n * self.period
        )

    def without(self, state: str) -> Self:
        """Return this block without a state on which neither another state nor an output depends.

        Raises
        ------
        ValueError
            Something depends on it.
        """
        k = self.states.index(state)
        others = np.abs(self.a[:, k]).sum() - abs(self.a[k, k])
        if others > 1e-9 * max(1.0, float(np.abs(self.a).max())) or np.any(self.c[:, k] != 0.0):
            raise ValueError(f"{state} matters to others")
        keep = [j for j in range(len(self.a)) if j != k]
        return type(self)(
            self.a[np.ix_(keep, keep)],
            self.b[keep],
            self.c[:, keep],
            self.d,
            self.inputs,
            self.outputs,
            (*self.states[:k], *self.states[k + 1 :]),
            self.period,
        )


def static(rows: dict[str, dict[str, float]], *, period: float) -> Block:
    """Return a block without memory: for every output the weight of each input."""
    inputs = tuple(dict.fromkeys(name for row in rows.values() for name in row))
    d = np.array([[row.get(name, 0.0) for name in inputs] for row in rows.values()])
    n = len(rows)
    return Block(np.zeros((0, 0)), np.zeros((0, len(inputs))), np.zeros((n, 0)), d, inputs, tuple(rows), (), period)


def connect(blocks: Sequence[Block], *, inputs: Sequence[str], outputs: Sequence[str]) -> Block:
    """Return many blocks as one, joined by name.

    Parameters
    ----------
    blocks : sequence of Block
        Of one period. No two have an output of the same name.
    inputs : sequence of str
        What comes from outside; an input of that name takes it.
    outputs : sequence of str
        Outputs of the blocks that the whole has.

    Raises
    ------
    ValueError
        Periods differ, an input has no source, or a signal depends on itself within a sample.
    """
    period = blocks[0].period
    if any(abs(block.period - period) > 1e-9 * period for block in blocks):
        raise ValueError("blocks of different periods")
    names = tuple((block.inputs, block.outputs) for block in blocks)
    inner, outer, chosen = _wiring(names, tuple(inputs), tuple(outputs))
    a, b, c, d = (_diagonal([getattr(block, part) for block in blocks]) for part in "abcd")
    loop = np.eye(inner.shape[1]) - d @ inner
    try:
        solved = np.asarray(np.linalg.solve(loop, np.hstack([c, d @ outer])), dtype=np.float64)
    except np.linalg.LinAlgError as cause:
        raise ValueError("a signal depends on itself within one sample") from cause
    n = len(a)
    free, driven = solved[:, :n], solved[:, n:]  # every signal, of states and of outside inputs
    return Block(
        a + b @ (inner @ free),
        b @ (inner @ driven + outer),
        free[chosen],
        driven[chosen],
        tuple(inputs),
        tuple(outputs),
        tuple(name for block in blocks for name in block.states),
        period,
    )


@lru_cache(maxsize=256)
def _wiring(
    names: tuple[tuple[tuple[str, ...], tuple[str, ...]], ...], inputs: tuple[str, ...], outputs: tuple[str, ...]
) -> tuple[FloatArray, FloatArray, list[int]]:
    """Return which output, and which outside input, feeds every input; and which outputs are asked for."""
    sources = [name for _, out in names for name in out]
    targets = [name for entries, _ in names for name in entries]
    at = {name: k for k, name in enumerate(sources)}
    outside = {name: k for k, name in enumerate(inputs)}
    inner, outer = np.zeros((len(targets), len(sources))), np.zeros((len(targets), len(inputs)))
    for k, name in enumerate(targets):
        if name in at:
            inner[k, at[name]] = 1.0
        elif name in outside:
            outer[k, outside[name]] = 1.0
        else:
            raise ValueError(f"{name} comes from nowhere")
    return inner, outer, [at[name] for name in outputs]


def _diagonal(parts: Sequence[FloatArray]) -> FloatArray:
    whole = np.zeros((sum(p.shape[0] for p in parts), sum(p.shape[1] for p in parts)))
    row = column = 0
    for p in parts:
        whole[row : row + p.shape[0], column : column + p.shape[1]] = p
        row, column = row + p.shape[0], column + p.shape[1]
    return whole
