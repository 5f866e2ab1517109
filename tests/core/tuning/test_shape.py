"""How much gain a shape bears, in closed form, against the same question asked gain by gain."""

import math
from dataclasses import replace

import control
import numpy as np
import pytest
from scipy.signal import lfilter

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, TwoMass, Winding, read_margins, spectral_radius, velocity_open, velocity_plant
from cadrel.core.control.filters import Section
from cadrel.core.tuning import VOLTAGE, noise_behind, shaped_as, spread_of, tune_velocity
from cadrel.core.tuning.gain_kernel import highest_gain, scores
from cadrel.core.tuning.search import as_gains, shape_of
from cadrel.core.tuning.shape import Bounds, Kept, Plants
from cadrel.core.tuning.shape_kernel import made_of_noise
from cadrel.core.tuning.velocity import ACROSS, COARSE, STABLE
from cadrel.core.verdict.spread import UNSURE_DAMPING, Spread, gripped

WINDING = Winding(resistance=1.3, inductance=4.6e-3)
START = Gains(
    current_gain=17.0, current_reset=3.5e-3, velocity_gain=0.03, velocity_reset=0.06, feedback_filter_hz=900,
    torque_filter_hz=1200,
)  # fmt: skip
LOAD = TwoMass(inertia_motor=1.4e-4, inertia_load=2.2e-4, stiffness=290.0, damping=0.02, viscous=3e-4)
KEPT = Kept(sensitivity_peak=1.8, phase_margin=math.radians(45), gain_margin=10 ** (8 / 20))
GRID = np.unique(
    np.concatenate([np.geomspace(0.5, 1200, 1500), np.linspace(200, 500, 800), np.linspace(1200, 1999, 300)])
)


QUIET = Bounds().noises


def shape(*sections: Section, reset: float = 0.012) -> np.ndarray:
    figures = [reset, START.torque_filter_hz, START.feedback_filter_hz]
    for s in sections:
        figures += [s.zero_hz, s.zero_damping, s.pole_hz, s.pole_damping]
    return np.array(figures)


def gains_of(x: np.ndarray, gain: float, *sections: Section) -> Gains:
    return START.with_(velocity_gain=gain, velocity_reset=float(x[0]), sections=sections)


def borne(
    x: np.ndarray,
    *,
    noises: np.ndarray = QUIET,
    kept: Kept = KEPT,
    most_gain: float = math.inf,
) -> float:
    plants = Plants.of(GRID, [(velocity_plant(LOAD, WINDING, START, GRID), kept)], None)
    return float(
        highest_gain(
            x,
            plants.frequency,
            plants.values,
            plants.models,
            plants.kept,
            START.rates.velocity,
            noises,
            1999.0,
            most_gain,
        )[1]
    )


def keeps(gains: Gains) -> bool:
    m = read_margins(velocity_open(velocity_plant(LOAD, WINDING, gains, GRID), gains, GRID), GRID)
    return (
        m.sensitivity_peak <= KEPT.sensitivity_peak
        and m.phase_margin is not None
        and m.phase_margin >= KEPT.phase_margin
        and (m.gain_margin_db is None or m.gain_margin_db >= 8.0)
        and spectral_radius("velocity", LOAD, WINDING, gains) < 1
    )


NOTCH = Section(zero_hz=375.0, zero_damping=0.05, pole_hz=375.0, pole_damping=0.5)
LEAD = Section(zero_hz=420.0, zero_damping=0.6, pole_hz=1100.0, pole_damping=0.8)


@pytest.mark.parametrize("sections", [(), (NOTCH,), (LEAD,), (NOTCH, LEAD)], ids=["none", "notch", "lead", "both"])
def test_the_highest_gain_in_closed_form_is_the_one_found_by_trying(sections: tuple[Section, ...]) -> None:
    x = shape(*sections)
    gain = borne(x)
    assert gain > 0
    assert keeps(gains_of(x, 0.985 * gain, *sections))
    assert not keeps(gains_of(x, 1.03 * gain, *sections))


