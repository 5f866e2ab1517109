"""Warnings about a feedback device at the motor's top speed, each with the numbers it compared."""

import math
from collections.abc import Callable, Mapping

from cadrel.core.feedback.calculators import TV, edge_rate, telegram_time, velocity_noise, word_range
from cadrel.core.feedback.device import FeedbackDevice
from cadrel.core.motor import Check, Motor, reader_of
from cadrel.core.parameters import Entry, choice_of, is_given

# Lines per turn that encoders are made with (common practice).
USUAL_LINES = (
    100, 200, 250, 256, 300, 360, 400, 500, 512, 600, 720, 800, 900, 1000, 1024, 1250, 1500, 1800, 2000, 2048, 2500, 3000,
    3600, 4096, 5000, 6000, 7200, 8192, 9000,
)  # fmt: skip
SMOOTH = 400  # counts per electrical turn; common practice
NOISE_SHARE = 0.002  # of top speed that quantisation noise may have before it is worth a look


def check_feedback(device: FeedbackDevice, motor: Motor, values: Mapping[str, Entry]) -> list[Check]:
    """Return every warning that device and motor allow. Raises `EntryProblem`."""
    checks = [_angle_resolution(device, motor), _range(device, motor)]
    if not device.kind.tells_sectors_only:
        checks.append(_noise(device, motor))
    if device.kind.key in OF_KIND:
        checks += OF_KIND[device.kind.key](device, motor, values)
    if motor.reactance_share and not (device.has_halls or device.is_absolute):
        checks.append(
            Check(
                "Angle at power-up", "look", "Without Halls or an absolute device the motor must move a little first."
            )
        )
    if choice_of(values, "second.kind") != "none":
        checks.append(_assignment(values))
    return checks


def _angle_resolution(device: FeedbackDevice, motor: Motor) -> Check:
    per_turn = device.counts_per_turn / motor.pole_pairs
    if device.kind.tells_sectors_only:
        return Check(
            "Angle resolution", "look",
            "Halls alone tell 60° sectors: up to 13 % of torque is lost between them, and speed is coarse.",
        )  # fmt: skip
    return Check(
        "Angle resolution", "agrees" if per_turn >= SMOOTH else "look",
        f"{per_turn:.0f} counts make one electrical turn; {SMOOTH} or more keep torque smooth.",
    )  # fmt: skip


def _incremental(device: FeedbackDevice, motor: Motor, values: Mapping[str, Entry]) -> list[Check]:
    rate, limit = edge_rate(device, motor.speed_max), reader_of(values)("feedback.edge_rate_max")
    said = f"{rate / 1e3:.0f} kHz at top speed; the input stands {limit / 1e3:.0f} kHz."
    return [Check("Edge rate", "agrees" if rate <= limit else "wrong", said), *_counts(values, rate, limit)]


def _sincos(device: FeedbackDevice, motor: Motor, values: Mapping[str, Entry]) -> list[Check]:
    rate = device.periods_per_turn * motor.speed_max / (2 * math.pi)
    limit = reader_of(values)("feedback.analog_bandwidth")
    said = f"{rate / 1e3:.4g} kHz of sine at top speed; the input stands {limit / 1e3:.4g} kHz."
    return [Check("Signal frequency", "agrees" if rate <= limit else "wrong", said)]


def _counts(values: Mapping[str, Entry], rate: float, limit: float) -> list[Check]:
    """Whether counts were typed for lines: four counts make one line."""
    if not is_given(values, "feedback.lines"):
        return []
    lines = round(reader_of(values)("feedback.lines"))
    quarter = lines / 4
    unusual = lines not in USUAL_LINES and quarter in USUAL_LINES
    if not unusual and not (rate > limit >= rate / 4):
        return []
    why = "" if rate <= limit else ", and the edge rate would fit"
    said = f"{lines} is four times {quarter:g}{why}: are these counts? A sheet's lines or pulses are a quarter of them."
    return [Check("Lines or counts", "look", said)]


