"""The axis as machines are: each property against its published law, a second integration or a balance of energy."""

import math

import numpy as np
import pytest
from scipy.integrate import quad, solve_ivp

from cadrel.core.errors import UnusableInput
from cadrel.core.simulation import RigTruth, SimulatedDrive, layout
from cadrel.core.simulation.firmware import measure
from cadrel.core.simulation.plant import plant_tick
from cadrel.core.simulation.unkind import unkind_tick
from tests.conftest import rig_of
from tests.core.simulation.test_plant import prepared, run

TICK = layout.TICK
CALM = dict(dead_voltage=0.0, coulomb_motor=0.0, coulomb_load=0.0, viscous_motor=0.0, viscous_load=0.0)


def advance(state: np.record, plant: layout.Plant, ticks: int, volts: tuple[float, float]) -> None:
    run(state, plant, ticks, volts, unkind_tick)


def test_with_nothing_unkind_it_is_the_plant_of_before() -> None:
    truth = rig_of("tile-pusher", dead_voltage=0.0)
    (kind, plant), (other, _) = prepared(truth), prepared(truth)
    assert plant.unkind == 0
    for k in range(3000):
        volts = 40.0 if k < 1500 else -20.0
        for state, tick in ((kind, plant_tick), (other, unkind_tick)):
            angle = plant.pole_pairs * state.theta1
            state.cos_rotor, state.sin_rotor = math.cos(angle), math.sin(angle)
            state.v_alpha, state.v_beta = -volts * state.sin_rotor, volts * state.cos_rotor
            tick(state, plant)
    for name in ("i_d", "i_q", "omega1", "omega2", "theta1", "theta2", "energy_friction", "v_bus"):
        assert getattr(other, name) == pytest.approx(getattr(kind, name), rel=1e-9, abs=1e-12), name


def waves_energy(waves: layout.Waves, angle: float) -> float:
    """Potential of a torque that is a sum of sines of the angle."""
    return sum(
        size / order * (math.cos(order * angle + phase) - math.cos(phase)) for order, size, phase in waves if size
    )


def stored(s: np.record, p: layout.Plant) -> float:
    """All the energy an unkind plant holds."""
    if p.saturation:
        biased = p.magnetised / p.saturation
        whole = p.inductance_d * (1 + biased**2)

        def d_axis(i: float) -> float:
            return i * whole / (1 + ((i + p.magnetised) / p.saturation) ** 2)

        magnetic = 1.5 * quad(d_axis, 0, s.i_d)[0]
        magnetic += 0.75 * p.inductance_q * p.saturation**2 * math.log(1 + (s.i_q / p.saturation) ** 2)
    else:
        magnetic = 0.75 * (p.inductance_d * s.i_d**2 + p.inductance_q * s.i_q**2)
    kinetic = 0.5 * (p.inertia_motor * s.omega1**2 + p.inertia_load * s.omega2**2 + p.inertia_third * s.omega3**2)
    lead = sum(size * math.sin(order * s.theta1 + phase) for order, size, phase in p.transmission)
    twist = s.theta1 + lead - s.theta2
    beyond = math.copysign(max(abs(twist) - p.backlash, 0.0), twist)
    springs = 0.5 * p.stiffness * beyond**2 + 0.5 * p.stiffness_third * (s.theta2 - s.theta3) ** 2
    return magnetic + kinetic + springs + waves_energy(p.cogging, s.theta1)


@pytest.mark.parametrize(
    "unkind",
    [
        dict(inertia_third=1e-4, stiffness_third=400.0, damping_third=0.02),
        dict(backlash_deg=0.5),
        dict(cogging=((24, 0.05, 20), (8, 0.03, 50))),
        dict(torque_ripple=((6, 0.02, 10), (12, 0.01, 0))),
        dict(saturation_current=8.0, magnet_current=3.0),
        dict(transmission_error=((1, 0.3, 0), (4, 0.05, 90))),
        dict(
            inertia_third=1e-4, stiffness_third=400.0, damping_third=0.02, backlash_deg=0.2, cogging=((24, 0.05, 20),),
            saturation_current=8.0, magnet_current=3.0, torque_ripple=((6, 0.02, 10),),
        ),
    ],
)  # fmt: skip
def test_energy_is_neither_made_nor_lost(unkind: dict[str, object]) -> None:
    state, plant = prepared(rig_of("tile-pusher", dead_voltage=0.0, **unkind))
    begun = stored(state, plant)
    for volts in (40.0, -10.0, 25.0):
        advance(state, plant, 1500, (0.0, volts))
    spent = state.energy_copper + state.energy_friction + state.energy_spring_loss
    throughput = state.energy_copper + abs(state.energy_in)
    assert abs(state.energy_in - spent - (stored(state, plant) - begun)) < 0.01 * throughput


