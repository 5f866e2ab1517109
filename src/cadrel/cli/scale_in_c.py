"""The same equations compiled by a C compiler and by Numba: how far the kernel's tool is from the usual one."""

import ctypes
import shutil
import subprocess
import tempfile
from collections.abc import Callable
from pathlib import Path

import numba
import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
# Compiled and linked apart: a compiler that links with -ffast-math too has the library round what is next to nothing to
# nought in the whole process that loads it.
FLAGS = ("-O3", "-ffast-math", "-march=native", "-fPIC", "-c")
SUBSTEP = 62.5e-6  # [s]

# Winding in dq, motor and load on a spring, friction rounded at standstill; voltage held over a tick; one classical
# Runge-Kutta step each.
# p: R, Ld, Lq, psi, pole pairs, J1, J2, k, d, Tc1, Tc2, b1, b2, tick. y: i_d, i_q, w1, w2, twist.
SOURCE = r"""
#include <math.h>
static void slopes(const double *y, double vq, const double *p, double *s) {
    double we = p[4] * y[2], kt = 1.5 * p[4] * p[3];
    double shaft = p[7] * y[4] + p[8] * (y[2] - y[3]);
    s[0] = (-p[0] * y[0] + we * p[2] * y[1]) / p[1];
    s[1] = (vq - p[0] * y[1] - we * (p[1] * y[0] + p[3])) / p[2];
    s[2] = (kt * y[1] - shaft - p[11] * y[2] - p[9] * y[2] / (fabs(y[2]) + 0.1)) / p[5];
    s[3] = (shaft - p[12] * y[3] - p[10] * y[3] / (fabs(y[3]) + 0.1)) / p[6];
    s[4] = y[2] - y[3];
}
void run(long n, double *y, const double *p) {
    double a[5], b[5], c[5], e[5], z[5], h = p[13];
    for (long k = 0; k < n; k++) {
        double vq = 5.0 * (k & 1);
        slopes(y, vq, p, a);
        for (int j = 0; j < 5; j++) z[j] = y[j] + 0.5 * h * a[j];
        slopes(z, vq, p, b);
        for (int j = 0; j < 5; j++) z[j] = y[j] + 0.5 * h * b[j];
        slopes(z, vq, p, c);
        for (int j = 0; j < 5; j++) z[j] = y[j] + h * c[j];
        slopes(z, vq, p, e);
        for (int j = 0; j < 5; j++) y[j] += h / 6.0 * (a[j] + 2.0 * (b[j] + c[j]) + e[j]);
    }
}
"""


@numba.njit(cache=True, fastmath=True, error_model="numpy")
def _slopes(i_d, i_q, w1, w2, twist, vq, p):  # type: ignore[no-untyped-def]
    we, kt = p[4] * w1, 1.5 * p[4] * p[3]
    shaft = p[7] * twist + p[8] * (w1 - w2)
    return (
        (-p[0] * i_d + we * p[2] * i_q) / p[1],
        (vq - p[0] * i_q - we * (p[1] * i_d + p[3])) / p[2],
        (kt * i_q - shaft - p[11] * w1 - p[9] * w1 / (abs(w1) + 0.1)) / p[5],
        (shaft - p[12] * w2 - p[10] * w2 / (abs(w2) + 0.1)) / p[6],
        w1 - w2,
    )


@numba.njit(cache=True, fastmath=True, error_model="numpy")
def _at(y, vq, p):  # type: ignore[no-untyped-def]
    return _slopes(y[0], y[1], y[2], y[3], y[4], vq, p)


@numba.njit(cache=True, fastmath=True, error_model="numpy")
def _beyond(y, h, s):  # type: ignore[no-untyped-def]
    return y[0] + h * s[0], y[1] + h * s[1], y[2] + h * s[2], y[3] + h * s[3], y[4] + h * s[4]


@numba.njit(cache=True, fastmath=True, error_model="numpy")
def run_by_numba(n, state, p):  # type: ignore[no-untyped-def]
    """Advance the state, shape (5,), by n ticks in place."""
    h = p[13]
    y = (state[0], state[1], state[2], state[3], state[4])
    for k in range(n):
        vq = 5.0 * (k & 1)
        a = _at(y, vq, p)
        b = _at(_beyond(y, 0.5 * h, a), vq, p)
        c = _at(_beyond(y, 0.5 * h, b), vq, p)
        e = _at(_beyond(y, h, c), vq, p)
        y = _beyond(y, h / 6.0, (
            a[0] + 2.0 * (b[0] + c[0]) + e[0], a[1] + 2.0 * (b[1] + c[1]) + e[1], a[2] + 2.0 * (b[2] + c[2]) + e[2],
            a[3] + 2.0 * (b[3] + c[3]) + e[3], a[4] + 2.0 * (b[4] + c[4]) + e[4],
        ))  # fmt: skip
    state[0], state[1], state[2], state[3], state[4] = y


def compiled_by_c() -> Callable[[int, FloatArray, FloatArray], None] | None:
    """Return the same as `run_by_numba`, compiled from C; None where there is no compiler."""
    compiler = shutil.which("cc") or shutil.which("gcc") or shutil.which("clang")
    if compiler is None:
        return None
    with tempfile.TemporaryDirectory() as folder:
        source, compiled, library = (Path(folder) / f"scale.{end}" for end in ("c", "o", "so"))
        source.write_text(SOURCE)
        subprocess.run([compiler, *FLAGS, str(source), "-o", str(compiled)], check=True)
        subprocess.run([compiler, "-shared", str(compiled), "-o", str(library), "-lm"], check=True)
        called = ctypes.CDLL(str(library)).run
    doubles = np.ctypeslib.ndpointer(dtype=np.float64, flags="C_CONTIGUOUS")
    called.argtypes, called.restype = [ctypes.c_long, doubles, doubles], None

    def run(n: int, state: FloatArray, p: FloatArray) -> None:
        called(n, state, p)

    return run


def figures_of(
    *, resistance: float, inductances: tuple[float, float], flux: float, pairs: float, inertias: tuple[float, float],
    stiffness: float, damping: float, coulomb: tuple[float, float], viscous: tuple[float, float],
) -> FloatArray:  # fmt: skip
    """Return the figures of an axis in the order that both take them. SI, at the motor shaft."""
    return np.array([
        resistance, *inductances, flux, pairs, *inertias, stiffness, damping, *coulomb, *viscous, SUBSTEP
    ])  # fmt: skip
