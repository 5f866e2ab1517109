"""The drive's commands as a table: what each is called with, within which bounds, and whether it needs the lease.

The serving end checks every call against it before anything looks at a value: what is not a finite number within its
bounds, not a text, or not known, never reaches a loop. docs/link-protocol.md describes the same commands in words.
"""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from cadrel.link.wire import WireError, unpack

Check = Callable[[str, Any], Any]
MOST_SMALL = 1_000_000  # [bytes] of a request that carries no path, excitation or recording
DEEPEST = 8  # levels of lists and objects in a request
MOST_SEGMENTS = 20_000  # of a path
MOST_WAVES = 8  # and numbers in one, of what a rig lists
FAR = 1e9  # [rad] beyond any position; also "no guard"
FAST = 1e7  # [rad/s]
STRONG = 1e7  # [A], [N·m]
CONSENT_SECONDS = 20.0  # [s] of drive time from the tick: a consent not used by then is none any more


class BadParams(WireError):
    """A command was called with something it does not take."""


@dataclass(frozen=True, slots=True)
class Param:
    """One parameter of a command. Without a default it is required."""

    check: Check
    default: Any = None
    required: bool = True


def number(low: float, high: float) -> Check:
    """A finite number within bounds."""

    def check(name: str, value: Any) -> float:
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise BadParams(f"{name} is not a number")
        try:
            found = float(value)
        except OverflowError:
            found = math.inf
        if not math.isfinite(found) or not low <= found <= high:
            raise BadParams(f"{name} is not within {low:g} to {high:g}")
        return found

    return check


def whole(low: int, high: int) -> Check:
    """A whole number within bounds."""

    def check(name: str, value: Any) -> int:
        if isinstance(value, bool) or not isinstance(value, int) or not low <= value <= high:
            raise BadParams(f"{name} is not a whole number from {low} to {high}")
        return value

    return check


def flag(name: str, value: Any) -> bool:
    """True or false."""
    if not isinstance(value, bool):
        raise BadParams(f"{name} is not true or false")
    return value


def text(longest: int) -> Check:
    """A text without control characters and lone surrogates."""

    def check(name: str, value: Any) -> str:
        if not isinstance(value, str) or len(value) > longest:
            raise BadParams(f"{name} is not a text of at most {longest} characters")
        if any(ord(c) < 32 or 0xD800 <= ord(c) <= 0xDFFF for c in value):
            raise BadParams(f"{name} holds characters that are no text")
        return value

    return check


def one_of(*names: str) -> Check:
    """One of some words."""

    def check(name: str, value: Any) -> str:
        if not isinstance(value, str) or value not in names:
            raise BadParams(f"{name} is none of {', '.join(names)}")
        return value

    return check


def texts(most: int, longest: int) -> Check:
    """A list of texts."""
    each = text(longest)

    def check(name: str, value: Any) -> list[str]:
        if not isinstance(value, list) or len(value) > most:
            raise BadParams(f"{name} is not a list of at most {most} texts")
        return [each(name, one) for one in value]

    return check


def numbers_by_key(name: str, value: Any) -> dict[str, float]:
    """Finite numbers by text; their bounds are the registry's, which the memory knows."""
    if not isinstance(value, dict):
        raise BadParams(f"{name} is not an object of numbers")
    key, figure = text(60), number(-1e300, 1e300)
    return {key(name, k): figure(str(k)[:60], v) for k, v in value.items()}


def array(*, columns: int | None, most: int) -> Check:
    """A packed array of finite numbers, (n,) or (n, columns)."""

    def check(name: str, value: Any) -> np.ndarray:
        found = unpack(value)
        good = found.ndim == 1 if columns is None else found.ndim == 2 and found.shape[1] == columns
        if not good or not 0 < len(found) <= most:
            raise BadParams(f"{name} does not have the shape it should, or more than {most} rows")
        if np.abs(found).max() > FAR:
            raise BadParams(f"{name} goes beyond {FAR:g}")
        return found

    return check


