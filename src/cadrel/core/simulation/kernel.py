"""n ticks of plant and drive together."""

import numba

from cadrel.core.simulation.device import track_device, work_brake, work_coil
from cadrel.core.simulation.firmware import (
    advance_excitation,
    fast_tick,
    follow,
    measure,
    record,
    regulate,
    watch,
)
from cadrel.core.simulation.layout import ARMED, GEN_PATH, NOWHERE, SLOW, TRIGGERED
from cadrel.core.simulation.plant import FAST, plant_tick
from cadrel.core.simulation.unkind import unkind_tick


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def run_ticks(n, s, p, c, path, excitation, signals, channels, tape):
    """Advance state record `s` by `n` ticks of 62.5 µs.

    Parameters
    ----------
    n : int
        Ticks.
    s : record of `layout.STATE`
        Changed in place.
    p, c : Plant, Settings
        The true axis; the drive's parameters.
    path : ndarray, shape (m, 6)
        Segments of the move in progress (`motion.profile`).
    excitation : ndarray, shape (k,)
        Samples to inject.
    signals : ndarray, shape (n_signals,)
        Scratch for the recorder.
    channels, tape : ndarray of int64 (q,), ndarray of float32 (q, rec_n)
        Which signals are recorded, and where.

    Notes
    -----
    An array handed on costs two atomic operations, a quarter of a tick in all: each goes where it is used, and only
    while it is.
    """
    for _ in range(n):
        measure(s, p, c)
        if s.exc_point != NOWHERE:
            advance_excitation(s, excitation)
        if s.tick % SLOW == 0:
            watch(s, c)
            if s.gen == GEN_PATH and s.brake_wait == 0:
                follow(s, c, path)
            regulate(s, c)
        s.v_alpha, s.v_beta = s.next_alpha, s.next_beta
        fast_tick(s, c)
        if s.rec_state in (ARMED, TRIGGERED):
            record(s, signals, channels, tape)
        before = s.theta1
        if p.unkind == 1:
            unkind_tick(s, p)
        else:
            plant_tick(s, p)
        track_device(s, p, c, before)
        work_coil(s, p, c)
        work_brake(s, p, c)
        s.tick += 1
