"""One tick of the true axis: dq motor, two masses with friction, dc bus. Numba; plain floats and records.

Electrical and mechanical states advance together by one classical Runge-Kutta step a tick. Friction is exact
Coulomb: a mass either slides (sign fixed within the tick) or sticks (speed zero until the torque on it exceeds
breakaway); a sign change within a tick ends in sticking. The applied stator voltage is held over the tick.
"""

import math

import numba

from cadrel.core.simulation.layout import OFF, TICK

TWO_PI = 2 * math.pi
HOT, COOLED = 320.0, 270.0  # [K] over the air where a resistor's switch opens and closes again; common practice
SQRT3_2 = math.sqrt(3) / 2
FAST = {"contract", "arcp", "nsz", "reassoc"}  # no NaN or infinity shortcuts: those must stay visible


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def friction(omega, net, stuck, coulomb, ratio, stribeck):
    """Return the sliding friction torque for this tick, and whether the mass sticks through it."""
    if stuck:
        if abs(net) <= coulomb * ratio:
            return 0.0, True
        return math.copysign(coulomb * ratio, net), False
    share = (omega / stribeck) ** 2
    rise = (ratio - 1.0) * math.exp(-share) if share < 20.0 else 0.0
    return math.copysign(coulomb * (1.0 + rise), omega), False


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def stop_torque(theta, omega, p):
    if theta > p.stop_high:
        return min(0.0, -p.stop_stiffness * (theta - p.stop_high) - p.stop_damping * omega)
    if theta < p.stop_low:
        return max(0.0, -p.stop_stiffness * (theta - p.stop_low) - p.stop_damping * omega)
    return 0.0


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def _slopes(i_d, i_q, w1, w2, twist, theta2, vd, vq, p, fric1, fric2, inv_ld, inv_lq, inv_j1, inv_j2, powered):
    we = p.pole_pairs * w1
    did = diq = te = 0.0
    if powered:
        did = (vd - p.resistance * i_d + we * p.inductance_q * i_q) * inv_ld
        diq = (vq - p.resistance * i_q - we * (p.inductance_d * i_d + p.flux_linkage)) * inv_lq
        te = 1.5 * p.pole_pairs * (p.flux_linkage * i_q + (p.inductance_d - p.inductance_q) * i_d * i_q)
    shaft = p.stiffness * twist + p.damping * (w1 - w2)
    a1 = a2 = 0.0
    if inv_j1 > 0.0:
        a1 = (te - shaft - fric1 - p.viscous_motor * w1) * inv_j1
    if inv_j2 > 0.0:
        a2 = (shaft - fric2 - p.viscous_load * w2 + p.torque_load + stop_torque(theta2, w2, p)) * inv_j2
    return did, diq, a1, a2


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def turned(c, s, x):
    """Return cosine and sine turned on by a small angle: series to x^7, within 5e-7 for |x| < 0.6 rad."""
    x2 = x * x
    cx = 1.0 - x2 * (0.5 - x2 * (1.0 / 24.0 - x2 / 720.0))
    sx = x * (1.0 - x2 * (1.0 / 6.0 - x2 * (1.0 / 120.0 - x2 / 5040.0)))
    return c * cx - s * sx, s * cx + c * sx


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def lost_share(i, p):
    """Share of the dead-time voltage lost at a phase current; which law an inverter follows is nobody's to know."""
    if p.dead_law == 0:
        return i / (abs(i) + p.dead_current)
    x = i / p.dead_current
    if p.dead_law == 1:
        return math.tanh(x)
    if p.dead_law == 2:
        return 2.0 / math.pi * math.atan(x)
    if p.dead_law == 3:
        return math.copysign(1.0 - math.exp(-abs(x)), x)
    return min(max(x, -1.0), 1.0)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def _open_phase(s, p, cos_rotor, sin_rotor):
    """No current in one phase: what is left flows through the other two, along one axis of the stator."""
    along = TWO_PI * (p.open_phase - 1.0) / 3.0 + 0.5 * math.pi
    ca, sa = math.cos(along), math.sin(along)
    alpha = s.i_d * cos_rotor - s.i_q * sin_rotor
    beta = s.i_d * sin_rotor + s.i_q * cos_rotor
    flows = alpha * ca + beta * sa
    alpha, beta = flows * ca, flows * sa
    s.i_d, s.i_q = alpha * cos_rotor + beta * sin_rotor, beta * cos_rotor - alpha * sin_rotor


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def pin_torque(s, p, net):
    """Torque a pin holds with: all of it where its hole's edge is pushed on, none in its play and on the way back."""
    off = s.theta1 - s.pin_place
    outward = math.copysign(1.0, off)
    if abs(off) < p.pin_play or (net * outward <= 0.0 and s.omega1 * outward <= 0.0):
        s.pin_load = 0.0
        return 0.0
    s.pin_load = abs(net)
    return p.brake_torque


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def plant_tick(s, p):  # noqa: PLR0915 - one Runge-Kutta step, written out so that it stays in registers
    """Advance the plant record `s` by one tick with the voltage already in it."""
    h = TICK
    powered = s.mode != OFF
    if not powered:
        s.i_d = s.i_q = 0.0
    id0, iq0, w10, w20 = s.i_d, s.i_q, s.omega1, s.omega2
    th0 = s.theta1
    twist0 = s.theta1 - s.theta2
    theta20 = s.theta2
    # Applied voltage: the drive's own frame, mirrored where two phases are swapped, less the inverter's dead time.
    beta = s.v_beta * p.phase_sign
    va, vb = s.v_alpha * p.phase_cos - beta * p.phase_sin, s.v_alpha * p.phase_sin + beta * p.phase_cos
    c0, s0 = s.cos_rotor, s.sin_rotor
    if powered and p.dead_voltage > 0.0 and s.shorted == 0:  # shorted, no switch works
        ia = id0 * c0 - iq0 * s0
        ib_ = id0 * s0 + iq0 * c0
        b = -0.5 * ia + SQRT3_2 * ib_
        c = -0.5 * ia - SQRT3_2 * ib_
        ea, eb, ec = lost_share(ia, p), lost_share(b, p), lost_share(c, p)
        va -= p.dead_voltage * (2 * ea - eb - ec) / 3
        vb -= p.dead_voltage * (eb - ec) / (2 * SQRT3_2)
    te0 = 1.5 * p.pole_pairs * (p.flux_linkage * iq0 + (p.inductance_d - p.inductance_q) * id0 * iq0)
    shaft0 = p.stiffness * twist0 + p.damping * (w10 - w20)
    stop0 = stop_torque(theta20, w20, p)
    coulomb1 = p.coulomb_motor
    if s.brake == 1:
        coulomb1 += p.brake_torque if p.pin_play == 0.0 else pin_torque(s, p, te0 - shaft0)
    f1, hold1 = friction(w10, te0 - shaft0, s.stuck1 == 1, coulomb1, p.breakaway_ratio, p.stribeck_speed)
    f2, hold2 = friction(
        w20, shaft0 + p.torque_load + stop0, s.stuck2 == 1, p.coulomb_load, p.breakaway_ratio, p.stribeck_speed
    )
    ild, ilq = 1.0 / p.inductance_d, 1.0 / p.inductance_q
    ij1 = 0.0 if hold1 else 1.0 / p.inertia_motor  # a mass that sticks does not accelerate
    ij2 = 0.0 if hold2 else 1.0 / p.inertia_load
    dm = 0.5 * h * p.pole_pairs * w10
    cm, sm = turned(c0, s0, dm)
    ce, se = turned(cm, sm, dm)
    vd0, vq0 = va * c0 + vb * s0, -va * s0 + vb * c0
    vdm, vqm = va * cm + vb * sm, -va * sm + vb * cm
    vde, vqe = va * ce + vb * se, -va * se + vb * ce

    k1d, k1q, k1a, k1b = _slopes(id0, iq0, w10, w20, twist0, theta20, vd0, vq0, p, f1, f2, ild, ilq, ij1, ij2, powered)
    u1, u2 = w10 + 0.5 * h * k1a, w20 + 0.5 * h * k1b
    k2d, k2q, k2a, k2b = _slopes(
        id0 + 0.5 * h * k1d,
        iq0 + 0.5 * h * k1q,
        u1,
        u2,
        twist0 + 0.5 * h * (w10 - w20),
        theta20 + 0.5 * h * w20,
        vdm,
        vqm,
        p,
        f1,
        f2,
        ild,
        ilq,
        ij1,
        ij2,
        powered,
    )
    x1, x2 = w10 + 0.5 * h * k2a, w20 + 0.5 * h * k2b
    k3d, k3q, k3a, k3b = _slopes(
        id0 + 0.5 * h * k2d,
        iq0 + 0.5 * h * k2q,
        x1,
        x2,
        twist0 + 0.5 * h * (u1 - u2),
        theta20 + 0.5 * h * u2,
        vdm,
        vqm,
        p,
        f1,
        f2,
        ild,
        ilq,
        ij1,
        ij2,
        powered,
    )
    y1, y2 = w10 + h * k3a, w20 + h * k3b
    k4d, k4q, k4a, k4b = _slopes(
        id0 + h * k3d,
        iq0 + h * k3q,
        y1,
        y2,
        twist0 + h * (x1 - x2),
        theta20 + h * x2,
        vde,
        vqe,
        p,
        f1,
        f2,
        ild,
        ilq,
        ij1,
        ij2,
        powered,
    )
    h6 = h / 6
    s.i_d = id0 + h6 * (k1d + 2 * (k2d + k3d) + k4d)
    s.i_q = iq0 + h6 * (k1q + 2 * (k2q + k3q) + k4q)
    if p.open_phase > 0.0:
        _open_phase(s, p, ce, se)
    w11 = w10 + h6 * (k1a + 2 * (k2a + k3a) + k4a)
    w21 = w20 + h6 * (k1b + 2 * (k2b + k3b) + k4b)
    s.theta1 = th0 + h6 * (w10 + 2 * (u1 + x1) + y1)
    s.theta2 = theta20 + h6 * (w20 + 2 * (u2 + x2) + y2)
    s.stuck1 = 1 if hold1 or (coulomb1 > 0.0 and w11 * f1 < 0.0) else 0
    s.stuck2 = 1 if hold2 or (p.coulomb_load > 0.0 and w21 * f2 < 0.0) else 0
    s.omega1 = 0.0 if s.stuck1 == 1 else w11
    s.omega2 = 0.0 if s.stuck2 == 1 else w21

    # Energy bookkeeping, trapezoidal over the tick: it must close, and a test holds it to that.
    power0 = power1 = 0.0
    if powered:
        power0 = 1.5 * (vd0 * id0 + vq0 * iq0)
        power1 = 1.5 * (vde * s.i_d + vqe * s.i_q)
        s.energy_copper += 0.75 * h * p.resistance * (id0 * id0 + iq0 * iq0 + s.i_d * s.i_d + s.i_q * s.i_q)
    s.energy_in += 0.5 * h * (power0 + power1)
    s.energy_friction += (
        0.5
        * h
        * (
            (f1 + p.viscous_motor * w10) * w10
            + (f1 + p.viscous_motor * w11) * w11
            + (f2 + p.viscous_load * w20) * w20
            + (f2 + p.viscous_load * w21) * w21
        )
    )
    s.energy_spring_loss += 0.5 * h * p.damping * ((w10 - w20) ** 2 + (w11 - w21) ** 2)
    bus_tick(s, p, 0.5 * (power0 + power1))


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def bus_tick(s, p, power):
    """The rectifier charges through its resistance, never discharges; the chopper burns above a threshold."""
    supply = max(0.0, (p.supply_voltage - s.v_bus) / p.supply_resistance)
    if p.chopper_resistance > 0.0 and s.resistor_hot == 0:
        if s.v_bus > p.chopper_on:
            s.chopper = 1
        elif s.v_bus < p.chopper_off:
            s.chopper = 0
    burn = s.v_bus / p.chopper_resistance if s.chopper == 1 else 0.0
    if p.resistor_cooling > 0.0 and (s.chopper == 1 or s.resistor_rise > 0.0):
        s.resistor_rise += TICK * (burn * s.v_bus - p.resistor_cooling * s.resistor_rise) / p.resistor_heat
        if s.resistor_rise > HOT:  # its thermal switch: the chopper is off until it has cooled
            s.resistor_hot, s.chopper = 1, 0
        elif s.resistor_rise < COOLED:
            s.resistor_hot = 0
    s.energy_chopper += TICK * burn * s.v_bus
    s.energy_supply += TICK * supply * s.v_bus
    s.v_bus = max(1.0, s.v_bus + TICK * (supply - burn - power / max(s.v_bus, 1.0)) / p.bus_capacitance)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST, inline="always")
def noise(s):
    """Return a near-Gaussian number, mean 0, standard deviation 1, from the record's own generator.

    Sum of four 16-bit uniforms of one xorshift64 word (Marsaglia 2003); four are bell-shaped enough for a sensor.
    """
    x = s.noise
    x ^= x << numba.uint64(13)
    x ^= x >> numba.uint64(7)
    x ^= x << numba.uint64(17)
    s.noise = x
    mask = numba.uint64(0xFFFF)
    total = (
        float(x & mask)
        + float((x >> numba.uint64(16)) & mask)
        + float((x >> numba.uint64(32)) & mask)
        + float((x >> numba.uint64(48)) & mask)
    )
    # A uniform on 0...65535 has standard deviation 65536 / sqrt(12); four of them twice that.
    return (total - 131070.0) / 37837.227
