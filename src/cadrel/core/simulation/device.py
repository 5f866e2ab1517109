"""The feedback device from the shaft to the drive's counts, and the brake. Numba; plain floats and records.

A device is sampled at the end of every tick. What it sends carries its imperfections; what the drive makes of it uses
the drive's own parameters alone. Everything ends as `counts`, so that the loops need not know the kind.
"""

import math

import numba

from cadrel.core.power import TORQUE_BUILD_UP
from cadrel.core.simulation import torque_filters
from cadrel.core.simulation.layout import (
    ANGLE_EDGE,
    ANGLE_INDEX,
    ANGLE_SECTOR,
    GEN_HOLD,
    HALLS,
    INCREMENTAL,
    NOWHERE,
    OFF,
    RESOLVER,
    SERIAL,
    SETTLED,
    SINCOS,
    TICK,
    VECTOR,
)
from cadrel.core.simulation.plant import FAST, TWO_PI, noise
from cadrel.core.simulation.word import is_believable, position_of_word, sent_word

THIRD = math.pi / 3
LEAD_TICKS = round(TORQUE_BUILD_UP / TICK)  # torque first, then the brake's voltage
PAST_EDGE = 1.0 + 1e-9  # so that a shaft at the end of its play counts as being there
CURRENT_GONE = 5.0  # time constants of a shorted winding: what flowed before has gone
DAMPING = 0.9  # of the tracking converter
LATE_EDGE = 0.25  # [s] without an edge the sector's middle is used again


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def drive_angle(s, c, counts):
    """Motor angle of a count value as the drive's parameters have it. [rad]"""
    return c.direction * (counts - s.count_zero) * TWO_PI / c.counts


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def rotor_angle(s, c):
    """Electrical angle as the drive believes it. Halls alone: the last edge carried on, within its sector. [rad]"""
    if c.device != HALLS:
        return c.pole_pairs * (drive_angle(s, c, s.counts) + 0.5 * TWO_PI / c.counts) + s.angle_offset
    sector = hall_sector(s.hall, c)
    middle = c.hall_offset + (max(sector, 0) + 0.5) * THIRD
    since = (s.tick - s.hall_edge) * TICK
    if s.angle_quality != ANGLE_EDGE or since > LATE_EDGE:
        return middle
    ahead = s.hall_edge_angle + c.pole_pairs * s.velocity * since
    gap = ahead - middle
    gap -= TWO_PI * math.floor(gap / TWO_PI + 0.5)
    return middle + min(max(gap, -0.5 * THIRD), 0.5 * THIRD)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _sector_at(angle, edges):
    angle -= TWO_PI * math.floor(angle / TWO_PI)
    k = 5
    for i in range(6):
        if angle >= edges[i]:
            k = i
        else:
            break
    return k


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def hall_state(theta1, now, p):
    """Code of the Hall signals at a motor angle; within the hysteresis the present code stays. [rad]"""
    angle = p.pole_pairs * theta1
    low = p.hall_states[_sector_at(angle - 0.5 * p.hall_hysteresis, p.hall_edges)]
    if p.hall_hysteresis == 0.0:
        return low
    high = p.hall_states[_sector_at(angle + 0.5 * p.hall_hysteresis, p.hall_edges)]
    return now if now in (low, high) else low


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def hall_sector(hall, c):
    """Sector 0...5 of a Hall code in the drive's forward direction, or -1 for what no position has."""
    code = hall ^ int(c.hall_mask)
    if code == 1:
        k = 0
    elif code == 3:
        k = 1
    elif code == 2:
        k = 2
    elif code == 6:
        k = 3
    elif code == 4:
        k = 4
    elif code == 5:
        k = 5
    else:
        return -1
    # Mirrored, the forward sequence is 1-5-4-6-2-3: state 1 stays first.
    return k if c.hall_sign > 0 else (6 - k) % 6


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _edge_angle(sector, forward, c):
    """Learned angle of the edge into a sector, forward, or out of it, backward. [rad]"""
    k = sector % 6
    if k == 0:
        off = c.hall_edge_1
    elif k == 1:
        off = c.hall_edge_2
    elif k == 2:
        off = c.hall_edge_3
    elif k == 3:
        off = c.hall_edge_4
    elif k == 4:
        off = c.hall_edge_5
    else:
        off = c.hall_edge_6
    return c.hall_offset + k * THIRD + off + (0.5 if forward else -0.5) * c.hall_hysteresis


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _count_load(s, p):
    """What the device on the load shows, where there is one."""
    if p.second_counts != 0.0:
        s.second = math.floor(s.theta2 * p.second_counts / TWO_PI)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def prime_device(s, p, c):
    """Take the device as it stands, as power-up does: an absolute one tells its angle, others count from here."""
    s.hall = hall_state(s.theta1, p.hall_states[_sector_at(p.pole_pairs * s.theta1, p.hall_edges)], p)
    s.lost = 0
    _count_load(s, p)
    if p.device == INCREMENTAL:
        s.counts = math.floor(p.encoder_sign * s.theta_s * p.counts_per_rev / TWO_PI)
        s.count_zero = s.counts
    elif p.device in (SINCOS, RESOLVER):
        s.sig_total = s.sig_phase = _signal_phase(s, p, c)
        s.track_velocity = s.track_summed = 0.0
        s.counts = _counts_of_signal(s, c)
        s.count_zero = s.counts if p.device == SINCOS else 0
    elif p.device == SERIAL:
        s.word = _word_at(s, p)
        s.word_last = max(position_of_word(s.word, c), 0)
        s.counts = s.word_last
        s.count_zero = 0
        s.word_row = s.word_errors = s.words = 0
    else:
        s.counts = s.count_zero = max(hall_sector(s.hall, c), 0)
    s.counts_last = s.edge_count = s.edge_last_count = s.counts


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def track_device(s, p, c, before):
    """Note what the device and the Halls show after the plant moved from motor angle `before`."""
    was = s.theta_s
    if p.play == 0.0 and p.slip == 0.0:
        s.theta_s = s.theta1 + s.scale_off
    else:
        s.slipped += p.slip * max(s.theta1 - before, 0.0)
        shaft = s.theta1 + s.scale_off - s.slipped
        s.theta_s = min(max(s.theta_s, shaft - 0.5 * p.play), shaft + 0.5 * p.play)
    _count_load(s, p)
    if p.device == INCREMENTAL:
        _track_encoder(s, p, c, was)
        _watch_index(s, p, c, was)
        return
    _watch_halls(s, p, c)
    if p.device == SINCOS:
        _track_signals(s, p, c, was)
        _watch_index(s, p, c, was)
    elif p.device == RESOLVER:
        _track_signals(s, p, c, was)
    elif p.device == SERIAL:
        _track_word(s, p, c)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _track_encoder(s, p, c, was):
    """Counts and the times of their edges."""
    per_rad = p.encoder_sign * p.counts_per_rev / TWO_PI
    n0, n1 = was * per_rad, s.theta_s * per_rad
    f0, f1 = math.floor(n0), math.floor(n1)
    if f0 == f1:
        return
    if p.lost_counts > 0.0 and _share(s) * p.counts_per_rev < p.lost_counts * abs(f1 - f0):
        s.lost += 1 if n1 > n0 else -1
    boundary = f1 if n1 > n0 else f1 + 1.0
    s.edge_count = int(boundary) - s.lost
    s.edge_time = s.tick + (boundary - n0) / (n1 - n0)
    s.edge_fresh = 1
    s.counts = int(f1) - s.lost
    _watch_halls(s, p, c)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _share(s):
    """A number between 0 and 1, near enough evenly spread: the noise generator's low bits."""
    noise(s)
    return float(s.noise & numba.uint64(0xFFFFF)) / 1048576.0


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _watch_index(s, p, c, was):
    if p.has_index == 0.0:
        return
    m0 = math.floor((was - p.index_angle) / TWO_PI)
    m1 = math.floor((s.theta_s - p.index_angle) / TWO_PI)
    if m0 == m1:
        return
    crossed = p.index_angle + TWO_PI * max(m0, m1)
    if p.device == INCREMENTAL:
        s.index_count = math.floor(p.encoder_sign * crossed * p.counts_per_rev / TWO_PI + 0.5) - s.lost
    else:  # counts of the tick it came in, less what the shaft went beyond it
        beyond = p.encoder_sign * (s.theta_s - crossed) * p.periods / TWO_PI * c.counts / c.periods
        s.index_count = math.floor(s.counts - beyond + 0.5)
    s.index_seen += 1
    if c.has_index > 0.0:
        s.angle_offset = c.index_offset - c.pole_pairs * drive_angle(s, c, s.index_count)
        s.angle_quality = ANGLE_INDEX


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _watch_halls(s, p, c):
    hall = hall_state(s.theta1, s.hall, p)
    if hall == s.hall:
        return
    now, last = hall_sector(hall, c), hall_sector(s.hall, c)
    s.hall = hall
    if now < 0 or last < 0 or (now - last) % 6 not in (1, 5):
        s.hall_jumps += 1
        return
    forward = (now - last) % 6 == 1
    edge = _edge_angle(now if forward else last, forward, c)
    s.hall_edge, s.hall_edge_angle = s.tick, edge
    if p.device == HALLS:
        s.counts += (1 if forward else -1) * (1 if c.direction > 0 else -1)
        s.edge_count, s.edge_time, s.edge_fresh = s.counts, s.tick, 1
        if s.angle_quality == ANGLE_SECTOR:
            s.angle_quality = ANGLE_EDGE
    elif s.angle_quality in (ANGLE_SECTOR, ANGLE_EDGE):
        # At an edge the angle is known much better than within a sector: use it until the index comes.
        s.angle_offset = edge - c.pole_pairs * drive_angle(s, c, s.counts)
        s.angle_quality = ANGLE_EDGE


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _signal_phase(s, p, c):
    """Sine and cosine as they arrive, and the phase the drive reads from them with its own correction. [rad]

    Received: x = a cos(phi) + x0, y = g a sin(phi + q) + y0. Corrected as Heydemann has it: subtract the offsets,
    divide by the gain, take out the quadrature error.
    """
    phi = p.encoder_sign * p.periods * (s.theta_s - p.index_angle)
    x = p.signal_level * math.cos(phi) + p.signal_offset_cos + p.signal_noise * noise(s)
    y = p.signal_level * p.signal_gain * math.sin(phi + p.signal_quadrature) + p.signal_offset_sin
    y += p.signal_noise * noise(s)
    if p.signals_swapped > 0.0:
        x, y = y, x
    s.sig_cos, s.sig_sin = x, y
    u = x - c.signal_offset_cos
    v = (y - c.signal_offset_sin) / c.signal_gain
    v = (v - u * math.sin(c.signal_quadrature)) / math.cos(c.signal_quadrature)
    return math.atan2(v, u)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _counts_of_signal(s, c):
    return math.floor(s.sig_total / TWO_PI * c.counts / c.periods)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _track_signals(s, p, c, was):
    """Sine and cosine: whole periods are counted, the rest is read. A resolver goes through a tracking converter."""
    phase = _signal_phase(s, p, c)
    if p.device == RESOLVER:
        error = phase - s.sig_total
        error -= TWO_PI * math.floor(error / TWO_PI + 0.5)
        s.track_velocity += TICK * c.tracking * c.tracking * error
        s.track_summed += s.track_velocity
        s.sig_total += TICK * (s.track_velocity + 2 * DAMPING * c.tracking * error)
    else:
        # Whole periods are counted by comparators, far faster than the signals are sampled.
        counted = p.encoder_sign * p.periods * (s.theta_s - was) * (-1.0 if p.signals_swapped > 0.0 else 1.0)
        rest = phase - s.sig_phase - counted
        s.sig_total += counted + rest - TWO_PI * math.floor(rest / TWO_PI + 0.5)
        s.sig_phase = phase
    s.counts = _counts_of_signal(s, c)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _word_at(s, p):
    """The word a serial device sends."""
    # Sampled a latency before it arrives.
    turns = p.encoder_sign * (s.theta_s - s.omega1 * p.word_latency - p.index_angle) / TWO_PI
    position = math.floor((turns - math.floor(turns)) * p.word_counts)
    return sent_word(int(min(position, p.word_counts - 1.0)), p)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _track_word(s, p, c):
    """A word that does not check is not used; the last position stays, and the row of bad ones is counted."""
    s.words += 1
    s.word = _word_at(s, p)
    if p.word_error_rate > 0.0 and _share(s) < p.word_error_rate:
        s.word ^= 1 << int(_share(s) * min(p.word_length, 60.0))  # one bit arrives wrong
    position = position_of_word(s.word, c) if p.word_length == c.word_length else -1
    step = position - s.word_last
    half = int(c.word_counts) // 2
    if step > half:
        step -= int(c.word_counts)
    elif step < -half:
        step += int(c.word_counts)
    if position < 0 or not is_believable(step, s.word_row, c):
        s.word_errors += 1
        s.word_row += 1
        s.word_peak = max(s.word_peak, s.word_row)
        return
    s.word_row = 0
    s.counts += step
    s.word_last = position


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def power_off(s):
    """Open the power stage and forget every command."""
    s.mode = OFF
    s.stopping = 0
    s.gen = GEN_HOLD
    s.gen_velocity = s.gen_target = s.velocity_ref = s.acceleration_ref = 0.0
    s.int_torque = s.int_d = s.int_q = s.iq_command = s.torque_cmd = 0.0
    torque_filters.empty(s)
    s.next_alpha = s.next_beta = s.v_alpha = s.v_beta = s.out_d = s.out_q = s.led_d = s.led_q = 0.0
    s.vec_current = s.vec_current_target = s.vec_speed = 0.0
    s.exc_point = NOWHERE
    s.exc_now = 0.0
    s.moving = s.closing = s.brake_wait = s.brake_lead = s.stretched = s.shorted = s.catching = 0


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def is_open(s, c):
    """Whether the drive takes its brake for open: by its time, and a pin by the turn that showed it to be out."""
    return s.brake_told == 1 and s.brake_timer >= c.brake_release and (c.brake_free_turn == 0.0 or s.brake_free == 1)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _look_for_the_pin(s, c):
    """Take a pin for out once the motor has turned so far; what freed it hands over to what goes on."""
    if abs(s.position - s.brake_from) < c.brake_free_turn:
        return
    s.brake_free = 1
    # The vector that freed it counts from the nearest turn on. The loops go on from the torque that carries the load,
    # as enabling was told, and where nothing was told from the one that freed it.
    s.vec_angle -= TWO_PI * math.floor(s.vec_angle / TWO_PI + 0.5)
    s.vec_target = s.vec_angle
    if s.int_torque == 0.0:
        s.int_torque = s.torque_cmd
    torque_filters.settle(s, c, s.int_torque)
    s.shorted = s.catching  # a load to be caught: now it may fall
    s.catch_wait = int(CURRENT_GONE * c.inductance / (c.resistance * TICK))


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def work_coil(s, p, c):
    """What the drive does with the brake, by its own values: it knows no more of the brake than its times.

    Torque first, then full voltage, then the lower one; set-points wait until it is surely open. Current stays after
    the voltage has gone until it surely holds.
    """
    if c.brake_operation == 0.0:
        s.coil = 0.0
        s.brake_wait = 0
        if s.closing == 1:
            power_off(s)
            s.stopped = 1
        return
    led = s.shorted == 1 or (s.vec_current > 0.0 and s.vec_current >= s.vec_current_target)
    flows = s.mode != OFF and (s.mode != VECTOR or led)
    # A vector let go of carries nothing any more: the brake closes, and current or short stay until it holds.
    let_go = s.mode == VECTOR and s.vec_current_target == 0.0
    may = s.closing == 0 and s.brake_kept == 0 and not let_go
    by_hand = s.mode == OFF and s.brake_hand == 1
    wanted = by_hand or (may and s.mode != OFF and (flows or s.brake_told == 1))
    if wanted and s.brake_told == 0:
        s.brake_lead += 1
        if by_hand or s.brake_lead >= LEAD_TICKS:
            s.brake_told, s.brake_timer, s.brake_lead = 1, 0, 0
            s.brake_free, s.brake_from = 0, s.position
    elif not wanted and s.brake_told == 1:
        s.brake_told, s.brake_timer = 0, 0
    else:
        s.brake_lead = 0
        s.brake_timer = min(s.brake_timer + 1, SETTLED)
    s.coil = 0.0
    if s.brake_told == 1:
        out = c.brake_free_turn == 0.0 or s.brake_free == 1  # a pin is pulled until it is
        lowered = c.brake_operation == 1.0 and s.brake_timer >= c.brake_pull_in_time and out
        s.coil = min(s.meas_bus, c.brake_hold_voltage if lowered else c.brake_pull_in_voltage)
    if s.brake_told == 1 and c.brake_free_turn > 0.0 and s.brake_free == 0:
        _look_for_the_pin(s, c)
    opened = is_open(s, c)
    s.brake_wait = 1 if s.mode != OFF and s.stopping == 0 and not opened and s.brake_kept == 0 else 0
    if s.closing == 1 and s.brake_told == 0 and s.brake_timer >= c.brake_engage:
        power_off(s)
        s.stopped = 1


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _stop_at_edge(s, p):
    """Stop the shaft where its pin's hole ends: what it had of speed goes into the pin."""
    off = s.theta1 - s.pin_place
    if abs(off) > p.pin_play and off * s.omega1 > 0.0:
        s.energy_friction += 0.5 * p.inertia_motor * s.omega1 * s.omega1
        s.theta1 = s.pin_place + math.copysign(p.pin_play * PAST_EDGE, off)
        s.omega1, s.stuck1 = 0.0, 1


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def work_brake(s, p, c):
    """The brake itself: enough voltage for long enough opens it, too little lets it fall shut."""
    if p.brake_torque <= 0.0:
        s.brake = 0
        return
    if p.pin_play > 0.0 and s.brake == 1:
        _stop_at_edge(s, p)
    open_now = s.coil >= (p.brake_pull_in if s.brake == 1 else p.brake_hold) and p.brake_stuck == 0.0
    wanted = 0 if open_now else 1
    if wanted == s.brake:
        s.brake_time = 0
        return
    s.brake_time += 1
    late = p.controller_delay if c.brake_operation == 2.0 else 0.0
    jammed = wanted == 0 and p.pin_play > 0.0 and s.pin_load > p.pin_jam
    if not jammed and s.brake_time >= late + (p.brake_release if wanted == 0 else p.brake_engage):
        s.pin_place = s.theta1  # a pin falls into a hole wherever it stands
        s.brake, s.brake_time = wanted, 0
        if wanted == 1:
            s.stuck1 = 1 if abs(s.omega1) < 1e-9 else s.stuck1
