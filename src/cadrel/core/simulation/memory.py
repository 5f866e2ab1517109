"""The drive's parameter memory: working, permanent, and what of it is in force."""

import math
from collections.abc import Mapping

from cadrel.core.control.filters import FRICTION_BLENDS, Section, lowpass_pole, notch
from cadrel.core.errors import CadrelError
from cadrel.core.parameters import BY_CODE, DRIVE_KEYS, REGISTRY, SECTIONS, default_drive_values
from cadrel.core.power import MARGIN
from cadrel.core.simulation.layout import TICK, TV, Settings
from cadrel.core.simulation.truth import RigTruth

PEAK_SECONDS = 2.0  # [s] peak current is allowed this long before the drive folds back to continuous


class ParameterRefused(CadrelError):
    """The drive does not take a value."""

    happened = "The drive refused {key} = {value}."
    means = "Its working memory is unchanged."
    remedy = "{why}"


class Memory:
    """Working values (lost at power-off), permanent values, and restart-needed values in force."""

    def __init__(self) -> None:
        self.permanent = default_drive_values()
        self.working = dict(self.permanent)
        self.in_force = dict(self.permanent)

    def write(self, values: Mapping[str, float]) -> list[str]:
        """Take all values or none; return the keys that changed. Raises `ParameterRefused`."""
        checked: dict[str, float] = {}
        for key, value in values.items():
            if key not in DRIVE_KEYS:
                raise ParameterRefused(key=key, value=value, why="It has no such parameter.")
            p = REGISTRY[key]
            if not isinstance(value, int | float) or not math.isfinite(value):
                raise ParameterRefused(key=key, value=value, why="It takes finite numbers only.")
            if not p.quantity.startswith("axis_") and not p.minimum <= value <= p.maximum:
                raise ParameterRefused(key=key, value=value, why=f"It takes {p.minimum:g} to {p.maximum:g}.")
            checked[key] = float(value)
        changed = [k for k, v in checked.items() if self.working[k] != v]
        self.working.update(checked)
        self.in_force.update({k: v for k, v in checked.items() if not REGISTRY[k].restart})
        return changed

    def store(self) -> None:
        """Copy working to permanent memory."""
        self.permanent = dict(self.working)

    def reload(self) -> None:
        """What power-up does: permanent values become working values and come into force."""
        self.working = dict(self.permanent)
        self.in_force = dict(self.permanent)

    @property
    def not_stored(self) -> list[str]:
        """Keys that power-off would lose."""
        return _differing(self.working, self.permanent)

    @property
    def restart_needed(self) -> list[str]:
        """Keys written but not in force before a restart."""
        return _differing(self.working, self.in_force)


def _differing(one: Mapping[str, float], other: Mapping[str, float]) -> list[str]:
    # Asked for with every status: two that are equal, as they mostly are, are compared as a whole.
    return [] if one == other else [k for k in DRIVE_KEYS if one[k] != other[k]]


def _sections(v: Mapping[str, float]) -> dict[str, float]:
    """Coefficients of the second-order sections; those that are on come first."""
    every = [
        Section(
            zero_hz=v[f"velocity.section{n}_zero"], zero_damping=v[f"velocity.section{n}_zero_damping"],
            pole_hz=v[f"velocity.section{n}_pole"], pole_damping=v[f"velocity.section{n}_pole_damping"],
        )
        for n in SECTIONS
    ]  # fmt: skip
    every.sort(key=lambda section: section.pole_hz <= 0.0)  # a stable sort: their order stays
    found = {"sections": float(sum(section.pole_hz > 0.0 for section in every))}
    for n, section in zip(SECTIONS, every, strict=True):
        biquad = section.biquad(period=TV)
        found |= {f"section{n}_{key}": getattr(biquad, key) for key in ("b0", "b1", "b2", "a1", "a2")}
    return found


TAIL = 12.0  # time constants of the command notch's poles after which a move is over: e^-12 of it is left


def _shaping(v: Mapping[str, float]) -> dict[str, float]:
    """Coefficients of the notch that planned moves pass, and for how long it lengthens them."""
    at, width, depth = v["position.shaping_frequency"], v["position.shaping_width"], v["position.shaping_depth"]
    biquad = notch(at, width=width, depth_db=depth, period=TV)
    found = {f"shaping_{key}": getattr(biquad, key) for key in ("b0", "b1", "b2", "a1", "a2")}
    is_on = at > 0.0 and depth < 0.0
    # Poles damped by more than 1 part into a quick and a slow one.
    slowest = 2 * math.pi * at * (width - math.sqrt(max(width * width - 1, 0.0)))
    return found | {"shaping_tail": TAIL / slowest if is_on else 0.0}


def eased(values: Mapping[str, float], share: float) -> dict[str, float]:
    """Return the gains of position and velocity loop at a share of what they are, the reset time as much longer.

    The loop keeps its shape and only gets slower.
    """
    wanted = {
        "position.gain": share * values["position.gain"],
        "velocity.gain": share * values["velocity.gain"],
        "velocity.reset_time": values["velocity.reset_time"] / share,
    }
    return {k: min(max(v, REGISTRY[k].minimum), REGISTRY[k].maximum) for k, v in wanted.items()}