def trigger(name: str, value: Any) -> dict[str, Any]:
    """Nothing, or {signal, level, rising}."""
    if value is None or value == {}:
        return {}
    if not isinstance(value, dict) or set(value) - {"signal", "level", "rising"} or "signal" not in value:
        raise BadParams(f"{name} is not {{signal, level, rising}}")
    return {
        "signal": text(40)("trigger.signal", value["signal"]),
        "level": number(-FAR, FAR)("trigger.level", value.get("level", 0.0)),
        "rising": flag("trigger.rising", value.get("rising", True)),
    }


def plain_values(name: str, value: Any) -> dict[str, Any]:
    """Numbers, flags, short texts and lists of numbers by key; what a key takes is said by the rig's schema."""
    if not isinstance(value, dict):
        raise BadParams(f"{name} is not an object")
    key, figure, word = text(60), number(-1e300, 1e300), text(60)
    for k, v in value.items():
        key(name, k)
        if isinstance(v, str):
            word(k, v)
        elif isinstance(v, list):
            if len(v) > MOST_WAVES:
                raise BadParams(f"{k} is too long")
            for wave in v:
                if not isinstance(wave, list) or len(wave) > MOST_WAVES:
                    raise BadParams(f"{k} is no list of waves")
                for part in wave:
                    figure(k, part)
        elif not isinstance(v, bool):
            figure(k, v)
    return dict(value)


def optional(check: Check, default: Any) -> Param:
    """A parameter that may be left out."""
    return Param(check, default, required=False)


@dataclass(frozen=True, slots=True)
class Command:
    """A command: parameters by name, whether it needs the lease, whether its line may be long."""

    params: Mapping[str, Param] = field(default_factory=dict)
    led: bool = False
    large: bool = False