def test_a_gain_that_is_stable_on_a_condition_only_is_not_taken() -> None:
    # A double lag far below the crossover turns the phase past -180° where the gain is high: stable at 2.8, and not
    # at a fifth of that.
    lag = Section(zero_hz=60.0, zero_damping=0.7, pole_hz=15.0, pole_damping=0.5)
    x = shape(lag, reset=0.05)
    radii = [spectral_radius("velocity", LOAD, WINDING, gains_of(x, gain, lag)) for gain in (0.02, 0.5, 2.8, 9.0)]
    assert [radius < 1 for radius in radii] == [True, False, True, False]
    little = Kept(sensitivity_peak=6.0, phase_margin=math.radians(8), gain_margin=1.1)
    gain = borne(x, kept=little)
    assert 0.0 < gain < 0.0368  # what is stable without a condition ends there


def test_no_gain_is_taken_however_far_above_a_crossing_it_is_stable_again() -> None:
    # Poles at 3 Hz and zeros at 60: ten thousand times as much gain is stable again.
    lag = Section(zero_hz=60.0, zero_damping=0.7, pole_hz=3.0, pole_damping=0.5)
    x = shape(lag, reset=0.5)
    little = Kept(sensitivity_peak=6.0, phase_margin=math.radians(8), gain_margin=1.1)
    gain = borne(x, kept=little)
    above = [
        spectral_radius("velocity", LOAD, WINDING, gains_of(x, k * gain, lag)) < 1 for k in np.geomspace(1, 1e5, 26)
    ]
    assert not all(above) and any(above[above.index(False) :])  # more of it would be stable again
    for share in np.geomspace(1e-4, 1.0, 17):  # a limit, or the drive, may leave any of it
        assert spectral_radius("velocity", LOAD, WINDING, gains_of(x, share * gain, lag)) < 1


def test_what_rubs_on_a_load_holds_no_loop() -> None:
    # Read as viscous friction of a tenth of critical damping; a larger swing hardly meets it.
    rubbing = replace(LOAD, viscous_load=0.2 * math.sqrt((LOAD.stiffness or 0.0) * LOAD.inertia_load))
    spread = Spread(resonance_drift=0.05, inertia_least=0.7, inertia_most=1.5)
    named = spread.named(rubbing)
    free = [(told, one) for told, one in named if told.endswith("the load swinging past its friction")]
    # Drifted as well: on a drawn axis 44° were kept where the resonance was found, and 39° where it was 5 % higher.
    assert {one.resonance_hz for _, one in free} == {one.resonance_hz for told, one in named if (told, one) not in free}
    assert len(free) == 3
    assert all(one.viscous_load == 0.0 and one.damping == rubbing.damping for _, one in free)
    assert not any("friction" in told for told, _ in spread.named(LOAD))  # nothing to speak of
    assert all(c.viscous_load == 0.0 for c in spread.corners(rubbing) if c not in gripped(rubbing))


def test_a_loop_may_cross_over_more_than_once_where_its_phase_holds_the_resonance() -> None:
    # The load stands against the motor at 40 Hz and swings with it at 64 Hz: both far below what the delay allows.
    soft = TwoMass(inertia_motor=1.4e-4, inertia_load=2.2e-4, stiffness=14.0, damping=0.002, viscous=3e-4)
    x = shape(Section(zero_hz=600.0, zero_damping=0.9, pole_hz=1500.0, pole_damping=0.85), reset=0.03)
    plants = Plants.of(GRID, [(velocity_plant(soft, WINDING, START, GRID), KEPT)], None)
    gain = float(
        highest_gain(
            x,
            plants.frequency,
            plants.values,
            plants.models,
            plants.kept,
            START.rates.velocity,
            QUIET,
            1999.0,
            math.inf,
        )[1]
    )
    lead = Section(zero_hz=600.0, zero_damping=0.9, pole_hz=1500.0, pole_damping=0.85)
    gains = gains_of(x, gain, lead)
    loop = np.abs(velocity_open(velocity_plant(soft, WINDING, gains, GRID), gains, GRID))
    assert loop[np.argmin(np.abs(GRID - 64))] > 10  # the resonance lies inside the loop's bandwidth
    found = read_margins(velocity_open(velocity_plant(soft, WINDING, gains, GRID), gains, GRID), GRID)
    assert found.sensitivity_peak <= KEPT.sensitivity_peak * 1.01
    for share in (1.0, 0.5, 0.25, 0.125):  # a drive may halve it, thrice
        assert spectral_radius("velocity", soft, WINDING, gains_of(x, share * gain, lead)) < 1


