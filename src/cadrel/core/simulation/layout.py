"""What the kernel works on: the plant, the drive's settings, the state record and the recorder's signals."""

from typing import Any, NamedTuple

import numpy as np

TICK = 62.5e-6  # [s] current loop
SLOW = 4  # velocity and position loops every 4 ticks
TV = TICK * SLOW
SETTLED = 2**40  # [ticks] since a brake was last told something, where that is long ago

# What the power stage does with the axis.
OFF, VECTOR, CURRENT, VELOCITY, POSITION = 0, 1, 2, 3, 4
# Where an excitation is added.
NOWHERE, AT_VOLTAGE_D, AT_VOLTAGE_Q, AT_CURRENT_D, AT_CURRENT_Q, AT_TORQUE, AT_VELOCITY, AT_POSITION = range(8)
# Recorder.
REC_IDLE, ARMED, TRIGGERED, REC_DONE = 0, 1, 2, 3
# How well the drive knows the rotor angle.
ANGLE_UNKNOWN, ANGLE_SECTOR, ANGLE_EDGE, ANGLE_INDEX, ANGLE_ALIGNED = 0, 1, 2, 3, 4
# Devices that tell where the motor is; the numbers are those of the parameter feedback.device.
# Constants of the kernel: a test holds them against the codes of `DEVICE_KINDS`.
INCREMENTAL, SINCOS, RESOLVER, SERIAL, HALLS = 0, 1, 2, 3, 4
NOTHING = -1  # on the connector
# How the voltage added against dead time bends; codes of `current.dead_shape`.
GRADUAL, ROUNDED, SHARP = 0, 1, 2
# Set-point generator.
GEN_HOLD, GEN_RAMP, GEN_PATH = 0, 1, 2
# Trips raised inside a tick; the drive names them.
TRIP_NONE, TRIP_OVERCURRENT, TRIP_OVERVOLTAGE, TRIP_UNDERVOLTAGE, TRIP_OVERSPEED = 0, 1, 2, 3, 4
TRIP_FOLLOWING, TRIP_TRAVEL, TRIP_LEASE, TRIP_GUARD, TRIP_FEEDBACK, TRIP_BRAKE, TRIP_OSCILLATION = range(5, 12)


Wave = tuple[float, float, float]  # order, amplitude, phase [rad]
Waves = tuple[Wave, Wave, Wave, Wave]
STILL_WATER: Waves = ((0.0, 0.0, 0.0),) * 4