@pytest.mark.parametrize("torque", [0.02, 0.15, 0.5])
def test_presliding_is_a_spring_that_becomes_coulombs_friction(torque: float) -> None:
    # Canudas de Wit et al. 1995 (from memory): F = s0 z + s1 dz/dt, dz/dt = v - s0 |v| z / g.
    # SciPy integrates the same equations apart.
    truth = rig_of("tile-pusher", **(CALM | {"coulomb_motor": 0.2, "breakaway_ratio": 1.5}), presliding_deg=0.5)
    state, p = prepared(truth, mode=layout.OFF)
    state.stuck1 = state.stuck2 = 0
    rigid = p._replace(stiffness=0.0, damping=0.0, torque_load=0.0)
    # The motor alone, pushed by what the cogging of order 0 gives: a constant torque.
    rigid = rigid._replace(cogging=((0.0, torque, math.pi / 2), *layout.STILL_WATER[1:]))
    for _ in range(4000):
        unkind_tick(state, rigid)

    def slopes(_: float, y: np.ndarray) -> list[float]:
        _, omega, z = y
        level = 0.2 * (1 + 0.5 * math.exp(-((omega / p.stribeck_speed) ** 2)))
        dz = omega - p.bristle_motor * abs(omega) * z / level
        return [omega, (torque - p.bristle_motor * z - p.bristle_damping_motor * dz) / p.inertia_motor, dz]

    found = solve_ivp(slopes, (0, 4000 * TICK), [0.0, 0.0, 0.0], rtol=1e-8, atol=1e-11, max_step=1e-4)
    assert state.theta1 == pytest.approx(found.y[0, -1], rel=0.01)
    if torque < 0.05:  # a tenth of breakaway: a spring, and nothing slides
        assert state.theta1 == pytest.approx(torque / p.bristle_motor, rel=0.1)
        for _ in range(4000):
            unkind_tick(state, rigid._replace(cogging=layout.STILL_WATER))
        assert abs(state.theta1) < 0.2 * torque / p.bristle_motor
    elif torque > 0.3:  # it slides away under what Coulomb leaves
        seconds = 4000 * TICK
        assert state.omega1 == pytest.approx((torque - 0.2) * seconds / p.inertia_motor, rel=0.02)


def test_a_bristle_that_swings_too_fast_for_a_tick_is_refused() -> None:
    with pytest.raises(UnusableInput, match="swings faster"):
        prepared(rig_of("tile-pusher", coulomb_motor=0.5, presliding_deg=0.001))


def test_within_its_play_the_load_does_not_know_of_the_motor() -> None:
    state, plant = prepared(rig_of("tile-pusher", **CALM, backlash_deg=2.0), mode=layout.OFF)
    state.theta1, state.omega1, state.stuck1, state.stuck2 = -math.radians(0.9), 1.0, 0, 0
    state.theta2 = 0.0
    touched = math.radians(1.9) / 1.0
    for _ in range(int(0.95 * touched / TICK)):
        unkind_tick(state, plant)
    assert state.omega2 == 0.0
    assert state.omega1 == pytest.approx(1.0)
    for _ in range(int(0.2 * touched / TICK)):
        unkind_tick(state, plant)
    assert state.omega2 > 0.1
    momentum = plant.inertia_motor * state.omega1 + plant.inertia_load * state.omega2
    assert momentum == pytest.approx(plant.inertia_motor * 1.0, rel=1e-6)