def settings_of(v: Mapping[str, float], truth: RigTruth) -> Settings:
    """Return the loop settings of parameter values; hardware trips come from the drive's own ratings."""
    n = notch(
        v["velocity.notch_frequency"], width=v["velocity.notch_width"], depth_db=v["velocity.notch_depth"], period=TV
    )
    kt = 1.5 * v["motor.pole_pairs"] * v["motor.flux_linkage"]
    most = min(v["limit.current"], truth.drive_current_peak)
    made = Settings(
        resistance=v["motor.resistance"],
        inductance=v["motor.inductance"],
        flux_linkage=v["motor.flux_linkage"],
        torque_constant=kt,
        pole_pairs=v["motor.pole_pairs"],
        counts=v["feedback.counts"],
        direction=-1.0 if v["feedback.direction"] else 1.0,
        phase_order=-1.0 if v["motor.phase_order"] else 1.0,
        current_gain=v["current.gain"],
        current_integral=v["current.gain"] / v["current.reset_time"],
        dead_voltage=v["current.dead_voltage"],
        dead_current=v["current.dead_current"],
        dead_shape=v["current.dead_shape"],
        current_share=1.0 - math.exp(-TICK * v["current.gain"] / v["motor.inductance"]),
        offset_a=v["current.offset_a"],
        offset_b=v["current.offset_b"],
        sensor_gain_b=v["current.sensor_gain_b"],
        velocity_gain=v["velocity.gain"],
        velocity_integral=v["velocity.gain"] / v["velocity.reset_time"],
        feedback_pole=lowpass_pole(v["velocity.feedback_filter"], period=TV),
        torque_pole=lowpass_pole(v["velocity.torque_filter"], period=TV),
        notch_b0=n.b0,
        notch_b1=n.b1,
        notch_b2=n.b2,
        notch_a1=n.a1,
        notch_a2=n.a2,
        **_sections(v),
        position_gain=v["position.gain"],
        velocity_feedforward=v["position.velocity_feedforward"],
        acceleration_torque=v["position.acceleration_feedforward"] * v["load.inertia"],
        friction_torque=v["position.friction_feedforward"] * v["load.friction"],
        friction_blend=FRICTION_BLENDS * v["limit.velocity"],
        oscillation_reaction=v["velocity.oscillation_reaction"],
        **_shaping(v),
        current_limit=most,
        trip_current=1.25 * min(v["motor.current_peak"], 1.2 * truth.drive_current_peak) + 0.1,
        trip_speed=min(1.2 * v["limit.velocity"], 1.1 * v["motor.speed_max"]),
        trip_overvoltage=truth.overvoltage,
        chopper_on=truth.chopper_on,
        braking_reaction=v["power.braking_reaction"],
        brake_operation=v["brake.operation"],
        brake_free_turn=v["brake.free_turn"],
        brake_free_torque=v["brake.free_torque"],
        brake_release=MARGIN * v["brake.release_delay"] / TICK,
        brake_engage=MARGIN * v["brake.engage_delay"] / TICK,
        brake_pull_in_time=v["brake.pull_in_time"] / TICK,
        brake_pull_in_voltage=v["brake.pull_in_voltage"],
        brake_hold_voltage=v["brake.hold_voltage"],
        trip_undervoltage=v["power.undervoltage"],
        current_continuous=min(v["motor.current_continuous"], truth.drive_current_continuous),
        thermal_budget=PEAK_SECONDS * max(most**2 - v["motor.current_continuous"] ** 2, 0.01),
        following_error=v["limit.following_error"],
        travel_min=v["limit.travel_min"],
        travel_max=v["limit.travel_max"],
        velocity_limit=v["limit.velocity"],
        acceleration=v["limit.acceleration"],
        quick_stop=v["limit.quick_stop"],
        hall_offset=v["commutation.hall_offset"],
        hall_sign=-1.0 if v["commutation.hall_mirrored"] else 1.0,
        hall_mask=2.0 if v["feedback.hall_spacing"] == 60 else 0.0,
        hall_edge_1=v["commutation.hall_edge_1"],
        hall_edge_2=v["commutation.hall_edge_2"],
        hall_edge_3=v["commutation.hall_edge_3"],
        hall_edge_4=v["commutation.hall_edge_4"],
        hall_edge_5=v["commutation.hall_edge_5"],
        hall_edge_6=v["commutation.hall_edge_6"],
        hall_hysteresis=v["commutation.hall_hysteresis"],
        index_offset=v["commutation.offset"],
        has_index=1.0 if v["feedback.index"] and v["commutation.valid"] else 0.0,
        device=round(v["feedback.device"]),
        is_absolute=float(BY_CODE[round(v["feedback.device"])].is_absolute),
        periods=v["feedback.periods"],
        signal_offset_cos=v["signal.offset_cos"],
        signal_offset_sin=v["signal.offset_sin"],
        signal_gain=v["signal.gain"],
        signal_quadrature=v["signal.quadrature"],
        word_counts=v["feedback.counts"] if BY_CODE[round(v["feedback.device"])].has_words else 1.0,
        word_skip=2.0 ** v["feedback.word_skip"],
        word_length=v["feedback.word_length"],
        word_checksum=v["feedback.word_checksum"],
        word_gray=v["feedback.word_gray"],
        word_error=v["feedback.word_error"],
        word_warning=v["feedback.word_warning"],
        errors_tolerated=v["feedback.errors_tolerated"],
        tracking=2 * math.pi * v["feedback.resolver_bandwidth"],
        second_counts=v["feedback.second_counts"],
        place_from_load=v["feedback.position_device"],
    )
    # One type a field, whatever was written: another would make the kernel compile anew.
    typed = [v if name == "device" else float(v) for name, v in zip(Settings._fields, made, strict=True)]
    return Settings._make(typed)