def test_noise_makes_the_torque_that_the_blocks_make_of_it() -> None:
    x = shape(NOTCH)
    gains = gains_of(x, 0.1, NOTCH)
    period = START.rates.velocity
    # Independent: python-control's discrete transfer functions driven by differenced white noise.
    pi = control.tf([gains.velocity_gain, gains.velocity_gain * (period / gains.velocity_reset - 1)], [1, -1], period)
    lp, sf = (math.exp(-2 * math.pi * f * period) for f in (gains.torque_filter_hz, gains.feedback_filter_hz))
    q = NOTCH.biquad(period=period)
    whole = pi * control.tf([1 - lp, 0], [1, -lp], period) * control.tf([1 - sf, 0], [1, -sf], period)
    whole *= control.tf([q.b0, q.b1, q.b2], [1, q.a1, q.a2], period)
    raw = np.diff(np.random.default_rng(3).normal(size=40_001)) / period
    answer = control.forced_response(whole, U=raw).outputs[200:]
    assert noise_behind(float(answer.std()), gains) == pytest.approx(raw.std(), rel=0.03)


def test_what_noise_changes_torque_by_is_that_of_white_noise_driven_through_the_filters() -> None:
    gains = gains_of(shape(NOTCH), 0.2, NOTCH)
    period = START.rates.velocity
    raw = np.diff(np.random.default_rng(4).normal(size=40_001)) / period
    # Independent: SciPy's filters one after the other, the regulator by its own sum.
    q = NOTCH.biquad(period=period)
    filtered = lfilter([q.b0, q.b1, q.b2], [1, q.a1, q.a2], raw)
    for hz in (gains.torque_filter_hz, gains.feedback_filter_hz):
        pole = math.exp(-2 * math.pi * hz * period)
        filtered = lfilter([1 - pole], [1, -pole], filtered)
    torque = gains.velocity_gain * (filtered + period / gains.velocity_reset * np.cumsum(filtered))
    told, changes = gains.velocity_gain * np.array(made_of_noise(shape_of(gains), period)) * raw.std()
    assert told == pytest.approx(torque[200:].std(), rel=0.03)
    assert changes == pytest.approx(np.diff(torque[200:]).std(), rel=0.03)


def test_noise_in_motion_holds_the_gain_down_to_what_the_voltage_follows() -> None:
    x = shape(NOTCH)
    free = borne(x)
    _, changes = made_of_noise(x, START.rates.velocity)
    assert borne(x, noises=Bounds(moving_noise=0.5, most_change=0.5 * changes * 2 * free).noises) == free
    held = borne(x, noises=Bounds(moving_noise=0.5, most_change=0.5 * changes * 0.4 * free).noises)
    assert held == pytest.approx(0.4 * free, rel=1e-6)


def test_a_loop_held_by_noise_in_motion_says_so_and_answers_that_by_its_filters() -> None:
    asked = Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8)
    free = tune_velocity(LOAD, WINDING, START, asked, most_sections=1)
    changes = free.gains.velocity_gain * made_of_noise(shape_of(free.gains), START.rates.velocity)[1]
    held = tune_velocity(LOAD, WINDING, START, asked, most_sections=1, moving_noise=1.0, most_change=0.3 * changes)
    made = held.gains.velocity_gain * made_of_noise(shape_of(held.gains), START.rates.velocity)[1]
    assert made <= 0.3 * changes * (1 + 1e-3)
    assert held.limited_by == VOLTAGE != free.limited_by
    assert 0.5 * free.integral < held.integral < free.integral  # by its gain alone: 0.3 ** 2
    assert held.gains.torque_filter_hz < free.gains.torque_filter_hz
    kept = shaped_as(free.gains, LOAD, WINDING, asked, moving_noise=1.0, most_change=0.3 * changes)
    assert kept is not None and kept.gains.velocity_gain == pytest.approx(0.3 * free.gains.velocity_gain, rel=0.01)