def test_three_masses_ring_at_the_eigenvalues_of_their_matrix() -> None:
    truth = rig_of("tile-pusher", **CALM, inertia_third=1.5e-4, stiffness_third=500.0, damping_third=0.0)
    state, p = prepared(truth, mode=layout.OFF)
    p = p._replace(damping=0.0)
    state.stuck1 = state.stuck2 = 0
    k1, k2 = p.stiffness, p.stiffness_third
    mass = np.diag([p.inertia_motor, p.inertia_load, p.inertia_third])
    spring = np.array([[k1, -k1, 0], [-k1, k1 + k2, -k2], [0, -k2, k2]])
    expected = np.sqrt(np.sort(np.linalg.eigvals(np.linalg.solve(mass, spring)).real)[1:]) / (2 * math.pi)
    state.omega1 = 1.0
    n = 2**15
    record = np.zeros(n)
    for k in range(n):
        unkind_tick(state, p)
        record[k] = state.omega1
    spectrum = np.abs(np.fft.rfft((record - record.mean()) * np.hanning(n)))
    frequency = np.fft.rfftfreq(n, TICK)
    for line in expected:
        near = np.abs(frequency - line) < 0.2 * line
        found = frequency[near][np.argmax(spectrum[near])]
        assert found == pytest.approx(line, abs=2 / (n * TICK))


def test_at_its_saturation_current_inductance_has_fallen_to_half() -> None:
    truth = rig_of("tile-pusher", **CALM, saturation_current=6.0)
    state, p = prepared(truth)
    locked = p._replace(inertia_motor=1e9, flux_linkage=0.0, resistance=0.0, inductance_d=1.0)
    for at, share in ((0.0, 1.0), (6.0, 0.5), (12.0, 0.2)):
        state.i_d, state.i_q = 0.0, at
        state.cos_rotor, state.sin_rotor = 1.0, 0.0
        state.v_alpha, state.v_beta = 0.0, 0.5
        unkind_tick(state, locked)
        seen = 0.5 * TICK / (state.i_q - at)
        assert seen == pytest.approx(share * p.inductance_q, rel=0.02)


def test_the_magnets_make_the_d_axis_saturate_one_way_earlier_than_the_other() -> None:
    state, p = prepared(rig_of("tile-pusher", **CALM, saturation_current=6.0, magnet_current=4.0))
    locked = p._replace(inertia_motor=1e9, flux_linkage=0.0, resistance=0.0)
    seen = []
    for at in (-2.0, 0.0, 2.0):
        state.i_d, state.i_q, state.cos_rotor, state.sin_rotor = at, 0.0, 1.0, 0.0
        state.v_alpha, state.v_beta = 0.5, 0.0
        unkind_tick(state, locked)
        seen.append(0.5 * TICK / (state.i_d - at))
    assert seen[0] > seen[1] > seen[2]
    assert seen[1] == pytest.approx(p.inductance_d, rel=0.02)


def test_a_winding_gets_as_warm_as_its_loss_and_cooling_say() -> None:
    state, p = prepared(rig_of("tile-pusher", **CALM, winding_heat=0.2, winding_cooling=0.5))
    state.stuck1 = state.stuck2 = 1
    locked = p._replace(coulomb_motor=1e3, coulomb_load=1e3, flux_linkage=1e-6, current_noise=0.0)
    advance(state, locked, round(2.4 / TICK), (0.0, 4.0))  # six of its time constants
    r = p.resistance * (1 + 0.00393 * state.winding_rise)
    assert state.i_q == pytest.approx(4.0 / r, rel=0.01)
    assert state.winding_rise == pytest.approx(1.5 * 4.0**2 / r / 0.5, rel=0.05)


def test_a_cable_takes_its_share_of_the_voltage_and_stays_cold() -> None:
    """Twenty metres of 0.75 mm² have 0.489 ohm by the table of IEC 60228 (24.5 ohm/km, from memory) less its lay."""
    warm = dict(winding_heat=0.2, winding_cooling=0.5, cable_length=20.0, cable_section_mm2=0.75)
    truth = rig_of("tile-pusher", **CALM, **warm)
    state, p = prepared(truth)
    assert p.resistance - truth.resistance == pytest.approx(24.5e-3 * 20.0, rel=0.07)
    state.stuck1 = state.stuck2 = 1
    locked = p._replace(coulomb_motor=1e3, coulomb_load=1e3, flux_linkage=1e-6, current_noise=0.0)
    advance(state, locked, round(2.4 / TICK), (0.0, 4.0))
    hot = truth.resistance * (1 + 0.00393 * state.winding_rise)
    assert state.i_q == pytest.approx(4.0 / (hot + truth.phase_resistance - truth.resistance), rel=0.01)
    assert state.winding_rise == pytest.approx(1.5 * hot * state.i_q**2 / 0.5, rel=0.05), "by its own loss alone"


