"""Numba kernels of `blocks`: plain arrays in and out."""

import numba
import numpy as np


@numba.njit(cache=True)
def exponential(a):
    """Return e^A of a small square matrix: scaled, Taylor's series of order 14, squared back.

    For matrices of six rows SciPy's `expm` spends a hundred times as long on its choices; a test compares the two.
    """
    n = a.shape[0]
    norm = 0.0
    for i in range(n):
        norm = max(norm, np.abs(a[i]).sum())
    squarings = 0
    while norm > 0.25:
        norm *= 0.5
        squarings += 1
    scaled = a / 2.0**squarings
    result, term = np.eye(n), np.eye(n)
    for k in range(1, 15):
        term = _product(term, scaled) / k
        result += term
    for _ in range(squarings):
        result = _product(result, result)
    return result


@numba.njit(cache=True)
def _product(x, y):
    n = x.shape[0]
    out = np.zeros((n, n))
    for i in range(n):
        for k in range(n):
            if x[i, k] != 0.0:
                for j in range(n):
                    out[i, j] += x[i, k] * y[k, j]
    return out


@numba.njit(cache=True)
def hessenberg_response(h, b, c, d, z):
    """c (z I - H)^-1 b + d for upper Hessenberg H, by elimination with a look at the next row only."""
    n = h.shape[0]
    out = np.empty(z.shape[0], dtype=np.complex128)
    m = np.empty((n, n), dtype=np.complex128)
    x = np.empty(n, dtype=np.complex128)
    for k in range(z.shape[0]):
        for i in range(n):
            x[i] = b[i]
            for j in range(max(0, i - 1), n):
                m[i, j] = -h[i, j]
            m[i, i] += z[k]
        for i in range(n - 1):
            if abs(m[i + 1, i]) > abs(m[i, i]):
                for j in range(i, n):
                    m[i, j], m[i + 1, j] = m[i + 1, j], m[i, j]
                x[i], x[i + 1] = x[i + 1], x[i]
            if m[i, i] != 0.0:
                f = m[i + 1, i] / m[i, i]
                for j in range(i + 1, n):
                    m[i + 1, j] -= f * m[i, j]
                x[i + 1] -= f * x[i]
        for i in range(n - 1, -1, -1):
            for j in range(i + 1, n):
                x[i] -= m[i, j] * x[j]
            x[i] /= m[i, i] if m[i, i] != 0.0 else 1e-300
        total = d + 0j
        for i in range(n):
            total += c[i] * x[i]
        out[k] = total
    return out


@numba.njit(cache=True)
def step_of(a, b, c, d, n):
    """Answer to a unit step."""
    size = a.shape[0]
    x, following = np.zeros(size), np.zeros(size)
    out = np.empty(n)
    for k in range(n):
        total = d
        for i in range(size):
            total += c[i] * x[i]
            value = b[i]
            for j in range(size):
                value += a[i, j] * x[j]
            following[i] = value
        out[k] = total
        x, following = following, x
    return out