def test_a_budget_of_noise_holds_the_gain_down_to_what_it_allows() -> None:
    x = shape(NOTCH)
    free = borne(x)
    noise = 0.5
    budget = 0.4 * free * noise / noise_behind(1.0, gains_of(x, 1.0, NOTCH))
    held = borne(x, noises=Bounds(noise=noise, noise_torque=budget / noise).noises)
    assert held < free
    assert noise_behind(budget / noise, gains_of(x, held, NOTCH)) == pytest.approx(noise, rel=1e-6)


def test_sections_make_a_loop_stiffer_and_the_spread_stays_stable() -> None:
    asked = Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8)
    gains = tune_velocity(LOAD, WINDING, START, asked).gains
    alone = START.with_(velocity_gain=0.14, velocity_reset=0.0105)  # about what PI and filters alone bear
    assert gains.sections
    assert gains.velocity_gain / gains.velocity_reset > 2 * alone.velocity_gain / alone.velocity_reset
    for stiffness in (0.95**2, 1.0, 1.05**2):
        for inertia in (0.7, 1.0, 1.5):
            whole = inertia * LOAD.inertia
            other = TwoMass(
                inertia_motor=LOAD.inertia_motor, inertia_load=whole - LOAD.inertia_motor,
                stiffness=stiffness * 290.0, damping=0.02, viscous=3e-4,
            )  # fmt: skip
            assert spectral_radius("velocity", other, WINDING, gains) < 1
            if inertia == 1.0:
                found = read_margins(velocity_open(velocity_plant(other, WINDING, gains, GRID), gains, GRID), GRID)
                assert found.sensitivity_peak < 1.8 * 1.02


NARROW = Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8, resonance_drift=0.02)


def test_a_wider_spread_gives_a_softer_loop() -> None:
    # Far wider: what a search finds differs by a tenth with the seed of its draws.
    first, wide = (tune_velocity(LOAD, WINDING, START, asked).gains for asked in (NARROW, NARROW.where_it_moves(0.2)))
    assert wide.velocity_gain / wide.velocity_reset < first.velocity_gain / first.velocity_reset


def test_the_same_is_proposed_twice() -> None:
    first, again = (tune_velocity(LOAD, WINDING, START, NARROW, most_sections=1).gains for _ in range(2))
    assert first == again


def test_the_corners_of_a_spread_are_every_drift_at_every_inertia_and_a_little_beyond() -> None:
    spread = Spread(resonance_drift=0.1, inertia_least=0.7, inertia_most=1.5)
    assert [round((d.resonance_hz or 0) / (LOAD.resonance_hz or 1), 6) for d in spread.drifts(LOAD)] == [1.0, 0.9, 1.1]
    corners = [c for c in spread.corners(LOAD) if c not in gripped(LOAD)]
    assert len(corners) == 9
    weights = sorted({c.inertia / LOAD.inertia for c in corners})
    assert weights[0] < 0.7
    assert weights[1] == pytest.approx(1.0)
    assert weights[2] > 1.5
    assert max(c.damping for c in corners) < LOAD.damping
    assert {c.inertia_motor for c in corners} == {LOAD.inertia_motor}
    assert Spread().corners(LOAD) == [LOAD]


def test_between_the_corners_no_resonance_is_far_from_its_neighbours() -> None:
    spread = Spread(resonance_drift=0.1, resonance_rise=0.25, inertia_least=0.7, inertia_most=1.5)
    found = [one for one in spread.between(LOAD) if one not in gripped(LOAD)]
    lines = np.array(sorted(load.resonance_hz or 0.0 for load in found))
    ends = [load.resonance_hz or 0.0 for load in spread.corners(LOAD)]
    assert lines[0] == pytest.approx(min(ends), rel=1e-6)
    assert lines[-1] == pytest.approx(max(ends), rel=1e-6)
    assert np.diff(np.log(lines)).max() < 0.05


HEAVY = TwoMass(inertia_motor=4e-5, inertia_load=8e-4, stiffness=9.0, damping=1.5e-3, viscous=1e-5, viscous_load=6e-3)
# What a search without friction proposes there: it answers the resonance, and lags below it.
INVERSE = Section(zero_hz=74.0, zero_damping=0.02, pole_hz=16.0, pole_damping=0.64)
BESIDE = Section(zero_hz=700.0, zero_damping=0.98, pole_hz=1540.0, pole_damping=0.91)
STICKS = START.with_(
    velocity_gain=0.9, velocity_reset=2.5e-3, feedback_filter_hz=1900.0, torque_filter_hz=1500.0,
    sections=(INVERSE, BESIDE),
)  # fmt: skip