@pytest.mark.parametrize("key", ["inertia_load", "cable_section_mm2"])
def test_a_rig_that_cannot_be_is_refused_and_leaves_the_one_before(key: str) -> None:
    drive = SimulatedDrive("axis", rig_of("tile-pusher"), seed=1)
    before = drive.truth
    with pytest.raises(UnusableInput, match=key):
        drive.rewire({key: 0.0}, [])
    assert drive.truth == before and drive.powered
    drive.rewire({"cable_length": 10.0, "inertia_load": 5e-4}, [])
    assert drive.running.plant.inertia_load == 5e-4
    assert drive.running.plant.resistance == pytest.approx(drive.truth.phase_resistance)
    assert drive.truth.phase_resistance > before.phase_resistance


@pytest.mark.parametrize("skew", [0.0, 2e-6, -1e-6])
def test_currents_sampled_beside_the_middle_of_a_period_have_run_on_against_the_mean_voltage(skew: float) -> None:
    """In a zero vector di/dt = -u / L of the voltage that the period has in the mean."""
    truth = rig_of("tile-pusher", **CALM, current_noise=0.0, current_lsb=1e-9, sampling_skew=skew)
    state, p = prepared(truth, mode=layout.VECTOR)
    state.i_d, state.i_q, state.v_alpha, state.v_beta = 2.0, 0.0, 24.0, -12.0
    measure(state, p, SimulatedDrive("axis", truth, seed=1).running.settings)
    inductance = 0.5 * (truth.inductance_d + truth.inductance_q)
    assert state.meas_d == pytest.approx(2.0 - 24.0 * skew / inductance, abs=1e-6)
    assert state.meas_q == pytest.approx(12.0 * skew / inductance, abs=1e-6)


def test_what_the_device_shows_too_much_is_its_wave_and_its_lines_are_off_the_same_each_time() -> None:
    truth = rig_of("tile-pusher", **CALM, scale_error=((1, 0.1, 0),), line_jitter=0.2)
    state, p = prepared(truth, mode=layout.OFF)
    seen = []
    for angle in (0.3, 1.2, 0.3):
        state.theta1 = state.theta2 = angle
        state.omega1 = state.omega2 = 0.0
        unkind_tick(state, p)
        seen.append(float(state.scale_off))
        assert abs(state.scale_off - math.radians(0.1) * math.sin(angle)) <= 0.2 * 2 * math.pi / truth.encoder_lines
    assert seen[0] == pytest.approx(seen[2], rel=1e-6)


def test_a_base_swings_on_its_feet_and_the_device_sees_it() -> None:
    truth = rig_of(
        "tile-pusher", **CALM, base_inertia=0.02, base_stiffness=0.02 * (2 * math.pi * 10) ** 2, base_damping=0.05
    )
    state, p = prepared(truth)
    advance(state, p, 400, (0.0, 30.0))
    assert state.base_at < 0.0  # pushed back
    assert state.scale_off == pytest.approx(-state.base_at)
    state.mode = layout.OFF
    crossings, last = [], float(state.base_at)
    for k in range(16000):
        unkind_tick(state, p)
        if last < 0.0 <= state.base_at:
            crossings.append(k)
        last = float(state.base_at)
    assert TICK * float(np.diff(crossings).mean()) == pytest.approx(0.1, rel=0.02)  # 10 Hz


@pytest.mark.parametrize(
    ("field", "value"), [("cogging", tuple((k, 0.1, 0.0) for k in range(1, 6))), ("scale_error", ((1, 2, 3),) * 5)]
)
def test_more_harmonics_than_the_kernel_has_are_refused(field: str, value: object) -> None:
    with pytest.raises(UnusableInput, match="harmonics"):
        prepared(rig_of("tile-pusher", **{field: value}))


def test_a_rig_file_lists_waves_as_it_lists_everything() -> None:
    truth = RigTruth.from_dict({
        "resistance": 1.0, "inductance_d": 1e-3, "inductance_q": 1e-3, "flux_linkage": 0.1, "pole_pairs": 4,
        "inertia_motor": 1e-4, "inertia_load": 1e-4, "cogging": [[24, 0.05, 20]], "current_offset": [0.01, -0.01],
    })  # fmt: skip
    assert truth.cogging == ((24, 0.05, 20),)
    assert truth.current_offset == (0.01, -0.01)