ANGLE, SPEED, AMPS, RATE = number(-FAR, FAR), number(-FAST, FAST), number(-STRONG, STRONG), number(-1e12, 1e12)
# Every call may carry these: they say who asks, on whose consent, and which pages look on.
COMMON: dict[str, Param] = {
    "axis": optional(text(60), ""),
    "lease": optional(text(64), ""),
    "consent": optional(text(64), ""),
    "watch": optional(texts(200, 64), ()),
}
COMMANDS: dict[str, Command] = {
    "link.hello": Command({"secret": Param(text(200))}),
    "drive.identity": Command(),
    "drive.status": Command(),
    "drive.restart": Command(led=True),
    "drive.stop": Command(
        {"why": optional(text(200), ""), "press": optional(text(64), ""), "by": optional(text(120), "")}
    ),
    "parameters.read": Command({"memory": optional(one_of("working", "permanent"), "working")}),
    "parameters.write": Command({"values": Param(numbers_by_key)}, led=True),
    "parameters.store": Command(led=True),
    "control.take": Command({"owner": Param(text(120)), "force": optional(flag, False)}),
    "control.give": Command(led=True),
    "control.beat": Command(led=True),
    "control.consent": Command(
        {
            "label": Param(text(64)),
            "until": Param(number(0.0, 1e12)),
            "unattended": optional(flag, False),
        },
        led=True,
    ),
    "control.revoke": Command({"label": Param(text(64)), "why": optional(text(200), "")}, led=True),
    "power.enable": Command(
        {
            "mode": Param(one_of("vector", "current", "velocity", "position")),
            "guard_low": Param(ANGLE),
            "guard_high": Param(ANGLE),
            "guard_speed": Param(number(0.0, FAR)),
            "torque": optional(AMPS, 0.0),
            "brake_closed": optional(flag, False),
            "cut_on_guard": optional(flag, False),
            "watcher": optional(text(64), ""),
            "unattended": optional(flag, False),
            "not_after": optional(number(0.0, 1e12), 1e12),
        },
        led=True,
    ),
    "power.disable": Command(led=True),
    "fault.reset": Command(led=True),
    "motion.vector": Command(
        {
            "angle": Param(ANGLE),
            "rate": Param(SPEED),
            "current": Param(AMPS),
            "rise": Param(RATE),
            "acceleration": optional(RATE, 0.0),
            "held": optional(flag, False),
            "holder": optional(text(64), ""),
        },
        led=True,
    ),
    "motion.catch": Command({"current": Param(AMPS), "level": Param(AMPS)}, led=True),
    "brake.set": Command({"closed": Param(flag)}, led=True),
    "brake.hold_open": Command({"travel": Param(number(0.0, 1e4)), "holder": optional(text(64), "")}, led=True),
    "brake.close": Command({"holder": optional(text(64), "")}, led=True),
    "motion.release": Command({"holder": optional(text(64), "")}, led=True),
    "motion.jog": Command({"velocity": Param(SPEED), "holder": optional(text(64), "")}, led=True),
    "motion.run": Command(
        {
            "velocity": Param(SPEED),
            "acceleration": optional(number(0.0, 1e12), 0.0),
            "lasts": optional(number(0.0, 3600.0), 0.0),
        },
        led=True,
    ),
    "motion.path": Command({"segments": Param(array(columns=6, most=MOST_SEGMENTS))}, led=True, large=True),
    "motion.adopt_angle": Command({"angle": Param(ANGLE)}, led=True),
    "motion.set_position": Command({"value": Param(number(-1e7, 1e7))}, led=True),
    "excitation.start": Command(
        {
            "point": Param(text(40)),
            "samples": Param(array(columns=None, most=1_000_000)),
            "divider": Param(whole(1, 100_000)),
            "repeats": Param(whole(1, 1_000_000)),
        },
        led=True,
        large=True,
    ),
    "feedback.raw": Command(),
    "recorder.arm": Command(
        {
            "channels": Param(texts(64, 40)),
            "divider": Param(whole(1, 100_000)),
            "samples": Param(whole(1, 10_000_000)),
            "pre": optional(whole(0, 10_000_000), 0),
            "trigger": optional(trigger, None),
        },
        led=True,
    ),
    "recorder.state": Command(),
    "recorder.read": Command(),
    "events.read": Command({"since": optional(whole(0, 2**53), 0)}),
    "bench.axes": Command(),
    "bench.power": Command({"on": Param(flag)}),
    "bench.turn": Command({"angle": Param(number(-1e4, 1e4)), "seconds": Param(number(1e-3, 600.0))}),
    "bench.rig": Command(),
    "bench.rewire": Command({"changes": Param(plain_values), "faults": Param(texts(64, 60))}),
    "bench.switch": Command({"name": Param(text(40)), "closed": Param(flag)}),
}


def checked(method: str, params: Mapping[str, Any], *, length: int = 0) -> dict[str, Any]:
    """Return the parameters of a call, each checked, defaults filled in.

    Parameters
    ----------
    method : str
        A key of `COMMANDS`.
    params : mapping
        As they came over the wire.
    length : int
        Of the line they came in. [bytes]

    Raises
    ------
    BadParams
        Something is missing, unknown, too long, too deep, or not what the command takes.
    """
    command = COMMANDS[method]
    if length > MOST_SMALL and not command.large:
        raise BadParams(f"{method} takes at most {MOST_SMALL} bytes")
    if _depth(params) > DEEPEST:
        raise BadParams(f"more than {DEEPEST} levels deep")
    known = {**COMMON, **command.params}
    if unknown := sorted(str(k)[:40] for k in set(params) - set(known)):
        raise BadParams(f"{method} takes no {', '.join(unknown[:4])}")
    found = {}
    for name, param in known.items():
        if name in params:
            found[name] = param.check(name, params[name])
        elif param.required:
            raise BadParams(f"{method} needs {name}")
        else:
            found[name] = param.default
    return found


def _depth(value: Any) -> int:
    """Levels of lists and objects, counted without recursion and no further than it matters."""
    level, here = 0, [value]
    while here and level <= DEEPEST:
        here = [
            inner
            for one in here
            if isinstance(one, dict | list)
            for inner in (one.values() if isinstance(one, dict) else one)
        ]
        level += 1
    return level