class Plant(NamedTuple):
    """The true axis. SI, per phase, peak; load values reflected to the motor shaft."""

    resistance: float
    inductance_d: float
    inductance_q: float
    flux_linkage: float
    pole_pairs: float
    inertia_motor: float
    inertia_load: float
    stiffness: float
    damping: float
    coulomb_motor: float
    viscous_motor: float
    coulomb_load: float
    viscous_load: float
    breakaway_ratio: float
    stribeck_speed: float
    torque_load: float
    stop_low: float
    stop_high: float
    stop_stiffness: float
    stop_damping: float
    supply_voltage: float
    supply_resistance: float
    bus_capacitance: float
    chopper_on: float
    chopper_off: float
    chopper_resistance: float
    resistor_cooling: float  # [W/K]; 0: it never gets hot
    resistor_heat: float  # [J/K]
    open_phase: float  # 0: none
    dead_voltage: float
    dead_current: float
    dead_law: int
    current_noise: float
    current_lsb: float
    bus_noise: float
    phase_sign: float
    phase_cos: float  # of the turn by which rotated motor wires shift the frame
    phase_sin: float
    device: int
    counts_per_rev: float
    encoder_sign: float
    index_angle: float
    has_index: float
    lost_counts: float  # per revolution
    hall_edges: tuple[float, float, float, float, float, float]  # [rad] electrical, where each sector starts, rising
    hall_states: tuple[int, int, int, int, int, int]  # code in each sector
    hall_hysteresis: float  # [rad] electrical, width
    play: float  # [rad] between shaft and device
    slip: float  # share of forward motion the device misses
    periods: float  # signal periods per turn
    signal_offset_cos: float  # of the amplitude
    signal_offset_sin: float
    signal_gain: float  # sine over cosine
    signal_quadrature: float  # [rad] sine ahead
    signal_noise: float  # of the amplitude
    signal_level: float  # amplitude over the nominal one
    signals_swapped: float
    word_counts: float  # values of the position field
    word_skip: float  # 2 to the number of bits below the position
    word_length: float  # bits in all
    word_error_rate: float  # share of words with a line error
    word_latency: float  # [s]
    word_alarm: float  # error bit set
    word_flags: float  # bits between position and checksum: error, warning; active low
    word_checksum: float  # bits of it: 0, 1 for parity, 6 for CRC-6
    word_gray: float
    current_offset_a: float  # [A] of the sensors
    current_offset_b: float
    current_gain_b: float  # of the second sensor
    ripple_shown: float  # [A/V] current that PWM ripple has at the moment of sampling, for a phase's voltage
    unkind: int  # 1: what follows counts, and `unkind.py` advances the plant
    inertia_third: float  # 0: two masses
    stiffness_third: float
    damping_third: float
    backlash: float  # [rad] to either side, between motor and load
    transmission: Waves  # [rad] by which the load leads, over the motor angle
    cogging: Waves  # [N·m] over the motor angle
    ripple: Waves  # share of the flux, over the electrical angle
    friction_wave: Waves  # share of the load's friction, over its angle
    bristle_motor: float  # [N·m/rad] of presliding; 0: exactly Coulomb's friction
    bristle_damping_motor: float  # [N·m·s/rad]
    bristle_load: float
    bristle_damping_load: float
    saturation: float  # [A] at which inductance has fallen to half; 0: iron that does not
    magnetised: float  # [A] by which the magnets have gone there already, along d
    winding_share: float  # of the resistance that gets warm; the rest is the cable's
    winding_heat: float  # [J/K]; 0: it never gets warm
    winding_cooling: float  # [W/K]
    base_inertia: float  # 0: it stands firm
    base_stiffness: float
    base_damping: float
    scale_error: Waves  # [rad] that the device on the motor shows too much, over the motor angle
    line_jitter: float  # of a line
    periods_of_lines: float  # lines per turn
    brake_torque: float  # [N·m] at the motor
    pin_play: float  # [rad] to either side of a pin's hole; 0: it holds by friction
    pin_jam: float  # [N·m] on the pin above which it stays
    brake_stuck: float
    brake_release: float  # [ticks] from voltage to open
    brake_engage: float  # [ticks] from no voltage to closed
    brake_pull_in: float  # [V]
    brake_hold: float  # [V]
    controller_delay: float  # [ticks]
    second_counts: float  # per motor turn, signed; 0: no device on the load


