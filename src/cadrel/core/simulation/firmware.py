"""One tick of the drive: measurement, set-point generator, cascade, current loop, guards, recorder. Numba.

`docs/control-structure.md` states these equations for a stranger; the frequency-domain model is derived from them.
"""

import math

import numba

from cadrel.core.power import LIMITED_FROM, LIMITED_TO
from cadrel.core.simulation import torque_filters
from cadrel.core.simulation.device import drive_angle, power_off, rotor_angle
from cadrel.core.simulation.layout import (
    ARMED,
    AT_CURRENT_D,
    AT_CURRENT_Q,
    AT_POSITION,
    AT_TORQUE,
    AT_VELOCITY,
    AT_VOLTAGE_D,
    AT_VOLTAGE_Q,
    CURRENT,
    GEN_HOLD,
    GEN_RAMP,
    GRADUAL,
    HALLS,
    NOWHERE,
    OFF,
    POSITION,
    REC_DONE,
    RESOLVER,
    ROUNDED,
    SERIAL,
    SINCOS,
    SLOW,
    TICK,
    TRIGGERED,
    TRIP_BRAKE,
    TRIP_FEEDBACK,
    TRIP_FOLLOWING,
    TRIP_GUARD,
    TRIP_LEASE,
    TRIP_NONE,
    TRIP_OSCILLATION,
    TRIP_OVERCURRENT,
    TRIP_OVERSPEED,
    TRIP_OVERVOLTAGE,
    TRIP_TRAVEL,
    TRIP_UNDERVOLTAGE,
    TV,
    VECTOR,
    VELOCITY,
)
from cadrel.core.simulation.oscillation import forget_swing, look_for_swing
from cadrel.core.simulation.plant import FAST, SQRT3_2, TWO_PI, noise, turned

