"""Benches with drawn parameters, and what an engineer would know of each."""

import math
from dataclasses import replace

import numpy as np

from cadrel.cli.device_draws import ARRANGEMENTS, device_entries, draw_device
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth
from cadrel.core.simulation.truth import DEAD_LAWS


def draw_bench(rng: np.random.Generator, *, wide: bool = False) -> tuple[RigTruth, dict[str, Entry]]:
    """Return a rig, and axis entries as a sheet with tolerances would give them.

    `wide` draws until it hurts: inertia ratio 0.2 to 30, resonance 40 to 1200 Hz, damping 0.5 to 5 %, every kind of
    device, five laws of dead time.

    The sheet's resistance, inductance and constants differ from the truth by a few percent, the load mass by up to
    a third: nothing the procedures report may lean on them.
    """
    low_voltage = rng.random() < 0.3
    bus = 48.0 if low_voltage else 325.0
    pairs = int(rng.integers(2, 8))
    torque = float(np.exp(rng.uniform(math.log(0.3), math.log(6.0))))
    top = float(rng.uniform(250, 520))
    flux = 0.8 * bus / math.sqrt(3) / (pairs * top)
    kt = 1.5 * pairs * flux
    ic = torque / kt
    loss = float(rng.uniform(25, 60)) * torque**0.6
    r = loss / (1.5 * ic**2)
    tau = float(np.exp(rng.uniform(math.log(1e-3), math.log(6e-3))))
    saliency = float(rng.uniform(0.85, 1.0))
    jm = torque / float(rng.uniform(6000, 25000))
    jl = jm * float(np.exp(rng.uniform(math.log(0.4), math.log(7.0))))
    resonance = float(np.exp(rng.uniform(math.log(90), math.log(600))))
    damped = float(rng.uniform(0.02, 0.08))
    if wide:
        jl = jm * float(np.exp(rng.uniform(math.log(0.2), math.log(30.0))))
        resonance = float(np.exp(rng.uniform(math.log(40), math.log(1200))))
        damped = float(rng.uniform(0.005, 0.05))
    stiffness = (2 * math.pi * resonance) ** 2 * jm * jl / (jm + jl)
    damping = 2 * damped * math.sqrt(stiffness * jm * jl / (jm + jl))
    friction = torque * float(rng.uniform(0.02, 0.15))
    lines = int(rng.choice([1024, 2500, 3000, 5000]))
    knee, law = 0.02, "hyperbola"
    if wide:
        knee, law = float(rng.uniform(0.02, 0.1)), str(rng.choice(DEAD_LAWS))
    truth = RigTruth(
        resistance=r,
        inductance_d=r * tau * saliency,
        inductance_q=r * tau,
        flux_linkage=flux,
        pole_pairs=pairs,
        inertia_motor=jm,
        inertia_load=jl,
        stiffness=stiffness,
        damping=damping,
        coulomb_motor=0.4 * friction,
        coulomb_load=0.6 * friction,
        viscous_motor=0.1 * friction / top,
        viscous_load=0.3 * friction / top,
        breakaway_ratio=float(rng.uniform(1.05, 1.5)),
        stribeck_speed=float(rng.uniform(1, 4)),
        torque_load=float(rng.uniform(-0.6, 0.6)) * friction,
        encoder_lines=lines,
        index_angle=float(rng.uniform(0, 2 * math.pi)),
        hall_errors_deg=tuple(float(e) for e in rng.uniform(-3, 3, 6)),
        hall_offset_deg=float(rng.uniform(-180, 180)),
        halls_mirrored=bool(rng.random() < 0.2),
        supply_voltage=bus,
        supply_resistance=0.1 if low_voltage else 1.5,
        bus_capacitance=4e-3 if low_voltage else 6e-4,
        chopper_on=1.17 * bus,
        chopper_off=1.14 * bus,
        brake_resistor=3.0 if low_voltage else 60.0,
        overvoltage=1.3 * bus,
        dead_voltage=float(rng.uniform(0.1, 0.3)) if low_voltage else float(rng.uniform(0.5, 1.5)),
        dead_current=knee * ic,
        dead_law=law,
        current_noise=0.002 * ic,
        current_lsb=0.001 * ic,
        drive_current_peak=4 * ic,
        drive_current_continuous=1.5 * ic,
    )
    entries = _sheet(rng, truth, ic=ic, top=top)
    if wide:
        device, halls, index = ARRANGEMENTS[rng.integers(len(ARRANGEMENTS))]
        truth = replace(draw_device(rng, replace(truth, device=device, halls_fitted=halls)), lost_counts=0.0)
        entries |= device_entries(truth, halls=halls, index=index)
    return truth, entries