class Settings(NamedTuple):
    """The drive's parameters as its loops use them. SI at the motor shaft."""

    resistance: float
    inductance: float
    flux_linkage: float
    torque_constant: float
    pole_pairs: float
    phase_order: float  # -1 where the drive exchanges two phases
    counts: float
    direction: float
    current_gain: float
    current_integral: float
    dead_voltage: float  # [V] added to each phase against the inverter's dead time; 0: none
    dead_current: float  # [A]
    dead_shape: float  # code of the bend
    current_share: float  # of a step of the commanded current that flows a tick later
    offset_a: float  # [A] taken off what the sensors show
    offset_b: float
    sensor_gain_b: float  # what the second sensor shows over the first; it is divided by
    velocity_gain: float
    velocity_integral: float
    feedback_pole: float
    torque_pole: float
    notch_b0: float
    notch_b1: float
    notch_b2: float
    notch_a1: float
    notch_a2: float
    sections: float  # how many of the following are in use, in order
    section2_b0: float
    section2_b1: float
    section2_b2: float
    section2_a1: float
    section2_a2: float
    section3_b0: float
    section3_b1: float
    section3_b2: float
    section3_a1: float
    section3_a2: float
    section4_b0: float
    section4_b1: float
    section4_b2: float
    section4_a1: float
    section4_a2: float
    position_gain: float
    velocity_feedforward: float
    acceleration_torque: float
    friction_torque: float  # [N·m] added the way the command moves
    friction_blend: float  # [rad/s] of the command within which it turns round
    oscillation_reaction: float  # 0 halves the gains, 1 cuts power, 2 does nothing
    shaping_b0: float  # notch of planned moves
    shaping_b1: float
    shaping_b2: float
    shaping_a1: float
    shaping_a2: float
    shaping_tail: float  # [s] by which a move is longer for it; 0: there is none
    current_limit: float
    trip_current: float
    trip_speed: float
    trip_overvoltage: float
    chopper_on: float  # [V]
    braking_reaction: float  # 0 stretches the ramp, 1 faults, 2 coasts
    brake_operation: float  # 0 none, 1 the drive, 2 a controller
    brake_free_turn: float  # [rad] that shows a pin to be out; 0: a brake that needs no turn
    brake_free_torque: float  # [N·m] of the turn to and fro that frees it
    brake_release: float  # [ticks] until it is surely open
    brake_engage: float  # [ticks] until it surely holds
    brake_pull_in_time: float  # [ticks] of full voltage
    brake_pull_in_voltage: float  # [V]
    brake_hold_voltage: float  # [V]
    trip_undervoltage: float
    current_continuous: float
    thermal_budget: float
    following_error: float
    travel_min: float
    travel_max: float
    velocity_limit: float
    acceleration: float
    quick_stop: float
    hall_offset: float
    hall_sign: float
    hall_mask: float  # bits to invert: 2 where the Halls stand 60° apart
    hall_edge_1: float  # [rad] off the even grid
    hall_edge_2: float
    hall_edge_3: float
    hall_edge_4: float
    hall_edge_5: float
    hall_edge_6: float
    hall_hysteresis: float
    index_offset: float
    has_index: float
    device: int
    is_absolute: float
    periods: float
    signal_offset_cos: float
    signal_offset_sin: float
    signal_gain: float
    signal_quadrature: float
    word_counts: float
    word_skip: float
    word_length: float
    word_checksum: float
    word_gray: float
    word_error: float  # 0: no such bit, 1: active low, 2: active high
    word_warning: float
    errors_tolerated: float
    tracking: float  # [rad/s] natural frequency of the tracking converter
    second_counts: float  # per motor turn of the device on the load, signed; 0: it is not read
    place_from_load: float  # the position loop compares with it


_REALS = (
    "i_d i_q cos_rotor sin_rotor cos_used sin_used angle_rotor omega1 theta1 omega2 theta2 v_bus v_alpha "
    "v_beta energy_in energy_copper energy_friction energy_spring_loss energy_chopper energy_supply "
    "meas_d meas_q meas_bus edge_time edge_last_time velocity_raw velocity position position_zero "
    "load_position load_zero place "
    "angle_offset angle_used ref_d ref_q int_d int_q next_alpha next_beta out_d out_q led_d led_q iq_command "
    "int_torque torque_lp torque_cmd notch_x1 notch_x2 notch_y1 notch_y2 velocity_ref velocity_cmd "
    "section2_1 section2_2 section3_1 section3_2 section4_1 section4_2 "
    "position_ref acceleration_ref thermal gen_velocity gen_target gen_rate path_time path_origin "
    "shape_x1 shape_x2 shape_v1 shape_v2 shape_a1 shape_a2 "
    "vec_angle vec_rate vec_speed vec_accel vec_target vec_current vec_current_target vec_current_rate exc_now "
    "guard_low guard_high guard_speed theta_s slipped sig_cos sig_sin sig_phase sig_total track_velocity track_summed "
    "hall_edge hall_edge_angle trip_velocity trip_position coil resistor_rise catch_level catch_d catch_q catch_base_d "
    "catch_base_q pin_place pin_load brake_from "
    "omega3 theta3 bristle1 bristle2 winding_rise base_at base_speed scale_off "
    "gain_share swing_mean swing_peak swing_last swing_before swing_first swung_hz "
).split()
_WHOLES = (
    "tick chopper stuck1 stuck2 counts count_zero edge_count edge_last_count edge_way edge_fresh hall hall_last "
    "sector_last index_seen index_count angle_quality mode gen trip deadline stopping stopped saturated "
    "limited path_index exc_point exc_index exc_len exc_left exc_div rec_state rec_div rec_n rec_pos "
    "rec_filled rec_left rec_pre trig_signal trig_rising moving lost counts_last word word_last word_errors "
    "word_row word_peak words brake brake_time brake_kept brake_told brake_timer brake_lead brake_wait brake_hand "
    "closing second hall_jumps resistor_hot stretched coasted guard_cuts stop_limit shorted catching catch_wait "
    "brake_free swing_samples swing_length swing_halves swing_lasted swing_sign swung "
).split()
STATE = np.dtype(
    [(n, np.float64) for n in _REALS]
    + [(n, np.int64) for n in _WHOLES]
    + [("trig_level", np.float64), ("trig_last", np.float64), ("noise", np.uint64)]
)
FIELDS = tuple(STATE.names or ())