RENEWED = 32  # [ticks] between exact sines and cosines of the angles
SERIES_HOLDS = 0.6  # [rad] up to which `turned` is good to 5e-7
SMALL_TURN = 0.2  # [rad] up to which the series of `turned` is good to 1e-10
STILL_SPEED = 0.5  # [rad/s] at the motor: a quick stop ends below it
PATIENCE = 32000  # [ticks] 2 s more for the holder of the lease while the axis only holds
STANDSTILL_TICKS = 8000  # [ticks] half a second more than its ramp: a quick stop that has not ended then cuts power
FREED_WITHIN = 48000  # [ticks] 3 s: a pin that has not come free by then stays
FREEING_RATE = TWO_PI * 0.5  # [rad/s] of the torque to and fro, or of the vector, that frees a pin
SLOWEST_STOP = 1.5  # times the ramp
CATCH_SMOOTHED = 0.12  # share of a tick: half a millisecond takes the noise out of a current that shows the rotor


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def measure(s, p, c):
    """Sample phase currents, bus and rotor angle at the start of the tick."""
    exact = s.tick % RENEWED == 0  # in between, small turns: sine and cosine are a good part of a tick's cost
    the = p.pole_pairs * s.theta1
    step = the - s.angle_rotor
    if exact or abs(step) > SMALL_TURN:
        ct, st = math.cos(the), math.sin(the)
    else:
        ct, st = turned(s.cos_rotor, s.sin_rotor, step)
    s.cos_rotor, s.sin_rotor, s.angle_rotor = ct, st, the
    own_alpha, own_beta = s.i_d * ct - s.i_q * st, s.i_d * st + s.i_q * ct
    alpha = own_alpha * p.phase_cos + own_beta * p.phase_sin
    beta = (own_beta * p.phase_cos - own_alpha * p.phase_sin) * p.phase_sign
    # Beside the middle of a zero vector current has run on against the mean voltage: PWM ripple is sampled with it.
    alpha -= p.ripple_shown * s.v_alpha
    beta -= p.ripple_shown * s.v_beta
    ia = alpha + p.current_noise * noise(s) + p.current_offset_a
    ib = p.current_gain_b * (-0.5 * alpha + SQRT3_2 * beta) + p.current_noise * noise(s) + p.current_offset_b
    ia = math.floor(ia / p.current_lsb + 0.5) * p.current_lsb
    ib = math.floor(ib / p.current_lsb + 0.5) * p.current_lsb
    ia, ib = ia - c.offset_a, (ib - c.offset_b) / c.sensor_gain_b
    alpha, beta = ia, c.phase_order * (ia + 2 * ib) / (2 * SQRT3_2)
    before = s.angle_used
    if s.mode == VECTOR:
        s.angle_used = s.vec_angle
    else:
        s.angle_used = rotor_angle(s, c)
    step = s.angle_used - before
    if exact or abs(step) > SMALL_TURN:
        cu, su = math.cos(s.angle_used), math.sin(s.angle_used)
    else:
        cu, su = turned(s.cos_used, s.sin_used, step)
    s.cos_used, s.sin_used = cu, su
    s.meas_d = alpha * cu + beta * su
    s.meas_q = -alpha * su + beta * cu
    s.meas_bus = s.v_bus


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _measure_velocity(s, c):
    """Counts between the last edges of two samples, over the time between those edges; or as the device tells it."""
    per_count = c.direction * TWO_PI / c.counts
    s.position = drive_angle(s, c, s.counts) + s.position_zero
    if c.device in (SINCOS, RESOLVER, SERIAL):
        if c.device == RESOLVER:
            # Of every tick since the last sample: one alone would fold noise from above half the sampling rate down to
            # speeds that no position shows, and the axis would wander by them.
            s.velocity_raw = c.direction * s.track_summed / SLOW / c.periods
            s.track_summed = 0.0
        else:
            s.velocity_raw = per_count * (s.counts - s.counts_last) / TV
            s.counts_last = s.counts
        s.velocity += (1.0 - c.feedback_pole) * (s.velocity_raw - s.velocity)
        return
    if s.edge_fresh == 1:
        dt, edges = (s.edge_time - s.edge_last_time) * TICK, s.edge_count - s.edge_last_count
        if edges * s.edge_way < 0 and abs(edges) == 1:
            s.velocity_raw = 0.0  # the same edge crossed back: it turned, nobody knows how fast
        elif dt > 0.0:
            s.velocity_raw = per_count * edges / dt
        s.edge_way = edges
        s.edge_last_time, s.edge_last_count, s.edge_fresh = s.edge_time, s.edge_count, 0
    else:
        bound = abs(per_count) / max((s.tick - s.edge_time) * TICK, TV)
        if bound < abs(per_count) / (0.2 if c.device == HALLS else 0.02):  # no edge for so long: standstill
            s.velocity_raw = 0.0
        elif abs(s.velocity_raw) > bound:
            s.velocity_raw = math.copysign(bound, s.velocity_raw)
    s.velocity += (1.0 - c.feedback_pole) * (s.velocity_raw - s.velocity)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _measure_load(s, c):
    """Where the device on the load shows it, and which of the two positions the position loop compares."""
    s.load_position = s.position
    if c.second_counts != 0.0:
        s.load_position = TWO_PI * (s.second + 0.5) / c.second_counts + s.load_zero
    s.place = s.load_position if c.place_from_load != 0.0 else s.position


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _share_of_ramp(s, c):
    """How much of its rate a ramp keeps: less where it brakes onto a bus that is rising, so that it is stretched.

    Only the ramp gives way, never the torque: what holds a sinking load is not for the bus to take.
    """
    s.stretched = 0
    if c.braking_reaction != 0.0 or abs(s.gen_target) >= abs(s.gen_velocity) or s.gen_velocity * s.iq_command >= 0.0:
        return 1.0
    room = (s.meas_bus - c.chopper_on) / (c.trip_overvoltage - c.chopper_on)
    if room <= LIMITED_FROM:
        return 1.0
    s.stretched = 1
    return max(0.0, 1.0 - (room - LIMITED_FROM) / (LIMITED_TO - LIMITED_FROM))


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _ramp(s, c):
    """Advance the velocity set-point by one sample towards its target; it waits for an axis that may not brake so."""
    share = _share_of_ramp(s, c)
    step = s.gen_rate * TV * share
    if s.stretched == 1 and abs(s.gen_velocity) < abs(s.velocity) and s.gen_velocity * s.velocity > 0.0:
        # The axis lags behind its ramp: waiting where the ramp is, the loop would brake on. It waits where the axis is.
        s.gen_velocity += (1.0 - share) * (s.velocity - s.gen_velocity)
    dv = min(max(s.gen_target - s.gen_velocity, -step), step)
    s.position_ref += TV * (s.gen_velocity + 0.5 * dv)
    s.gen_velocity += dv
    s.velocity_ref, s.acceleration_ref = s.gen_velocity, dv / TV
    s.moving = 1 if s.gen_velocity != 0.0 or s.gen_target != 0.0 else 0
    if s.moving == 0:
        s.gen = GEN_HOLD


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def follow(s, c, path):
    """Advance the set-points of a move in progress by one velocity sample; they pass the command notch."""
    s.path_time += TV
    t = s.path_time
    n = path.shape[0]
    k = s.path_index
    while k < n - 1 and t >= path[k, 1]:
        k += 1
    s.path_index = k
    dt = min(t, path[k, 1]) - path[k, 0]
    v, a, j = path[k, 3], path[k, 4], path[k, 5]
    at = path[k, 2] + dt * (v + dt * (a / 2 + dt * j / 6))
    speed, rate = v + dt * (a + dt * j / 2), a + dt * j
    over = t >= path[n - 1, 1]
    s.moving = 1 if not over and (v != 0.0 or a != 0.0 or j != 0.0) else 0
    if over and t >= path[n - 1, 1] + c.shaping_tail:
        s.gen = GEN_HOLD
    elif c.shaping_tail > 0.0:
        if over:
            speed = rate = 0.0
        at, s.shape_x1, s.shape_x2 = _notched(at, s.shape_x1, s.shape_x2, c)
        speed, s.shape_v1, s.shape_v2 = _notched(speed, s.shape_v1, s.shape_v2, c)
        rate, s.shape_a1, s.shape_a2 = _notched(rate, s.shape_a1, s.shape_a2, c)
    s.position_ref, s.velocity_ref, s.acceleration_ref = s.path_origin + at, speed, rate
    s.gen_velocity = speed


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _notched(x, one, two, c):
    """One sample through the command notch, and its two states after it."""
    y = c.shaping_b0 * x + one
    return y, c.shaping_b1 * x - c.shaping_a1 * y + two, c.shaping_b2 * x - c.shaping_a2 * y


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _cascade(s, c):
    """Position P with feedforward, velocity PI, torque filters, limits: `iq_command` for the next four ticks."""
    exc = s.exc_now
    point = s.exc_point
    if s.mode == POSITION:
        target = s.position_ref + (exc if point == AT_POSITION else 0.0)
        command = s.gain_share * c.position_gain * (target - s.place) + c.velocity_feedforward * s.velocity_ref
    else:
        command = s.velocity_ref
        s.position_ref = s.place
    command += exc if point == AT_VELOCITY else 0.0
    limit = c.velocity_limit * 1.1
    s.velocity_cmd = min(max(command, -limit), limit)
    error = s.velocity_cmd - s.velocity
    if s.brake_wait == 1 and c.brake_free_turn > 0.0 and s.brake_told == 1:
        # Torque to and fro about what carries the load takes it off the pin, one way or the other; not before the coil
        # has had its time: a pin that comes out by itself leaves a load that nothing pushes.
        push = c.brake_free_torque * math.sin(FREEING_RATE * TICK * max(s.brake_timer - c.brake_release, 0.0))
        s.iq_command = min(max((s.int_torque + push) / c.torque_constant, -c.current_limit), c.current_limit)
        s.torque_cmd = s.iq_command * c.torque_constant
        s.position_ref, s.limited = s.place, 0
        return
    raw = s.gain_share * c.velocity_gain * error + s.int_torque
    held = torque_filters.states(s)
    through = torque_filters.filtered(s, c, raw)
    torque = (
        through
        + c.acceleration_torque * s.acceleration_ref
        + c.friction_torque * min(max(s.velocity_ref / c.friction_blend, -1.0), 1.0)
        + (exc if point == AT_TORQUE else 0.0)
    )
    most = c.current_limit
    if s.thermal >= c.thermal_budget:
        most = min(most, c.current_continuous)
    iq = torque / c.torque_constant
    s.limited = 1 if abs(iq) > most else 0
    s.iq_command = min(max(iq, -most), most)
    s.torque_cmd = s.iq_command * c.torque_constant
    if s.limited == 1:
        torque_filters.conditioned(s, c, held, through - torque + s.torque_cmd)
    if s.limited == 0 or error * iq < 0.0:  # integrate unless it would push further into the limit
        largest = most * c.torque_constant  # of more, the other way, it would have to be unwound
        s.int_torque += s.gain_share * s.gain_share * c.velocity_integral * TV * error
        s.int_torque = min(max(s.int_torque, -largest), largest)
    if point != NOWHERE:
        forget_swing(s)
    elif look_for_swing(s, c, (through - s.int_torque) / c.torque_constant):
        _trip(s, c, TRIP_OSCILLATION, True)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def watch(s, c):
    """First half of every fourth tick: where the axis is and how fast, and whether that is allowed."""
    _measure_velocity(s, c)
    _measure_load(s, c)
    _guards(s, c)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def regulate(s, c):
    """Second half of every fourth tick, the move's set-points being there: ramps, loops, heat."""
    if s.mode in (VELOCITY, POSITION):
        if s.gen == GEN_RAMP and s.brake_wait == 0:
            _ramp(s, c)
        else:
            s.stretched = 0
        if s.gen != GEN_HOLD and s.brake_wait == 1:
            s.moving = 1  # it will, as soon as the brake is open
        if s.gen == GEN_HOLD:
            s.moving = 0
            s.velocity_ref = s.acceleration_ref = s.gen_velocity = 0.0
        _cascade(s, c)
    else:
        s.position_ref = s.place
        s.velocity_ref = s.acceleration_ref = 0.0
        s.moving = 1 if s.mode == VECTOR and s.vec_rate != 0.0 and s.vec_angle != s.vec_target else 0
    heat = s.meas_d**2 + s.meas_q**2 - c.current_continuous**2
    s.thermal = max(0.0, s.thermal + TV * heat)
    if s.stopping > 0:
        _finish_stop(s)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _finish_stop(s):
    s.stopping += 1 if s.stretched == 1 else SLOW  # a ramp stretched to spare the bus may take four times as long
    still = s.gen_velocity == 0.0 and abs(s.velocity) < STILL_SPEED
    if (still and s.stopping > 4 * SLOW) or s.stopping > s.stop_limit:
        s.closing = 1


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def begin_stop(s, c):
    """Quick stop: ramp to standstill where a loop is closed, cut the current where none is."""
    s.exc_point = NOWHERE
    s.exc_now = 0.0
    if s.mode not in (VELOCITY, POSITION):
        s.closing = 1  # no loop to ramp with: current off, where there is a brake as soon as it holds
        return
    if s.stopping == 0:
        s.stopping = 1
        if s.mode == VELOCITY or s.gen == GEN_HOLD:
            s.gen_velocity = s.velocity
        s.gen_target = 0.0
        s.gen_rate = c.quick_stop
        s.gen = GEN_RAMP
        s.stop_limit = int(SLOWEST_STOP * abs(s.gen_velocity) / (c.quick_stop * TICK)) + STANDSTILL_TICKS


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _trip(s, c, code, cut):
    if s.trip == TRIP_NONE:
        s.trip = code
        s.trip_velocity, s.trip_position = s.velocity, s.position
    if cut:
        power_off(s)
        s.stopped = 1
    else:
        begin_stop(s, c)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _stands(s):
    """Holding a position, or a vector without current: losing touch for a page's reload does no harm."""
    idle = s.mode == VECTOR and s.vec_current_target == 0.0 and s.vec_current == 0.0
    return idle or (s.mode == POSITION and s.gen == GEN_HOLD and s.exc_point == NOWHERE)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _bus_too_high(s, c):
    if c.braking_reaction == 2.0:
        s.coasted = 1  # chosen: current goes, the axis runs out, and no fault need be reset
        power_off(s)
        s.stopped = 1
    else:
        _trip(s, c, TRIP_OVERVOLTAGE, True)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _leave_guard(s, c):
    if s.guard_cuts == 0 and s.mode != VECTOR:
        _trip(s, c, TRIP_GUARD, False)
        return
    if s.trip == TRIP_NONE:  # a loop on an angle that nobody has confirmed must not be trusted to ramp down
        s.trip, s.trip_velocity, s.trip_position = TRIP_GUARD, s.velocity, s.position
    s.stopping = s.closing = 1
    if s.mode == VECTOR:  # it slipped through: shorted windings brake it whatever its angle, until the brake holds
        s.shorted = 1


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _guards(s, c):
    """What the drive watches in every velocity sample, whoever commands it."""
    bad_words, s.word_peak = s.word_peak, 0
    if s.mode == OFF:
        return
    if abs(s.velocity) > c.trip_speed:
        _trip(s, c, TRIP_OVERSPEED, True)
    elif s.meas_bus > c.trip_overvoltage:
        _bus_too_high(s, c)
    elif s.meas_bus < c.trip_undervoltage:
        _trip(s, c, TRIP_UNDERVOLTAGE, True)
    elif bad_words > c.errors_tolerated:
        _trip(s, c, TRIP_FEEDBACK, True)
    elif s.stopping > 0:
        return
    elif (
        s.brake_wait * s.brake_told == 1 and c.brake_free_turn > 0.0 and s.brake_timer > c.brake_release + FREED_WITHIN
    ):
        _trip(s, c, TRIP_BRAKE, False)
    elif s.tick > s.deadline + (PATIENCE if _stands(s) else 0):
        _trip(s, c, TRIP_LEASE, False)
    elif abs(s.velocity) > s.guard_speed or not s.guard_low <= s.position <= s.guard_high:
        _leave_guard(s, c)
    elif (s.position > c.travel_max and s.velocity > 0.0) or (s.position < c.travel_min and s.velocity < 0.0):
        _trip(s, c, TRIP_TRAVEL, False)
    elif s.mode == POSITION and abs(s.position_ref - s.place) > c.following_error:
        s.position_ref, s.gen_velocity = s.place, s.velocity
        _trip(s, c, TRIP_FOLLOWING, False)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _vector(s, c):
    """Turn and ramp the commanded vector by one tick; with an acceleration it starts and stops gently."""
    if s.brake_told == 1 and c.brake_free_turn > 0.0 and s.brake_free == 0 and s.brake_timer >= c.brake_release:
        # Somewhere on its way round the vector takes the load off the pin.
        s.vec_speed = FREEING_RATE
        s.vec_angle += FREEING_RATE * TICK
        s.vec_target = s.vec_angle
        return
    gap = s.vec_target - s.vec_angle
    fastest = s.vec_rate
    if s.vec_accel > 0.0:
        fastest = min(s.vec_rate, math.sqrt(2.0 * s.vec_accel * abs(gap)) + s.vec_accel * TICK)
        fastest = min(fastest, abs(s.vec_speed) + s.vec_accel * TICK)
    step = fastest * TICK
    s.vec_speed = math.copysign(fastest, gap) if abs(gap) > step else 0.0
    s.vec_angle += gap if abs(gap) <= step else math.copysign(step, gap)
    rise = s.vec_current_rate * TICK
    gap = s.vec_current_target - s.vec_current
    if (
        s.vec_current_target == 0.0
        and c.brake_operation > 0.0
        and (s.brake_told == 1 or s.brake_timer < c.brake_engage)
    ):
        return  # it carries the load until the brake holds
    s.vec_current += min(max(gap, -rise), rise)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _short(s):
    """Keep the windings shorted; where a load is to be caught, lead it as soon as their current shows that it moves.

    What the rotor's motion drives through its shorted winding opposes the motion: a vector in the direction of that
    current does as well, whatever the angle of the rotor, the sign of the counts and the order of the phases.
    """
    s.int_d = s.int_q = s.out_d = s.out_q = s.next_alpha = s.next_beta = 0.0
    if s.catching == 0:
        return
    s.catch_d += CATCH_SMOOTHED * (s.meas_d - s.catch_d)
    s.catch_q += CATCH_SMOOTHED * (s.meas_q - s.catch_q)
    if s.brake_told == 0:  # what the sensors show of a winding without current
        s.catch_base_d, s.catch_base_q = s.catch_d, s.catch_q
        return
    s.catch_wait -= 1
    if s.catch_wait > 0 or s.vec_current_target == 0.0:  # let go of before it was caught: the short brakes on
        return
    along, across = s.catch_d - s.catch_base_d, s.catch_q - s.catch_base_q
    if along * along + across * across < s.catch_level * s.catch_level:
        return
    s.shorted = s.catching = 0
    s.vec_angle += math.atan2(across, along)
    s.vec_target, s.vec_speed, s.vec_current = s.vec_angle, 0.0, s.vec_current_target


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _given_back(i, c):
    """Voltage added to a phase against what dead time takes at its current. [V]"""
    x = i / c.dead_current
    if c.dead_shape == GRADUAL:
        return c.dead_voltage * x / (1.0 + abs(x))
    if c.dead_shape == ROUNDED:
        return c.dead_voltage * x / math.sqrt(1.0 + x * x)
    return c.dead_voltage * min(max(x, -1.0), 1.0)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def fast_tick(s, c):
    """Current loop: PI per axis, decoupling, voltage circle with d first, back-calculation against wind-up."""
    if s.mode == OFF:
        return
    if max(abs(s.meas_d), abs(s.meas_q)) > c.trip_current:
        _trip(s, c, TRIP_OVERCURRENT, True)
        return
    if s.shorted == 1:
        _short(s)
        return
    exc, point = s.exc_now, s.exc_point
    omega = 0.0
    if s.mode == VECTOR:
        _vector(s, c)
        s.ref_d, s.ref_q = s.vec_current, 0.0
    else:
        omega = c.pole_pairs * s.velocity
        s.ref_d, s.ref_q = 0.0, (0.0 if s.mode == CURRENT else s.iq_command)
    s.ref_d += exc if point == AT_CURRENT_D else 0.0
    s.ref_q += exc if point == AT_CURRENT_Q else 0.0
    error_d, error_q = s.ref_d - s.meas_d, s.ref_q - s.meas_q
    vd = c.current_gain * error_d + s.int_d - omega * c.inductance * s.meas_q
    vq = c.current_gain * error_q + s.int_q + omega * (c.inductance * s.meas_d + c.flux_linkage)
    vd += exc if point == AT_VOLTAGE_D else 0.0
    vq += exc if point == AT_VOLTAGE_Q else 0.0
    most = s.meas_bus / (2 * SQRT3_2) - c.dead_voltage
    out_d, out_q = vd, vq
    s.saturated = 1 if vd * vd + vq * vq > most * most else 0
    if s.saturated == 1:
        out_d = min(max(vd, -most), most)
        room = math.sqrt(max(most * most - out_d * out_d, 0.0))
        out_q = min(max(vq, -room), room)
        error_d += (out_d - vd) / c.current_gain
        error_q += (out_q - vq) / c.current_gain
    s.int_d += c.current_integral * TICK * error_d
    s.int_q += c.current_integral * TICK * error_q
    s.out_d, s.out_q = out_d, out_q
    # The voltage acts one tick later and for one tick: turn it by a tick and a half.
    rate = s.vec_speed if s.mode == VECTOR else omega
    ahead = 1.5 * TICK * rate
    if abs(ahead) < SERIES_HOLDS:
        ca, sa = turned(s.cos_used, s.sin_used, ahead)
    else:  # a vector that jumps: the series would make of it a voltage beyond all bounds
        ca, sa = math.cos(s.angle_used + ahead), math.sin(s.angle_used + ahead)
    alpha, beta = out_d * ca - out_q * sa, out_d * sa + out_q * ca
    if c.dead_voltage > 0.0:  # by the currents as the loop makes them of their commands: these have no noise about zero
        s.led_d += c.current_share * (s.ref_d - s.led_d)
        s.led_q += c.current_share * (s.ref_q - s.led_q)
        along, across = s.led_d * ca - s.led_q * sa, SQRT3_2 * (s.led_d * sa + s.led_q * ca)
        ua = _given_back(along, c)
        ub, uc = _given_back(across - 0.5 * along, c), _given_back(-across - 0.5 * along, c)
        alpha += (2 * ua - ub - uc) / 3
        beta += (ub - uc) / (2 * SQRT3_2)
    s.next_alpha, s.next_beta = alpha, c.phase_order * beta


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def advance_excitation(s, excitation):
    """Take the next sample of an excitation in progress; after the last one the point goes quiet by itself."""
    if s.tick % s.exc_div != 0:
        return
    if s.exc_index >= s.exc_len:
        s.exc_index = 0
        s.exc_left -= 1
    if s.exc_left <= 0:
        s.exc_point = NOWHERE
        s.exc_now = 0.0
        return
    s.exc_now = excitation[s.exc_index]
    s.exc_index += 1


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def record(s, signals, channels, tape):
    """Write the chosen signals of a recorder at work; a ring until the trigger comes, then to the end."""
    if s.tick % s.rec_div != 0:
        return
    _fill(s, signals)
    at = s.rec_pos
    for k in range(channels.shape[0]):
        tape[k, at] = signals[channels[k]]
    s.rec_pos = (at + 1) % s.rec_n
    s.rec_filled = min(s.rec_filled + 1, s.rec_n)
    if s.rec_state == ARMED:
        now = signals[s.trig_signal] if s.trig_signal >= 0 else 0.0
        met = s.trig_signal < 0
        if s.trig_signal >= 0:
            up = s.trig_last < s.trig_level <= now
            down = s.trig_last > s.trig_level >= now
            met = up if s.trig_rising == 1 else down
        s.trig_last = now
        if met and s.rec_filled > s.rec_pre:
            s.rec_state = TRIGGERED
            s.rec_left = s.rec_n - s.rec_pre - 1
    else:
        s.rec_left -= 1
    if s.rec_state == TRIGGERED and s.rec_left <= 0:
        s.rec_state = REC_DONE


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _fill(s, x):
    """The recorder's signals, in the order of `layout.SIGNALS`."""
    x[0], x[1], x[2] = s.position, s.position_ref, s.position_ref - s.place
    x[3], x[4], x[5] = s.velocity, s.velocity_cmd if s.mode in (VELOCITY, POSITION) else 0.0, s.acceleration_ref
    x[6], x[7], x[8], x[9], x[10] = s.torque_cmd, s.meas_d, s.meas_q, s.ref_d, s.ref_q
    x[11], x[12], x[13] = s.out_d, s.out_q, s.meas_bus
    x[14], x[15], x[16], x[17] = s.counts - s.count_zero, s.hall, s.index_count - s.count_zero, s.index_seen
    x[18], x[19], x[20], x[21] = s.angle_used, s.vec_angle, s.exc_now, s.moving
    x[22], x[23] = s.saturated, s.limited
    x[24], x[25], x[26] = s.sig_cos, s.sig_sin, s.second
    x[27], x[28], x[29] = s.coil, s.chopper, s.stretched
    x[30] = s.load_position
