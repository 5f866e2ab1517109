"""bin/cadrel benchmark: ratios of performance, measured in one run on one machine."""

import json
import statistics
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from scipy import signal
from scipy.integrate import solve_ivp

from cadrel.cli.scale_in_c import compiled_by_c, figures_of, run_by_numba
from cadrel.cli.search_benchmark import evolution_times, shape_times
from cadrel.cli.stack import ROOT
from cadrel.cli.timing import median_time
from cadrel.core.control import (
    Gains,
    TwoMass,
    Winding,
    loop_responses,
    read_margins,
    spectral_radius,
    step_response,
)
from cadrel.core.control.filters import Section
from cadrel.core.response import FrequencyResponse, estimate_response, log_lines, schroeder_multisine
from cadrel.core.simulation import RigTruth, SimulatedDrive, layout
from cadrel.core.simulation.kernel import run_ticks

SECONDS = 5.0  # [s] simulated per repeat


# Everything that an axis may have beside, at once.
UNKIND: dict[str, Any] = {
    "inertia_third": 1e-4, "stiffness_third": 900.0, "damping_third": 0.02, "backlash_deg": 0.05,
    "transmission_error": ((1, 0.02, 0),), "cogging": ((24, 0.03, 0), (8, 0.02, 30)),
    "torque_ripple": ((6, 0.01, 0), (12, 0.005, 10)), "friction_wave": ((3, 0.2, 0),), "presliding_deg": 0.3,
    "saturation_current": 40.0, "magnet_current": 8.0, "winding_heat": 600.0, "winding_cooling": 2.0,
    "base_inertia": 0.05, "base_stiffness": 2000.0, "base_damping": 1.0, "scale_error": ((1, 0.01, 0),),
    "line_jitter": 0.05, "current_offset": (0.02, -0.03), "current_gain_error": 0.01,
    "sampling_skew": 1e-6, "cable_length": 20.0,
}  # fmt: skip


def benchmark(*, pages: bool) -> int:
    """Print every figure; returns the exit status."""
    told = json.loads((ROOT / "demo" / "rigs" / "tile-pusher.json").read_text())["truth"]
    kind = {k: v for k, v in told.items() if k not in {*UNKIND, "backlash_deg"}}
    truth = RigTruth.from_dict(kind)
    kernel = kernel_speed(truth)
    scipy = scipy_speed(truth)
    print(f"simulation, one axis, full fidelity   {kernel:8.0f} simulated s per s")
    unkind = kernel_speed(replace(truth, **UNKIND))
    print(f"the same as machines are               {unkind:8.0f} simulated s per s   ratio {unkind / kernel:.2f}")
    print(f"the same plant by SciPy (RK45, 1e-6)  {scipy:8.3f} simulated s per s   ratio {kernel / scipy:.0f}")
    by_numba, by_c = equal_equations(truth)
    print(f"winding and two masses by Numba        {by_numba:8.0f} simulated s per s")
    if by_c is not None:
        print(f"the same equations in C, -O3           {by_c:8.0f} simulated s per s   ratio {by_numba / by_c:.2f}")
    redraw = median_time(one_redraw, 30)
    python_control = median_time(one_redraw_by_python_control, 3)
    print(f"redraw, three loops at 1000 points    {1e3 * redraw:8.2f} ms")
    print(f"the same by python-control            {1e3 * python_control:8.0f} ms   ratio {python_control / redraw:.0f}")
    own, welch = response_times()
    print(f"response of a million samples         {1e3 * own:8.1f} ms")
    print(f"the same by SciPy's csd and welch     {1e3 * welch:8.0f} ms   ratio {welch / own:.0f}")
    whole, beaten, judged = shape_times(LOAD, WINDING, GAINS)
    print(f"a generation of 110 shapes, 9 plants  {1e3 * whole:8.1f} ms")
    print(f"the same, most of them beaten         {1e3 * beaten:8.1f} ms   ratio {whole / beaten:.1f}")
    print(f"one gain of each, judged by NumPy     {1e3 * judged:8.0f} ms   ratio {judged / whole:.0f}")
    own, scipys = evolution_times()
    print(f"five crowds, 60 generations           {1e3 * own:8.0f} ms")
    print(f"the same by SciPy's evolution         {1e3 * scipys:8.0f} ms   ratio {scipys / own:.1f}")
    if pages:
        page_times()
    return 0