# What the machine is in, whatever becomes of the drive's supply.
KEPT_WITHOUT_SUPPLY = (
    "omega1 theta2 omega2 theta_s slipped tick noise brake resistor_rise pin_place omega3 theta3 "
    "bristle1 bristle2 winding_rise base_at base_speed scale_off"
).split()

# Signals the recorder offers, in the order the firmware fills them: key, unit, label.
SIGNALS: tuple[tuple[str, str, str], ...] = (
    ("position", "rad", "Position"),
    ("position_ref", "rad", "Position, commanded"),
    ("following_error", "rad", "Following error"),
    ("velocity", "rad/s", "Velocity"),
    ("velocity_ref", "rad/s", "Velocity, commanded"),
    ("acceleration_ref", "rad/s²", "Acceleration, commanded"),
    ("torque_cmd", "N·m", "Torque, commanded"),
    ("i_d", "A", "Current d"),
    ("i_q", "A", "Current q"),
    ("i_d_ref", "A", "Current d, commanded"),
    ("i_q_ref", "A", "Current q, commanded"),
    ("v_d", "V", "Voltage d"),
    ("v_q", "V", "Voltage q"),
    ("v_bus", "V", "DC bus"),
    ("counts", "", "Counts"),
    ("hall", "", "Hall state"),
    ("index_count", "", "Counts at the last index"),
    ("index_seen", "", "Index pulses seen"),
    ("angle_el", "rad", "Electrical angle in use"),
    ("vector_angle", "rad", "Vector angle"),
    ("excitation", "", "Excitation"),
    ("profile_active", "", "Profile active"),
    ("voltage_limited", "", "Voltage limited"),
    ("current_limited", "", "Current limited"),
    ("signal_cos", "", "Cosine signal"),
    ("signal_sin", "", "Sine signal"),
    ("second_counts", "", "Counts on the load"),
    ("brake_voltage", "V", "Brake voltage"),
    ("chopper", "", "Chopper"),
    ("bus_limited", "", "Braking limited by the bus"),
    ("load_position", "rad", "Position of the load"),
)
SIGNAL_INDEX = {key: i for i, (key, _, _) in enumerate(SIGNALS)}


def fresh_state(*, supply_voltage: float, theta: float, seed: int) -> np.record:
    """Return the state of a plant at rest at a motor angle, bus charged, drive just powered up."""
    state = np.zeros(1, STATE).view(np.recarray)[0]
    state.theta1 = state.theta2 = state.theta3 = state.theta_s = state.pin_place = theta
    state.brake, state.brake_timer = 1, SETTLED
    state.v_bus = state.meas_bus = supply_voltage
    state.gain_share = 1.0
    state.stuck1 = state.stuck2 = 1
    state.noise = np.uint64(seed * 2654435761 % 2**63 + 88172645463325252)
    return state


def snapshot(state: np.record) -> dict[str, Any]:
    """Return every field of a state by its name, read at once: a record's attributes are slow to read one by one."""
    return dict(zip(FIELDS, state.item(), strict=True))