def swings_at_rest(gains: Gains, load: TwoMass, friction: float) -> tuple[float, float]:
    """Amplitude [rad/s] and frequency [Hz] of the motor after a kick: a calculation of its own, by small steps.

    Two masses, Coulomb friction on the motor with a narrow slope in place of sticking, and the regulator by SciPy.
    """
    period, inner = gains.rates.velocity, 50
    filters = [bilinear(s, period) for s in gains.sections]
    states = [np.zeros(2) for _ in filters]
    poles = [math.exp(-2 * math.pi * f * period) for f in (gains.torque_filter_hz, gains.feedback_filter_hz)]
    w1, w2, twist, integral, low, known, torque, ahead = 3.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    seen = np.empty(4000)
    for n in range(len(seen)):
        seen[n] = w1
        known += (1 - poles[1]) * (w1 - known)
        integral -= gains.velocity_gain * period / gains.velocity_reset * known
        low += (1 - poles[0]) * (integral - gains.velocity_gain * known - low)
        torque, ahead = ahead, low
        for k, (over, under) in enumerate(filters):
            passed, states[k] = lfilter(over, under, [ahead], zi=states[k])
            ahead = float(passed[0])
        for _ in range(inner):
            dt = period / inner
            shaft = load.stiffness * twist + load.damping * (w1 - w2)
            rubs = friction * max(-1.0, min(1.0, w1 / 0.02))
            w1 += dt * (torque - shaft - rubs - load.viscous * w1) / load.inertia_motor
            w2 += dt * (shaft - load.viscous_load * w2) / load.inertia_load
            twist += dt * (w1 - w2)
    last = seen[-1600:]
    spectrum = np.abs(np.fft.rfft(last * np.hanning(len(last))))
    return float(math.sqrt(2) * np.std(last)), float(np.argmax(spectrum)) / (len(last) * period)


def bilinear(section: Section, period: float) -> tuple[list[float], list[float]]:
    """Zeros over poles, each prewarped at its own frequency; 1 at rest."""

    def polynomial(hz: float, damping: float) -> list[float]:
        inverse = 1 / math.tan(math.pi * hz * period)
        square, slope = inverse**2, 2 * damping * inverse
        return [square + slope + 1, 2 - 2 * square, square - slope + 1]

    return polynomial(section.zero_hz, section.zero_damping), polynomial(section.pole_hz, section.pole_damping)


def test_a_loop_that_friction_sets_swinging_is_unstable_on_the_load_as_friction_grips_it() -> None:
    """The describing function of Coulomb friction: it swings where viscous friction of 4 F / (pi A) is the edge.

    J.-J. Slotine, W. Li, Applied Nonlinear Control, 1991, chapter 5 (from memory).
    """
    friction = 0.05
    free = spectral_radius("velocity", HEAVY, WINDING, STICKS)
    assert free < 1.0
    assert max(spectral_radius("velocity", one, WINDING, STICKS) for one in gripped(HEAVY)) > 1.0
    amplitude, frequency = swings_at_rest(STICKS, HEAVY, friction)
    assert 17.0 < frequency < 74.0  # between where the load swings on the held motor and where both resonate
    edge = friction * 4 / (math.pi * amplitude)
    radii = [
        spectral_radius("velocity", replace(HEAVY, viscous=HEAVY.viscous + c * edge), WINDING, STICKS)
        for c in (0.5, 2.0)
    ]
    assert radii[0] < 1.0 < radii[1]


