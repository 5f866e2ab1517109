"""One tick of an axis as machines are: what `plant.py` leaves out, at the price of time. Numba; plain floats.

Up to three masses with backlash between motor and load, a transmission that does not run true, friction with
presliding, cogging and torque ripple, iron that saturates, a winding that gets warm, a base that gives, a scale that
is not perfect. Each is off at its default of nought. The integration is that of `plant.py`: one classical Runge-Kutta
step a tick, with what depends on position alone held within the tick.

References
----------
Presliding friction: the LuGre model, C. Canudas de Wit, H. Olsson, K. J. Åström, P. Lischinsky, IEEE Trans. Automatic
Control 40 (1995) 419-425 (from memory): dz/dt = v - s0 |v| z / g(v), F = s0 z + s1 dz/dt.
"""

import math

import numba

from cadrel.core.simulation.layout import OFF, TICK
from cadrel.core.simulation.plant import (
    FAST,
    SQRT3_2,
    TWO_PI,
    bus_tick,
    friction,
    lost_share,
    pin_torque,
    stop_torque,
    turned,
)

COPPER = 0.00393  # [1/K] of the winding's resistance at 20 °C, IEC 60028
MAGNET = 0.0011  # [1/K] that the flux of NdFeB magnets falls by, of makers' sheets (common practice)
WARMED = 64  # [ticks] between two looks at the winding's temperature
GOLDEN = 0.6180339887498949  # fractional parts of its multiples are spread evenly: a line's own error


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _harmonics(angle, waves):
    """Sum of amplitude times sine of order times angle plus phase; and its slope over the angle."""
    total = slope = 0.0
    for order, amplitude, phase in waves:
        if amplitude != 0.0:
            total += amplitude * math.sin(order * angle + phase)
            slope += amplitude * order * math.cos(order * angle + phase)
    return total, slope


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _lugre(z, omega, level, bristle, damping):
    """Deflection after a tick at a speed, exactly, and the mean friction torque meanwhile."""
    if abs(omega) < 1e-12:
        return z, bristle * z
    fade = math.exp(-bristle * abs(omega) * TICK / level)
    after = z * fade + math.copysign(level / bristle, omega) * (1.0 - fade)
    return after, 0.5 * bristle * (z + after) + damping * (after - z) / TICK


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _across_gap(twist, rate, half, stiffness, damping):
    """Torque of a shaft with play: nothing within it, and no pull at its edge."""
    if half == 0.0:
        return stiffness * twist + damping * rate
    if twist > half:
        return max(0.0, stiffness * (twist - half) + damping * rate)
    if twist < -half:
        return min(0.0, stiffness * (twist + half) + damping * rate)
    return 0.0


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _slopes(i_d, i_q, w1, w2, w3, twist, twist3, theta2, vd, vq, p, m, powered):
    """Slopes of currents and speeds; `m` holds what is fixed within the tick."""
    (i_d0, i_q0, r, ld, lq, lam_d0, lam_q0, true, fric1, fric2, cogging, inv_j1, inv_j2, inv_j3) = m
    we = p.pole_pairs * w1
    lam_d, lam_q = lam_d0 + ld * (i_d - i_d0), lam_q0 + lq * (i_q - i_q0)
    did = diq = te = 0.0
    if powered:
        did = (vd - r * i_d + we * lam_q) / ld
        diq = (vq - r * i_q - we * lam_d) / lq
        te = 1.5 * p.pole_pairs * (lam_d * i_q - lam_q * i_d)
    shaft = _across_gap(twist, true * w1 - w2, p.backlash, p.stiffness, p.damping)
    a3 = further = 0.0
    if inv_j3 > 0.0:
        further = p.stiffness_third * twist3 + p.damping_third * (w2 - w3)
        a3 = further * inv_j3
    a1 = (te + cogging - true * shaft - fric1 - p.viscous_motor * w1) * inv_j1
    a2 = (shaft - further - fric2 - p.viscous_load * w2 + p.torque_load + stop_torque(theta2, w2, p)) * inv_j2
    return did, diq, a1, a2, a3


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _warm(s, p):
    """Let the winding take the heat of its copper, and give it off, over the ticks since the last look."""
    winding = p.resistance * p.winding_share * (1.0 + COPPER * s.winding_rise)
    loss = 1.5 * winding * (s.i_d * s.i_d + s.i_q * s.i_q)
    s.winding_rise += WARMED * TICK * (loss - p.winding_cooling * s.winding_rise) / p.winding_heat


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def unkind_tick(s, p):  # noqa: PLR0912, PLR0915 - one Runge-Kutta step, written out as its kinder brother's
    """Advance the plant record `s` by one tick with the voltage already in it."""
    h = TICK
    powered = s.mode != OFF
    if not powered:
        s.i_d = s.i_q = 0.0
    if p.winding_heat > 0.0 and s.tick % WARMED == 0:
        _warm(s, p)
    id0, iq0, w10, w20, w30 = s.i_d, s.i_q, s.omega1, s.omega2, s.omega3
    th0, theta20, theta30 = s.theta1, s.theta2, s.theta3
    # What depends on the angle alone, or on heat: held within the tick.
    error, slope = _harmonics(th0, p.transmission)
    true = 1.0 + slope
    cogging, _ = _harmonics(th0, p.cogging)
    ripple, _ = _harmonics(p.pole_pairs * th0, p.ripple)
    r = p.resistance * (1.0 + COPPER * p.winding_share * s.winding_rise)
    psi = p.flux_linkage * (1.0 - MAGNET * s.winding_rise) * (1.0 + ripple)
    ld, lq = p.inductance_d, p.inductance_q
    if p.saturation > 0.0:
        x, y, biased = (id0 + p.magnetised) / p.saturation, iq0 / p.saturation, p.magnetised / p.saturation
        whole = p.inductance_d * (1.0 + biased * biased)
        lam_d = psi + whole * p.saturation * (math.atan(x) - math.atan(biased))
        lam_q = p.inductance_q * p.saturation * math.atan(y)
        ld, lq = whole / (1.0 + x * x), p.inductance_q / (1.0 + y * y)
    else:
        lam_d, lam_q = psi + ld * id0, lq * iq0
    beta = s.v_beta * p.phase_sign
    va, vb = s.v_alpha * p.phase_cos - beta * p.phase_sin, s.v_alpha * p.phase_sin + beta * p.phase_cos
    c0, s0 = s.cos_rotor, s.sin_rotor
    if powered and p.dead_voltage > 0.0 and s.shorted == 0:
        ia, ib = id0 * c0 - iq0 * s0, id0 * s0 + iq0 * c0
        ea = lost_share(ia, p)
        eb, ec = lost_share(-0.5 * ia + SQRT3_2 * ib, p), lost_share(-0.5 * ia - SQRT3_2 * ib, p)
        va -= p.dead_voltage * (2 * ea - eb - ec) / 3
        vb -= p.dead_voltage * (eb - ec) / (2 * SQRT3_2)
    twist0, twist30 = th0 + error - theta20, theta20 - theta30
    te0 = 1.5 * p.pole_pairs * (lam_d * iq0 - lam_q * id0)
    shaft0 = _across_gap(twist0, true * w10 - w20, p.backlash, p.stiffness, p.damping)
    inv_j3 = 1.0 / p.inertia_third if p.inertia_third > 0.0 else 0.0
    further0 = p.stiffness_third * twist30 + p.damping_third * (w20 - w30) if inv_j3 > 0.0 else 0.0
    stop0 = stop_torque(theta20, w20, p)
    # Friction: on bristles where presliding is given, else exactly Coulomb's, sticking.
    held = 0.0
    if s.brake == 1:
        held = p.brake_torque if p.pin_play == 0.0 else pin_torque(s, p, te0 + cogging - true * shaft0)
    wave, _ = _harmonics(theta20, p.friction_wave)
    level2 = p.coulomb_load * (1.0 + wave)
    hold1 = hold2 = False
    if p.bristle_motor > 0.0 and held == 0.0:
        rise = 1.0 + (p.breakaway_ratio - 1.0) * math.exp(-min((w10 / p.stribeck_speed) ** 2, 40.0))
        s.bristle1, f1 = _lugre(s.bristle1, w10, p.coulomb_motor * rise, p.bristle_motor, p.bristle_damping_motor)
    else:
        f1, hold1 = friction(
            w10, te0 + cogging - true * shaft0, s.stuck1 == 1, p.coulomb_motor + held, p.breakaway_ratio,
            p.stribeck_speed,
        )  # fmt: skip
    if p.bristle_load > 0.0:
        rise = 1.0 + (p.breakaway_ratio - 1.0) * math.exp(-min((w20 / p.stribeck_speed) ** 2, 40.0))
        s.bristle2, f2 = _lugre(s.bristle2, w20, level2 * rise, p.bristle_load, p.bristle_damping_load)
    else:
        net = shaft0 - further0 + p.torque_load + stop0
        f2, hold2 = friction(w20, net, s.stuck2 == 1, level2, p.breakaway_ratio, p.stribeck_speed)
    ij1 = 0.0 if hold1 else 1.0 / p.inertia_motor
    ij2 = 0.0 if hold2 else 1.0 / p.inertia_load
    m = (id0, iq0, r, ld, lq, lam_d, lam_q, true, f1, f2, cogging, ij1, ij2, inv_j3)
    dm = 0.5 * h * p.pole_pairs * w10
    cm, sm = turned(c0, s0, dm)
    ce, se = turned(cm, sm, dm)
    vd0, vq0 = va * c0 + vb * s0, -va * s0 + vb * c0
    vdm, vqm = va * cm + vb * sm, -va * sm + vb * cm
    vde, vqe = va * ce + vb * se, -va * se + vb * ce
    half = 0.5 * h
    d1, q1, a1, b1, e1 = _slopes(id0, iq0, w10, w20, w30, twist0, twist30, theta20, vd0, vq0, p, m, powered)
    u1, u2, u3 = w10 + half * a1, w20 + half * b1, w30 + half * e1
    d2, q2, a2, b2, e2 = _slopes(
        id0 + half * d1, iq0 + half * q1, u1, u2, u3, twist0 + half * (true * w10 - w20), twist30 + half * (w20 - w30),
        theta20 + half * w20, vdm, vqm, p, m, powered,
    )  # fmt: skip
    x1, x2, x3 = w10 + half * a2, w20 + half * b2, w30 + half * e2
    d3, q3, a3, b3, e3 = _slopes(
        id0 + half * d2, iq0 + half * q2, x1, x2, x3, twist0 + half * (true * u1 - u2), twist30 + half * (u2 - u3),
        theta20 + half * u2, vdm, vqm, p, m, powered,
    )  # fmt: skip
    y1, y2, y3 = w10 + h * a3, w20 + h * b3, w30 + h * e3
    d4, q4, a4, b4, e4 = _slopes(
        id0 + h * d3, iq0 + h * q3, y1, y2, y3, twist0 + h * (true * x1 - x2), twist30 + h * (x2 - x3),
        theta20 + h * x2, vde, vqe, p, m, powered,
    )  # fmt: skip
    h6 = h / 6
    s.i_d = id0 + h6 * (d1 + 2 * (d2 + d3) + d4)
    s.i_q = iq0 + h6 * (q1 + 2 * (q2 + q3) + q4)
    w11 = w10 + h6 * (a1 + 2 * (a2 + a3) + a4)
    w21 = w20 + h6 * (b1 + 2 * (b2 + b3) + b4)
    s.omega3 = w30 + h6 * (e1 + 2 * (e2 + e3) + e4)
    s.theta1 = th0 + h6 * (w10 + 2 * (u1 + x1) + y1)
    s.theta2 = theta20 + h6 * (w20 + 2 * (u2 + x2) + y2)
    s.theta3 = theta30 + h6 * (w30 + 2 * (u3 + x3) + y3)
    slides1, slides2 = p.bristle_motor > 0.0 and held == 0.0, p.bristle_load > 0.0
    s.stuck1 = 1 if hold1 or (not slides1 and p.coulomb_motor + held > 0.0 and w11 * f1 < 0.0) else 0
    s.stuck2 = 1 if hold2 or (not slides2 and level2 > 0.0 and w21 * f2 < 0.0) else 0
    s.omega1 = 0.0 if s.stuck1 == 1 else w11
    s.omega2 = 0.0 if s.stuck2 == 1 else w21
    if p.base_inertia > 0.0:
        _move_base(s, p, te0)
    _look(s, p)
    power0 = power1 = 0.0
    if powered:
        power0 = 1.5 * (vd0 * id0 + vq0 * iq0)
        power1 = 1.5 * (vde * s.i_d + vqe * s.i_q)
        s.energy_copper += 0.75 * h * r * (id0 * id0 + iq0 * iq0 + s.i_d * s.i_d + s.i_q * s.i_q)
    s.energy_in += half * (power0 + power1)
    s.energy_friction += half * (
        (f1 + p.viscous_motor * w10) * w10 + (f1 + p.viscous_motor * w11) * w11
        + (f2 + p.viscous_load * w20) * w20 + (f2 + p.viscous_load * w21) * w21
    )  # fmt: skip
    if abs(twist0) > p.backlash:
        s.energy_spring_loss += half * p.damping * ((true * w10 - w20) ** 2 + (true * w11 - w21) ** 2)
    s.energy_spring_loss += half * p.damping_third * ((w20 - w30) ** 2 + (w21 - s.omega3) ** 2)
    bus_tick(s, p, 0.5 * (power0 + power1))


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _move_base(s, p, te):
    """The motor pushes its base back; the base swings on its feet. Semi-implicit Euler: it is slow."""
    s.base_speed += TICK * (-te - p.base_stiffness * s.base_at - p.base_damping * s.base_speed) / p.base_inertia
    s.base_at += TICK * s.base_speed


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _look(s, p):
    """What the device on the motor shows beside the truth: its base moves, its disc is off centre, its lines differ."""
    error, _ = _harmonics(s.theta1, p.scale_error)
    if p.line_jitter > 0.0:
        place = s.theta1 * p.periods_of_lines / TWO_PI
        line = math.floor(place)
        this, next_ = _of_line(line), _of_line(line + 1.0)
        error += p.line_jitter * (this + (place - line) * (next_ - this)) * TWO_PI / p.periods_of_lines
    s.scale_off = error - s.base_at


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _of_line(line):
    """A line's own error, between -1 and 1: the same each time it is met."""
    share = line * GOLDEN
    share = (share - math.floor(share)) * 97.0
    return 2.0 * (share - math.floor(share)) - 1.0