def response_times() -> tuple[float, float]:
    """Seconds for a response with coherence and error bars from a million samples: by the estimator, by SciPy. [s]

    Two channels beside the excitation. SciPy has its own defaults but for the length of a segment, a period.
    """
    period, periods = 2048, 488
    lines = log_lines(2, 500, 90)
    excitation = np.tile(schroeder_multisine(lines, n_samples=period, rms=1.0), periods)
    rng = np.random.default_rng(1)
    entry = excitation + 0.1 * rng.normal(size=excitation.size)
    answer = signal.lfilter([0.1], [1.0, -0.9], entry) + 0.1 * rng.normal(size=excitation.size)

    def by_scipy() -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        between = {
            (a, b): signal.csd(x, y, 4000.0, nperseg=period)[1][lines]
            for (a, x), (b, y) in (
                (("r", excitation), ("y", answer)), (("r", excitation), ("u", entry)), (("u", entry), ("y", answer)),
            )
        }  # fmt: skip
        r, u, y = (signal.welch(x, 4000.0, nperseg=period)[1][lines] for x in (excitation, entry, answer))
        value = between["r", "y"] / between["r", "u"]
        left = y - 2 * np.real(value.conj() * between["u", "y"]) + np.abs(value) ** 2 * u
        return value, np.abs(between["r", "y"]) ** 2 / (r * y), np.sqrt(np.abs(left) / periods / u)

    def own() -> FrequencyResponse:
        return estimate_response(excitation, entry, answer, lines=lines, period=period, rate_hz=4000.0)

    return median_time(own, 5), median_time(by_scipy, 2)


def kernel_speed(truth: RigTruth) -> float:
    """Simulated seconds per second, holding position with the loops closed."""
    drive = SimulatedDrive("benchmark", truth)
    state = drive.running.state
    state.mode, state.deadline = layout.POSITION, 2**62
    state.guard_low, state.guard_high, state.guard_speed = -1e9, 1e9, 1e9
    n = round(SECONDS / layout.TICK)

    def call() -> None:
        run_ticks(
            n,
            state,
            drive.running.plant,
            drive.running.settings,
            drive.running.path,
            drive.running.excitation,
            drive.running.signals,
            drive.running.recorder.channels,
            drive.running.recorder.tape,
        )

    return SECONDS / median_time(call, 5)


def scipy_speed(truth: RigTruth) -> float:
    """The same electrical and mechanical equations, voltage held per tick, integrated by SciPy between ticks."""
    kt = 1.5 * truth.pole_pairs * truth.flux_linkage

    def slopes(_: float, y: np.ndarray, vq: float) -> list[float]:
        i_d, i_q, w1, w2, th1, th2 = y
        we = truth.pole_pairs * w1
        shaft = truth.stiffness * (th1 - th2) + truth.damping * (w1 - w2)
        return [
            (-truth.resistance * i_d + we * truth.inductance_q * i_q) / truth.inductance_d,
            (vq - truth.resistance * i_q - we * (truth.inductance_d * i_d + truth.flux_linkage)) / truth.inductance_q,
            (kt * i_q - shaft - truth.viscous_motor * w1 - truth.coulomb_motor * np.tanh(w1)) / truth.inertia_motor,
            (shaft - truth.viscous_load * w2 - truth.coulomb_load * np.tanh(w2)) / truth.inertia_load,
            w1,
            w2,
        ]

    def call() -> None:
        y = np.zeros(6)
        for k in range(160):
            done = solve_ivp(slopes, (0, layout.TICK), y, rtol=1e-6, atol=1e-9, args=(5.0 * (k % 2),))
            y = done.y[:, -1]

    return 160 * layout.TICK / median_time(call, 3)