@pytest.mark.parametrize(("hz", "ratio", "damping"), [(770, 1.0, 0.003), (900, 3.0, 0.004), (120, 5.0, 0.003)])
def test_the_gain_that_a_sharp_resonance_bears_is_seen_between_the_points_of_a_search(
    hz: float, ratio: float, damping: float
) -> None:
    """Judged by eigenvalues: with a gain margin of 1.1 asked for, nine tenths of what the search gives are stable."""
    motor, load = LOAD.inertia_motor, ratio * LOAD.inertia_motor
    reduced, w = motor * load / (motor + load), 2 * math.pi * hz
    sharp = TwoMass(
        inertia_motor=motor, inertia_load=load, stiffness=reduced * w**2, damping=2 * damping * reduced * w
    )  # fmt: skip
    assert sharp.resonance_hz is not None and sharp.antiresonance_hz is not None
    across = 1 + 0.2 * np.linspace(-1, 1, ACROSS) ** 3
    grid = np.unique(
        np.concatenate([np.geomspace(0.5, 1999, COARSE), sharp.resonance_hz * across, sharp.antiresonance_hz * across])
    )
    grid = grid[grid < 1999.5]
    plants = Plants.of(grid, [(velocity_plant(sharp, WINDING, START, grid), STABLE)], None)
    rng = np.random.default_rng(3)
    borne = 0
    for _ in range(120):
        zero, pole = sharp.resonance_hz * rng.uniform([0.7, 0.6], [1.3, 1.4])
        section = (zero, 10 ** rng.uniform(-2, 0), pole, 10 ** rng.uniform(-1, 0))
        x = np.log([10 ** rng.uniform(-2.5, -1), *rng.uniform(200, 1900, size=2), *section])
        gains = as_gains(x, START, plants, Bounds(unseen_hz=math.inf))
        if gains is not None:
            borne += 1
            assert spectral_radius("velocity", sharp, WINDING, softened_by(gains, 0.9)) < 1.0
    assert borne > 60


def softened_by(gains: Gains, share: float) -> Gains:
    return gains.with_(velocity_gain=share * gains.velocity_gain)


def test_friction_grips_no_swing_that_the_device_does_not_tell() -> None:
    asked = Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8)
    # A device without steps: any swing is told, and friction of any size holds it.
    assert len(spread_of(asked.where_friction_is(0.05)).corners(HEAVY)) == len(spread_of(asked).corners(HEAVY))
    step = 2 * math.pi / 4000
    finer = replace(asked, step=step).where_friction_is(0.05)
    # A swing of amplitude A meets 4 F / (pi A) of speed; one as wide as the step has half a step of it.
    amplitude = step / 2
    assert finer.grip == pytest.approx(4 * 0.05 / (math.pi * amplitude))
    assert HEAVY.stiffness is not None
    swings = math.sqrt(HEAVY.stiffness / HEAVY.inertia_motor)  # of the motor on the spring, the load held
    loosest = HEAVY.viscous_load + 1.01 * finer.grip / swings
    told = gripped(HEAVY, finer.grip)
    assert 0 < len(told) < len(gripped(HEAVY))
    assert all(one in gripped(HEAVY) and one.viscous_load < loosest for one in told)
    assert gripped(HEAVY, 0.0) == []


def test_what_is_proposed_bears_friction_of_any_size_on_either_side() -> None:
    asked = Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8)
    gains = tune_velocity(HEAVY, WINDING, START, asked).gains
    for grip in np.geomspace(1e-4, 1.0, 40):
        for held in (replace(HEAVY, viscous=float(grip)), replace(HEAVY, viscous_load=float(grip))):
            assert spectral_radius("velocity", held, WINDING, gains) < 1.0
    amplitude, _ = swings_at_rest(gains, HEAVY, 0.05)
    assert amplitude < 0.02  # within the slope that stands for sticking


def test_a_lag_below_the_crossover_is_found_where_it_makes_a_loop_stiffer() -> None:
    """On one mass: against the best of a lag's places that a plain scan finds, the rest being the loop without it."""
    rigid = TwoMass(inertia_motor=3e-4, viscous=3e-4)
    asked = Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8)
    plain, found = (tune_velocity(rigid, WINDING, START, asked, most_sections=n).gains for n in (0, 2))
    plants = Plants.of(GRID, [(velocity_plant(rigid, WINDING, START, GRID), KEPT)], None)
    best = 0.0
    for pole in (60.0, 80.0):
        for zero in (75.0, 90.0, 110.0):
            for slower in (1.0, 1.5, 2.2, 3.0):
                lag = Section(zero_hz=zero, zero_damping=0.45, pole_hz=pole, pole_damping=1.0)
                x = shape(lag, reset=slower * plain.velocity_reset)
                x[1:3] = plain.torque_filter_hz, plain.feedback_filter_hz
                gain = float(
                    highest_gain(
                        x, plants.frequency, plants.values, plants.models, plants.kept, START.rates.velocity, QUIET,
                        1999.0, math.inf,
                    )[1]
                )  # fmt: skip
                best = max(best, gain / x[0])
    assert best > 1.2 * plain.velocity_gain / plain.velocity_reset
    assert found.velocity_gain / found.velocity_reset > best


