"""n ticks of plant and drive together."""

import numba

from cadrel.core.simulation.device import track_device, work_brake
from cadrel.core.simulation.firmware import (
    advance_excitation,
    fast_tick,
    measure,
    record,
    slow_tick,
)
from cadrel.core.simulation.layout import SLOW
from cadrel.core.simulation.plant import FAST, plant_tick


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def run_ticks(n, s, p, c, hall_edges, hall_states, path, excitation, signals, channels, tape):
    """Advance state record `s` by `n` ticks of 62.5 µs.

    Parameters
    ----------
    n : int
        Ticks.
    s : record of `layout.STATE`
        Changed in place.
    p, c : Plant, Settings
        The true axis; the drive's parameters.
    hall_edges, hall_states : ndarray, shape (6,)
        Electrical angle at which each sector starts, rising [rad]; its code.
    path : ndarray, shape (m, 6)
        Segments of the move in progress (`motion.profile`).
    excitation : ndarray, shape (k,)
        Samples to inject.
    signals : ndarray, shape (27,)
        Scratch for the recorder.
    channels, tape : ndarray of int64 (q,), ndarray of float32 (q, rec_n)
        Which signals are recorded, and where.
    """
    for _ in range(n):
        measure(s, p, c)
        advance_excitation(s, excitation)
        if s.tick % SLOW == 0:
            slow_tick(s, c, path)
        s.v_alpha, s.v_beta = s.next_alpha, s.next_beta
        fast_tick(s, c)
        record(s, signals, channels, tape)
        before = s.theta1
        plant_tick(s, p)
        track_device(s, p, c, before, hall_edges, hall_states)
        work_brake(s, p)
        s.tick += 1