def _range(device: FeedbackDevice, motor: Motor) -> Check:
    found = word_range(device, motor.speed_max)
    if not found.drop_bits:
        return Check(
            "32-bit range", "agrees",
            f"Position holds {_reach(device, found.turns)} either way, velocity {found.speed / motor.speed_max:.3g} times top speed.",
        )  # fmt: skip
    return Check(
        "32-bit range", "wrong",
        f"At top speed the velocity overflows its word by {motor.speed_max / found.speed:.2g} times. Drop "
        f"{found.drop_bits} low bits: {found.counts_left:.0f} counts per turn are left, and it reaches "
        f"{found.speed_left / motor.speed_max:.2g} times top speed.",
    )  # fmt: skip


def _reach(device: FeedbackDevice, turns: float) -> str:
    return f"{turns:.4g} turns" if device.metres_per_turn is None else f"{turns * device.metres_per_turn:.4g} m"


def _speed(device: FeedbackDevice, speed: float) -> str:
    if device.metres_per_turn is None:
        return f"{speed * 30 / math.pi:.3g} rpm"
    return f"{1e3 * speed * device.metres_per_turn / math.tau:.3g} mm/s"


def _noise(device: FeedbackDevice, motor: Motor) -> Check:
    noise = velocity_noise(device)
    share = noise / motor.speed_max
    return Check(
        "Velocity noise", "agrees" if share <= NOISE_SHARE else "look",
        f"Quantisation makes {_speed(device, noise)} rms of noise at {TV * 1e6:.0f} µs, {100 * share:.2g} % of top speed.",
    )  # fmt: skip


def _serial(device: FeedbackDevice, motor: Motor, values: Mapping[str, Entry]) -> list[Check]:
    assert device.serial is not None
    took = telegram_time(device)
    checks = [
        Check(
            "Telegram", "agrees" if took <= 0.25 * TV else "look" if took <= TV else "wrong",
            f"The word takes {took * 1e6:.3g} µs of the {TV * 1e6:.0f} µs loop; above a quarter the delay costs margin.",
        )
    ]  # fmt: skip
    within = word_range(device, motor.speed_max).turns
    if 2 ** (device.serial.multi_turn_bits - 1) > within:
        checks.append(
            Check(
                "Turns and 32-bit range", "look",
                f"The device tells {2**device.serial.multi_turn_bits} turns; a 32-bit position holds {2 * within:.4g} of "
                "them at this resolution. Home within those, or drop low bits.",
            )
        )  # fmt: skip
    if device.serial.crc == "none":
        checks.append(Check("Checksum", "look", "Nothing guards the word: a disturbed bit is a jump of the shaft."))
    tolerated = reader_of(values)("feedback.errors_tolerated")
    if tolerated:
        checks.append(
            Check(
                "Errors tolerated", "look", f"{tolerated:.0f} bad words in a row are ignored; mend the cable instead."
            )
        )
    if device.serial.multi_turn_bits and choice_of(values, "feedback.battery") == "fitted":
        checks.append(Check("Battery", "look", "When it is empty the turns are lost, and the axis must be homed anew."))
    return checks


def _resolver(device: FeedbackDevice, motor: Motor, _: Mapping[str, Entry]) -> list[Check]:
    pairs = round(device.periods_per_turn)
    fits = motor.pole_pairs % pairs == 0
    said = f"{pairs} resolver turn{'s' if pairs > 1 else ''} to {motor.pole_pairs} electrical turns of the motor."
    if not fits:
        said += " The motor's pole pairs must be a multiple, or the angle at power-up is ambiguous."
    return [Check("Resolver and motor pole pairs", "agrees" if fits else "wrong", said)]


# What is looked at for one kind only.
OF_KIND: dict[str, Callable[[FeedbackDevice, Motor, Mapping[str, Entry]], list[Check]]] = {
    "incremental": _incremental,
    "sincos": _sincos,
    "resolver": _resolver,
    "serial": _serial,
}


def _assignment(values: Mapping[str, Entry]) -> Check:
    velocity, position = choice_of(values, "feedback.velocity_from"), choice_of(values, "feedback.position_from")
    if velocity == "load":
        return Check(
            "Devices and loops",
            "look",
            "Velocity from the load brings every spring into the fast loop; the motor's is usual.",
        )
    said = "Commutation and velocity by the motor's device, position by the " + (
        "load's." if position == "load" else "motor's too: the second one only watches."
    )
    return Check("Devices and loops", "agrees", said)