def test_a_closed_gap_lifts_the_resonance_and_leaves_less_damping() -> None:
    spread = Spread(resonance_drift=0.05, resonance_rise=0.2, closed_damping=0.4)
    named = dict(spread.named(LOAD))
    top = named["resonance +26 %"]
    assert (top.resonance_hz or 0.0) / (LOAD.resonance_hz or 1.0) == pytest.approx(1.2 * 1.05)
    assert top.damping == pytest.approx((1 - UNSURE_DAMPING) * 0.4 * LOAD.damping)
    assert named["resonance -5 %"].damping == LOAD.damping


def random_shapes(n: int, *, seed: int) -> np.ndarray:
    """Logarithms of shapes with two sections, one a column."""
    box = [
        (3e-3, 0.3),
        (150.0, 1900.0),
        (200.0, 1900.0),
        *[(60.0, 1800.0), (0.01, 1.5), (60.0, 1800.0), (0.1, 1.0)] * 2,
    ]
    low, high = np.log(np.array(box)).T
    return np.ascontiguousarray(np.random.default_rng(seed).uniform(low, high, size=(n, len(box))).T)


def test_what_has_a_score_to_beat_has_the_same_score_where_it_does_and_a_lower_one_where_not() -> None:
    plants = Plants.of(GRID, [(velocity_plant(LOAD, WINDING, START, GRID), KEPT)], None)
    many = random_shapes(150, seed=11)
    fixed = (
        plants.frequency, plants.values, plants.models, plants.kept, START.rates.velocity,
        Bounds(noise=0.01, noise_torque=1.0).noises, 1999.0,
    )  # fmt: skip
    whole = -scores(many, *fixed, math.inf, np.full(150, -np.inf))
    for beaten in np.quantile(whole, [0.3, 0.6, 0.9, 0.99]):
        left = -scores(many, *fixed, math.inf, np.full(150, beaten))
        beats = whole >= beaten
        assert np.array_equal(left[beats], whole[beats])
        assert np.all(left[~beats] < beaten)


def test_no_phase_margin_is_crossed_between_two_points_of_a_grid() -> None:
    # A hardly damped load, and a grid that steps over where it stands: margins are read by interpolation on it.
    sharp = TwoMass(inertia_motor=1.4e-4, inertia_load=1.9e-3, stiffness=14.0, damping=1.5e-3, viscous=3e-4)
    grid = np.geomspace(0.5, 1990.0, 90)
    plants = Plants.of(grid, [(velocity_plant(sharp, WINDING, START, grid), KEPT)], None)
    judged = 0
    for x in np.exp(random_shapes(300, seed=12).T):
        _, gain = highest_gain(
            x, grid, plants.values, plants.models, plants.kept, START.rates.velocity, QUIET, 1999.0, math.inf
        )
        if gain <= 0.0:
            continue
        sections = tuple(
            Section(zero_hz=x[k], zero_damping=x[k + 1], pole_hz=x[k + 2], pole_damping=x[k + 3]) for k in (3, 7)
        )
        gains = START.with_(
            velocity_gain=gain, velocity_reset=float(x[0]), torque_filter_hz=float(x[1]),
            feedback_filter_hz=float(x[2]), sections=sections,
        )  # fmt: skip
        loop = velocity_open(velocity_plant(sharp, WINDING, gains, grid), gains, grid)
        if abs(loop[0]) < 1.1:
            continue  # as low as the grid begins: another bound
        margin = read_margins(loop, grid).phase_margin
        assert margin is not None and abs(margin) >= KEPT.phase_margin - math.radians(0.1)
        judged += 1
    assert judged > 40
