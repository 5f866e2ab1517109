"""The feedback step."""

import math
from collections.abc import Mapping

from cadrel.core.axis import feedback_of
from cadrel.core.errors import CadrelError
from cadrel.core.feedback import (
    FeedbackDevice,
    check_feedback,
    edge_rate,
    speed_of_one_count,
    telegram_time,
    velocity_noise,
    word_range,
)
from cadrel.core.mechanics import mechanism_from_entries
from cadrel.core.motor import Check, Motor, motor_from_sheet
from cadrel.core.parameters import Entry
from cadrel.web.route.facts.pictures import circle_picture, hall_picture, quadrature_picture, word_picture
from cadrel.web.route.facts.shape import Facts, Row

RPM = 60 / (2 * math.pi)
ANY_MOTOR = Motor(
    resistance=1.0,
    inductance=1e-3,
    flux_linkage=0.1,
    pole_pairs=1,
    current_continuous=1.0,
    current_peak=2.0,
    inertia=1e-4,
    speed_max=300.0,
)  # fmt: skip - until the motor is entered: what depends on it is left out


def feedback_facts(values: Mapping[str, Entry]) -> Facts:
    """Return counts, rates, ranges, warnings and the signals as drawn. Raises `CadrelError`."""
    try:
        motor: Motor | None = motor_from_sheet(values)
    except CadrelError:
        motor = None
    device = feedback_of(values, motor or ANY_MOTOR)
    facts = Facts(rows=_rows(device, motor), pictures=_pictures(device))
    if motor is None:
        facts.checks = [Check("Motor", "look", "Rates and ranges are shown once the motor is entered.")]
        return facts
    facts.checks = check_feedback(device, motor, values)
    try:
        mechanism = mechanism_from_entries(values)
        one = device.count_angle * mechanism.unit_per_rad
        facts.rows.append(("One count at the load", *(_length(one) if mechanism.is_linear else _angle(one))))
        facts.rows.append(("Counts per load unit", f"{1 / one:.6g}", f"per {mechanism.unit}"))
    except CadrelError:
        facts.checks.append(Check("Load unit", "look", "Counts per load unit are shown once mechanics is entered."))
    return facts


def _angle(degrees: float, of: str = "") -> tuple[str, str]:
    """An angle in degrees, or in seconds of arc where it is tiny."""
    return (f"{degrees:.3g}", "°" + of) if degrees >= 1e-3 else (f"{3600 * degrees:.3g}", "″" + of)


def _length(mm: float) -> tuple[str, str]:
    """A length in mm, µm or nm, whichever reads best."""
    for factor, unit in ((1.0, "mm"), (1e3, "µm")):
        if mm * factor >= 0.5:
            return f"{mm * factor:.4g}", unit
    return f"{1e6 * mm:.4g}", "nm"


def _turn_of(device: FeedbackDevice) -> str:
    return "motor revolution" if device.metres_per_turn is None else "magnetic pitch"


def _rows(device: FeedbackDevice, motor: Motor | None) -> list[Row]:
    rows: list[Row] = [(f"Counts per {_turn_of(device)}", f"{device.counts_per_turn:.9g}", "")]
    if device.metres_per_turn is None:
        rows.append(("One count", *_angle(math.degrees(device.count_angle), " of the shaft")))
        rows.append(("Speed of one count per sample", f"{speed_of_one_count(device) * RPM:.3g}", "rpm"))
    else:
        length = device.metres_per_turn / device.counts_per_turn
        rows.append(("One count", *_length(1e3 * length)))
        rows.append(
            (
                "Speed of one count per sample",
                f"{speed_of_one_count(device) / math.tau * 1e3 * device.metres_per_turn:.3g}",
                "mm/s",
            )
        )
    if device.serial is not None:
        rows.append(("Telegram", f"{1e6 * telegram_time(device):.3g}", "µs"))
    if motor is None:
        return rows
    rows.append(("One count, electrical", *_angle(360 * motor.pole_pairs / device.counts_per_turn)))
    if device.kind.counts_lines:
        rows.append(("Edge rate at top speed", f"{edge_rate(device, motor.speed_max) / 1e3:.4g}", "kHz"))
    if device.metres_per_turn is None and not device.kind.tells_sectors_only:
        rows.append(("Velocity noise of quantisation", f"{velocity_noise(device) * RPM:.3g}", "rpm rms"))
    turns = word_range(device, motor.speed_max).turns
    if device.metres_per_turn is None:
        rows.append(("Turns in a 32-bit position", f"{turns:.4g}", "either way"))
    else:
        rows.append(("Travel in a 32-bit position", f"{turns * device.metres_per_turn:.4g}", "m either way"))
    return rows


def _pictures(device: FeedbackDevice) -> list[dict[str, object]]:
    pictures: list[dict[str, object]] = []
    if device.kind.counts_lines:
        pictures.append(quadrature_picture(has_index=device.has_index))
    if device.kind.has_sine:
        pictures.append(circle_picture(device.kind, periods=device.periods_per_turn, per=_turn_of(device)))
    if device.serial is not None:
        pictures.append(word_picture(device.serial))
    if device.has_halls:
        pictures.append(hall_picture(device.hall_spacing))
    return pictures
