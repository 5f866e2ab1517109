"""What is compared for speed computes the same: Numba, C, and SciPy's own integrator."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from cadrel.cli.scale_in_c import SUBSTEP, _slopes, compiled_by_c, figures_of, run_by_numba

FIGURES = figures_of(
    resistance=1.36, inductances=(4.4e-3, 4.8e-3), flux=0.08, pairs=4, inertias=(1.4e-4, 2.2e-4), stiffness=330.0,
    damping=0.025, coulomb=(0.02, 0.03), viscous=(2e-4, 3e-4),
)  # fmt: skip


def test_numba_and_c_give_what_scipy_integrates() -> None:
    n = 400
    own = np.zeros(5)
    run_by_numba(n, own, FIGURES)
    y = np.zeros(5)
    for k in range(n):
        y = solve_ivp(
            lambda _, x, v=5.0 * (k & 1): _slopes.py_func(*x, v, FIGURES), (0, SUBSTEP), y, rtol=1e-9, atol=1e-12
        ).y[:, -1]
    assert own == pytest.approx(y, rel=1e-5, abs=1e-9)
    by_c = compiled_by_c()
    if by_c is None:
        pytest.skip("there is no C compiler here")
    other = np.zeros(5)
    by_c(n, other, FIGURES)
    assert other == pytest.approx(own, rel=1e-9)
    assert np.float64(1e-310) / 2.0 > 0.0  # what is loaded for speed leaves the process's arithmetic as it is