def _sheet(rng: np.random.Generator, t: RigTruth, *, ic: float, top: float) -> dict[str, Entry]:
    def off(share: float) -> float:
        return float(rng.uniform(1 - share, 1 + share))

    ke_ll_rms = t.flux_linkage * t.pole_pairs * math.sqrt(1.5) * off(0.06)  # V rms line to line per rad/s
    acceleration = 0.6 * 2.5 * ic * 1.5 * t.pole_pairs * t.flux_linkage / (t.inertia_motor + t.inertia_load)
    slow = min(0.5 * top, 150.0)
    turn = 2 * math.pi

    def deg(rad: float) -> float:
        return math.degrees(rad)

    move = 5 * turn
    peak = min(0.6 * top, 0.5 * math.sqrt(move * acceleration))
    entries: dict[str, Entry] = {
        "sheet.resistance": {"value": 2 * t.resistance * off(0.07), "unit": "ohm", "convention": "line_to_line"},
        "sheet.inductance": {"value": 2e3 * t.inductance_q * off(0.1), "unit": "mH", "convention": "line_to_line"},
        "sheet.back_emf": {"value": ke_ll_rms, "unit": "V·s/rad", "convention": "ll_rms"},
        "sheet.poles": {"value": 2 * t.pole_pairs, "convention": "poles"},
        "sheet.current_continuous": {"value": ic / math.sqrt(2), "unit": "A", "convention": "rms"},
        "sheet.current_peak": {"value": 3 * ic, "unit": "A", "convention": "peak"},
        "sheet.inertia": {"value": t.inertia_motor * 1e4 * off(0.05), "unit": "kg·cm²"},
        "sheet.speed_max": {"value": 1.3 * top, "unit": "rad/s"},
        "feedback.lines": {"value": t.encoder_lines},
        "mechanics.kind": {"value": "rotary"},
        "mechanics.load_inertia": {"value": t.inertia_load * 1e4 * off(0.33), "unit": "kg·cm²"},
        "power.supply_kind": {"value": "dc"},
        "power.supply_voltage": {"value": t.supply_voltage, "unit": "V"},
        "limit.velocity": {"value": deg(0.8 * top), "unit": "°/s"},
        "limit.acceleration": {"value": deg(acceleration), "unit": "°/s²"},
        "limit.quick_stop": {"value": deg(1.3 * acceleration), "unit": "°/s²"},
        "limit.jerk": {"value": deg(60 * acceleration), "unit": "°/s³"},
        "limit.travel_min": {"value": -40, "unit": "rev"},
        "limit.travel_max": {"value": 40, "unit": "rev"},
        "limit.following_error": {"value": 90, "unit": "°"},
        "procedure.travel": {"value": 14, "unit": "rev"},
        "procedure.velocity": {"value": deg(slow), "unit": "°/s"},
        "goal.distance": {"value": 5, "unit": "rev"},
        "goal.move_time": {"value": 1e3 * (2.2 * move / peak + 0.05), "unit": "ms"},
        "goal.window": {"value": 0.5, "unit": "°"},
        "goal.settling_time": {"value": 120, "unit": "ms"},
        "goal.following_error": {"value": 6, "unit": "°"},
        "goal.dwell": {"value": 300, "unit": "ms"},
        "goal.repeats": {"value": 3},
    }
    for entry in entries.values():
        entry["source"] = "sheet"
    return entries
