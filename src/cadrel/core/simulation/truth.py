"""A rig in physical terms."""

from dataclasses import dataclass
from typing import Any

from cadrel.core.errors import UnusableInput
from cadrel.core.motor import cable_resistance
from cadrel.core.parameters import DEVICE_KINDS, DeviceKind

DEAD_LAWS = ("hyperbola", "tanh", "atan", "exponential", "clipped")  # as the kernel numbers them


def _frozen(value: Any) -> Any:
    return tuple(_frozen(v) for v in value) if isinstance(value, list | tuple) else value


@dataclass(frozen=True, slots=True, kw_only=True)
class RigTruth:
    """The true axis and drive hardware. SI, per phase, peak; all of the load reflected to the motor shaft."""

    resistance: float
    inductance_d: float
    inductance_q: float
    flux_linkage: float
    pole_pairs: int
    inertia_motor: float
    inertia_load: float
    stiffness: float = 2000.0  # [N·m/rad]
    damping: float = 0.05  # [N·m·s/rad]
    coulomb_motor: float = 0.0  # [N·m]
    viscous_motor: float = 0.0  # [N·m·s/rad]
    coulomb_load: float = 0.0
    viscous_load: float = 0.0
    breakaway_ratio: float = 1.2  # breakaway over sliding torque
    stribeck_speed: float = 2.0  # [rad/s]
    torque_load: float = 0.0  # [N·m] constant, as gravity makes it
    stop_low: float = -1e9  # [rad] end stops, from the start position
    stop_high: float = 1e9
    device: str = "incremental"  # key of one of `DEVICE_KINDS`
    encoder_lines: int = 2500  # signal periods of incremental and sin/cos devices
    unplugged: bool = False  # nothing answers the drive
    open_phase: int = 0  # 1 to 3: a motor phase that is not connected
    encoder_inverted: bool = False  # A and B swapped, or mounted the other way round
    index_angle: float = 1.0  # [rad] mechanical, from a rotor d axis to the index, or to an absolute device's zero
    index_missing: bool = False
    lost_counts: float = 0.0  # counts the input misses per revolution
    coupling_play: float = 0.0  # [rad] between shaft and device
    coupling_slip: float = 0.0  # share of forward motion the device misses
    signal_offset_cos: float = 0.0  # of the amplitude
    signal_offset_sin: float = 0.0
    signal_gain: float = 1.0  # sine over cosine
    signal_quadrature_deg: float = 0.0  # sine ahead
    signal_noise: float = 0.001  # of the amplitude
    signals_swapped: bool = False  # sine and cosine
    resolver_pairs: int = 1
    excitation_phase_deg: float = 0.0  # of a resolver: the demodulated amplitude falls with its cosine
    single_turn_bits: int = 17
    leading_bits: int = 0
    multi_turn_bits: int = 0
    trailing_bits: int = 0
    word_checksum: str = "crc6"  # "crc6", "parity", "none"
    word_flags: int = 2  # error and warning bit, active low
    word_coding: str = "binary"  # "binary", "gray"
    word_error_rate: float = 0.0  # share of words that arrive wrong
    word_latency: float = 0.0  # [s]
    word_alarm: bool = False  # the device reports an error
    halls_fitted: bool | None = None  # absent: with incremental devices, and where they are all there is
    hall_spacing: int = 120  # [°]
    hall_hysteresis_deg: float = 0.0  # electrical, width
    hall_wires: str = "123"  # which Hall is on input 1, 2, 3
    hall_inverted: tuple[int, ...] = ()  # numbers of Halls wired inverted
    hall_dead: tuple[int, ...] = ()  # numbers of Halls that stay low
    hall_errors_deg: tuple[float, ...] = (0.0,) * 6  # electrical, of the six edges
    hall_offset_deg: float = 0.0  # electrical, of all edges together
    halls_mirrored: bool = False
    phases_swapped: bool = False
    phases_rotated: int = 0  # 0, 1, 2: wires moved on by so many terminals
    brake_torque: float = 0.0  # [N·m] at the motor; 0: no brake
    brake_stuck: bool = False
    brake_kind: str = "clutch"  # "clutch" holds by friction, "pin" by a pin in a hole
    pin_play_deg: float = 2.0  # [°] of the motor, whole: what a pin leaves free
    pin_jam: float = 0.2  # [N·m] on the pin, at the motor, above which it does not come out
    brake_release: float = 0.03  # [s] from voltage on until it is open
    brake_engage: float = 0.03  # [s] from voltage off until it holds
    brake_pull_in: float = 20.0  # [V] that opens it
    brake_hold: float = 8.0  # [V] that keeps it open
    controller_delay: float = 0.01  # [s] by which a controller that operates the brake is later than the drive
    second_counts: float = 0.0  # of a device on the load, per motor turn
    second_inverted: bool = False
    start_angle: float | None = None  # [rad] motor angle at power-up; drawn from the seed if absent
    supply_voltage: float = 325.0  # [V dc]
    supply_resistance: float = 1.5
    bus_capacitance: float = 560e-6
    chopper_on: float = 380.0
    chopper_off: float = 370.0
    brake_resistor: float = 0.0  # [ohm] 0: none
    resistor_power: float = 0.0  # [W] that it stands for ever; 0: it never gets hot
    resistor_heat: float = 60.0  # [J/K]
    overvoltage: float = 410.0
    dead_voltage: float = 1.0  # [V] lost per phase by dead time
    dead_current: float = 0.1  # [A] scale of the law: at it half is lost by the hyperbola
    dead_law: str = "hyperbola"  # one of DEAD_LAWS
    current_noise: float = 0.01  # [A]
    current_lsb: float = 0.005  # [A]
    drive_current_peak: float = 20.0  # [A peak]
    drive_current_continuous: float = 8.0
    # What a machine has beside: each off where it is 0 or empty. A wave is (order, amplitude, phase in degrees).
    inertia_third: float = 0.0  # [kg·m²] behind the load
    stiffness_third: float = 0.0  # [N·m/rad] between load and third mass
    damping_third: float = 0.0  # [N·m·s/rad]
    backlash_deg: float = 0.0  # [°] whole, at the motor, between motor and load
    transmission_error: tuple[tuple[float, float, float], ...] = ()  # [°] of the load, at the motor, per motor turn
    cogging: tuple[tuple[float, float, float], ...] = ()  # [N·m] per motor turn
    torque_ripple: tuple[tuple[float, float, float], ...] = ()  # share of the flux, per electrical turn
    friction_wave: tuple[tuple[float, float, float], ...] = ()  # share of the load's friction, per turn
    presliding_deg: float = 0.0  # [°] at the motor, in which friction builds up
    saturation_current: float = 0.0  # [A] at which inductance has fallen to half
    magnet_current: float = 0.0  # [A] along d that the magnets are worth, of that
    winding_heat: float = 0.0  # [J/K]
    winding_cooling: float = 0.0  # [W/K]
    base_inertia: float = 0.0  # [kg·m²] of a base that gives, at the motor
    base_stiffness: float = 0.0  # [N·m/rad]
    base_damping: float = 0.0  # [N·m·s/rad]
    scale_error: tuple[tuple[float, float, float], ...] = ()  # [°] of the motor per motor turn: eccentricity and such
    line_jitter: float = 0.0  # of a line, that each is off by
    current_offset: tuple[float, float] = (0.0, 0.0)  # [A] of both sensors
    current_gain_error: float = 0.0  # of the second sensor against the first
    sampling_skew: float = 0.0  # [s] from the middle of the PWM period to where currents are sampled: their ripple
    cable_length: float = 0.0  # [m] of the motor cable, one way; it stays as warm as it is
    cable_section_mm2: float = 1.5  # [mm²] of its copper
    faults: tuple[str, ...] = ()  # codes of `faults.FAULTS`, done to all of the above

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> "RigTruth":
        """Return the rig of a parsed file. Raises `UnusableInput` for unknown or missing keys."""
        known = set(cls.__dataclass_fields__)
        unknown = sorted(set(data) - known)
        needed = {
            "resistance",
            "inductance_d",
            "inductance_q",
            "flux_linkage",
            "pole_pairs",
            "inertia_motor",
            "inertia_load",
        }
        missing = sorted(needed - set(data))
        if unknown or missing:
            raise UnusableInput(
                what=f"The rig has unknown keys {unknown} or lacks {missing}.",
                remedy="Compare with docs/formats/rig.md.",
            )
        values: dict[str, Any] = {k: _frozen(v) for k, v in data.items()}
        if values.get("device", "incremental") not in DEVICE_KINDS:
            raise UnusableInput(
                what=f"The rig has an unknown device '{values['device']}'.", remedy=f"Known: {', '.join(DEVICE_KINDS)}."
            )
        return cls(**values)

    @property
    def device_kind(self) -> DeviceKind:
        """What kind of device is fitted."""
        return DEVICE_KINDS[self.device]

    @property
    def has_halls(self) -> bool:
        """Whether Hall signals are wired at all."""
        return self.device_kind.has_edges if self.halls_fitted is None else self.halls_fitted

    @property
    def phase_resistance(self) -> float:
        """Of a cold winding behind its cable. [ohm]"""
        return self.resistance + cable_resistance(length=self.cable_length, section=1e-6 * self.cable_section_mm2)

    @property
    def word_bits(self) -> int:
        """Bits of a whole serial word."""
        checksum = {"crc6": 6, "parity": 1, "none": 0}[self.word_checksum]
        field = self.multi_turn_bits + self.single_turn_bits
        return self.leading_bits + field + self.trailing_bits + self.word_flags + checksum