def equal_equations(truth: RigTruth) -> tuple[float, float | None]:
    """Simulated seconds per second of the bare plant by Numba, and by C where there is a compiler: for scale."""
    figures = figures_of(
        resistance=truth.resistance, inductances=(truth.inductance_d, truth.inductance_q), flux=truth.flux_linkage,
        pairs=truth.pole_pairs, inertias=(truth.inertia_motor, truth.inertia_load), stiffness=truth.stiffness,
        damping=truth.damping, coulomb=(truth.coulomb_motor, truth.coulomb_load),
        viscous=(truth.viscous_motor, truth.viscous_load),
    )  # fmt: skip
    n = round(10 * SECONDS / layout.TICK)

    def speed(run: Callable[[int, np.ndarray, np.ndarray], None]) -> float:
        return 10 * SECONDS / median_time(lambda: run(n, np.zeros(5), figures), 3)

    by_c = compiled_by_c()
    return speed(run_by_numba), None if by_c is None else speed(by_c)


LOAD = TwoMass(inertia_motor=1.41e-4, inertia_load=2.24e-4, stiffness=330.0, damping=0.025, viscous=5e-4)
WINDING = Winding(resistance=1.36, inductance=4.6e-3, emf=0.236)
GAINS = Gains(
    current_gain=17.0,
    current_reset=3.4e-3,
    velocity_gain=0.24,
    velocity_reset=6e-3,
    feedback_filter_hz=800,
    torque_filter_hz=1500,
    notch_hz=309,
    notch_depth_db=-10,
    sections=(
        Section(zero_hz=310.0, zero_damping=0.05, pole_hz=330.0, pole_damping=0.5),
        Section(zero_hz=520.0, zero_damping=0.1, pole_hz=480.0, pole_damping=0.6),
        Section(pole_hz=1100.0, pole_damping=0.7),
    ),
    position_gain=239,
)
GRID = np.geomspace(1, 1900, 1000)


DRAGGED = iter(np.linspace(0.2, 0.3, 100_000).tolist())  # as a slider does it: no gain twice, nothing kept from before


def one_redraw() -> None:
    """Plant, open and closed loop, sensitivity, margins, eigenvalues and step of all three loops, every filter on."""
    gains = GAINS.with_(velocity_gain=next(DRAGGED))
    for name, loop in loop_responses(LOAD, WINDING, gains, GRID).items():
        read_margins(loop.open, GRID, closed_loop=loop.closed)
        spectral_radius(name, LOAD, WINDING, gains)
        step_response(name, LOAD, WINDING, gains, duration=0.006 if name == "current" else 0.15)


def one_redraw_by_python_control() -> None:
    """A comparable cascade in python-control: state space, frequency responses, margins on FRD, steps."""
    import control

    s = control.tf("s")
    delay = control.tf(*control.pade(94e-6, 2))
    current = 17.0 * (1 + 1 / (3.4e-3 * s)) * delay / (4.6e-3 * s + 1.36)
    inner = control.feedback(current, 1)
    j1, j2, k, d = LOAD.inertia_motor, LOAD.inertia_load, 330.0, 0.025
    plant = (j2 * s**2 + d * s + k) / (s * (j1 * j2 * s**2 + (j1 + j2) * d * s + (j1 + j2) * k))
    velocity = 0.24 * (1 + 1 / (6e-3 * s)) * inner * plant / (1 + s / (2 * np.pi * 800)) / (1 + s / (2 * np.pi * 1500))
    position = 239 / s * control.feedback(velocity, 1)
    for loop in (current, velocity, position):
        frd = control.frd(loop, 2 * np.pi * GRID)
        control.stability_margins(frd)
        control.frequency_response(control.feedback(loop, 1), 2 * np.pi * GRID)
        control.step_response(control.feedback(loop, 1), T=np.linspace(0, 0.15, 600))


def page_times() -> None:
    """Times of the axis pages with 200 recorded runs, through the whole Django stack of a scratch database."""
    from cadrel.cli.page_benchmark import measure_pages

    times, checks = measure_pages(runs=200, requests=120)
    print(
        f"pages with 200 runs                   {1e3 * statistics.median(times):8.0f} ms median, "
        f"{1e3 * float(np.quantile(times, 0.95)):.0f} ms 95th percentile"
    )
    print(f"live checks of a motor sheet           {1e3 * statistics.median(checks):8.0f} ms median")
