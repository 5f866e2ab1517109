"""A request line -> a response line, around the simulated drives."""

import secrets
import sys
import traceback
from collections.abc import Callable
from typing import Any

from cadrel.bench.turns import Turns
from cadrel.core.errors import CadrelError
from cadrel.core.simulation import SimulatedDrive
from cadrel.link.commands import COMMANDS, BadParams, checked
from cadrel.link.wire import (
    INTERNAL,
    INVALID_PARAMS,
    INVALID_REQUEST,
    NO_METHOD,
    NOT_GREETED,
    REFUSED,
    Response,
    WireError,
    decode_request,
    encode_response,
    pack,
)

Handler = Callable[[SimulatedDrive, dict[str, Any]], Any]


class NoSuchAxis(CadrelError):
    """The bench has no drive of that name."""

    happened = "The bench has no axis '{axis}'."
    means = "Nothing was done."
    remedy = "It has: {known}."


class PoweredOff(CadrelError):
    """A drive without supply does not answer."""

    happened = "The drive has no supply: it was switched off."
    means = "What was not stored is gone."
    remedy = "Switch its supply on."


class MemoryNotWritten(CadrelError):
    """The stand-in's permanent memory is a file, and the file could not be written."""

    happened = "The drive could not write its permanent memory ({why})."
    means = "Nothing was stored: power-off would bring the old values back."
    remedy = "Make room on the disk of the stand-in, then store again."


class DriveService:
    """Answers request lines for a set of drives. Clock and commands take turns.

    Decoding and encoding happen outside of the lock, so that no long message keeps the drives' clock waiting.
    """

    def __init__(
        self,
        drives: dict[str, SimulatedDrive],
        *,
        keep: Callable[[SimulatedDrive, dict[str, float]], None] | None = None,
        secret: str = "",
    ) -> None:
        self.drives = drives
        self._keep = keep
        self._secret = secret
        self.lock = Turns()

    @property
    def is_open(self) -> bool:
        """Whether a connection may speak without having said the shared secret."""
        return not self._secret

    def answer(self, line: bytes, *, greeted: bool = True) -> bytes:
        """Return the response line of a request line; every error becomes a response."""
        number: int | None = None
        try:
            request = decode_request(line)
            number = request.id
            if not greeted:
                return _error(number, NOT_GREETED, "say link.hello with the shared secret first")
            if request.method not in COMMANDS:
                return _error(number, NO_METHOD, f"there is no command {request.method[:60]!r}")
            params = checked(request.method, request.params, length=len(line))
            with self.lock:
                result = self._carry_out(request.method, params)
            return encode_response(Response(number, result() if callable(result) else result))
        except BadParams as error:
            return _error(number, INVALID_PARAMS, str(error))
        except WireError as error:
            return _error(number, INVALID_REQUEST, str(error))
        except CadrelError as error:
            return _error(number, REFUSED, error.text, {"code": error.code, "parts": list(error.parts)})
        except (LookupError, TypeError, ValueError) as error:
            return _error(number, INVALID_PARAMS, f"{type(error).__name__}: {str(error)[:200]}")
        except Exception:  # an answer, not a dropped line: the other end must be able to tell what happened
            traceback.print_exc(file=sys.stderr)
            return _error(number, INTERNAL, "the drive failed at this command; its log says how")

    def greets(self, line: bytes) -> bool:
        """Whether a line is `link.hello` with the right secret."""
        try:
            request = decode_request(line)
            said = checked("link.hello", request.params)["secret"] if request.method == "link.hello" else ""
        except WireError:
            return False
        return secrets.compare_digest(said.encode(), self._secret.encode())

    def advance(self, seconds: float) -> None:
        """Let every powered drive run."""
        with self.lock:
            for drive in self.drives.values():
                if drive.powered:
                    drive.advance(seconds)

    def _carry_out(self, method: str, params: dict[str, Any]) -> Any:
        if method == "link.hello":
            return None
        if method == "bench.axes":
            return sorted(self.drives)
        drive = self.drives.get(params["axis"])
        if drive is None:
            raise NoSuchAxis(axis=params["axis"], known=", ".join(sorted(self.drives)))
        if not drive.powered and not method.startswith("bench."):
            raise PoweredOff()
        if COMMANDS[method].led:
            drive.check_lease(params["lease"], consent=params["consent"])
        elif params["lease"] and params["lease"] == drive.lease:
            drive.check_lease(drive.lease, consent=params["consent"])
        if params["watch"]:
            drive.watched(params["watch"])
        if method == "parameters.store":
            return self._store(drive)
        return HANDLERS[method](drive, params)

    def _store(self, drive: SimulatedDrive) -> None:
        """Write first, then call it stored: what the file does not hold would be gone after power-off."""
        if self._keep is not None:
            try:
                self._keep(drive, dict(drive.memory.working))
            except OSError as error:
                raise MemoryNotWritten(why=error.strerror or type(error).__name__) from error
        drive.store()


def _error(number: int | None, code: int, message: str, data: dict[str, Any] | None = None) -> bytes:
    error: dict[str, Any] = {"code": code, "message": message}
    if data:
        error["data"] = data
    return encode_response(Response(number, error=error))


def _read_recorder(drive: SimulatedDrive, _: dict[str, Any]) -> Callable[[], dict[str, Any]]:
    tape, channels, period = drive.recorded()
    return lambda: {"channels": channels, "period": period, "data": pack(tape)}


HANDLERS: dict[str, Handler] = {
    "drive.identity": lambda d, p: d.identity(),
    "drive.status": lambda d, p: d.status(),
    "drive.restart": lambda d, p: d.restart(),
    "drive.stop": lambda d, p: d.stop(p["why"], press=p["press"], by=p["by"]),
    "parameters.read": lambda d, p: dict({"working": d.memory.working, "permanent": d.memory.permanent}[p["memory"]]),
    "parameters.write": lambda d, p: d.write(p["values"]),
    "control.take": lambda d, p: d.take_control(p["owner"], force=p["force"]),
    "control.give": lambda d, p: d.give_control(p["lease"]),
    "control.beat": lambda d, p: None,
    "control.consent": lambda d, p: d.give_consent(p["label"], until=p["until"], unattended=p["unattended"]),
    "control.revoke": lambda d, p: d.revoke_consent(p["label"], why=p["why"]),
    "power.enable": lambda d, p: d.enable(
        p["mode"],
        guard_low=p["guard_low"],
        guard_high=p["guard_high"],
        guard_speed=p["guard_speed"],
        torque=p["torque"],
        brake_closed=p["brake_closed"],
        cut_on_guard=p["cut_on_guard"],
        consent=p["consent"],
        watcher=p["watcher"],
        unattended=p["unattended"],
        not_after=p["not_after"],
    ),
    "power.disable": lambda d, p: d.disable(),
    "fault.reset": lambda d, p: d.reset_fault(),
    "motion.vector": lambda d, p: d.motion.vector(
        angle=p["angle"],
        rate=p["rate"],
        current=p["current"],
        rise=p["rise"],
        acceleration=p["acceleration"],
        held=p["held"],
        holder=p["holder"],
    ),
    "brake.set": lambda d, p: d.brake.set(closed=p["closed"]),
    "brake.hold_open": lambda d, p: d.brake.hold_open(travel=p["travel"], holder=p["holder"]),
    "brake.close": lambda d, p: d.brake.close(holder=p["holder"]),
    "motion.catch": lambda d, p: d.motion.catch(current=p["current"], level=p["level"]),
    "motion.release": lambda d, p: d.motion.release_vector(holder=p["holder"]),
    "motion.jog": lambda d, p: d.motion.jog(p["velocity"], holder=p["holder"]),
    "motion.run": lambda d, p: d.motion.run_at(p["velocity"], p["acceleration"], p["lasts"]),
    "motion.path": lambda d, p: d.motion.run_path(p["segments"]),
    "motion.adopt_angle": lambda d, p: d.motion.adopt_angle(p["angle"]),
    "motion.set_position": lambda d, p: d.motion.set_position(p["value"]),
    "excitation.start": lambda d, p: d.motion.excite(
        p["point"], p["samples"], divider=p["divider"], repeats=p["repeats"]
    ),
    "feedback.raw": lambda d, p: d.raw(),
    "recorder.arm": lambda d, p: d.arm(
        p["channels"], divider=p["divider"], samples=p["samples"], pre=p["pre"], trigger=p["trigger"] or {}
    ),
    "recorder.state": lambda d, p: d.recorder_state(),
    "recorder.read": _read_recorder,
    "events.read": lambda d, p: [e for e in d.events if e["number"] > p["since"]],
    "bench.power": lambda d, p: d.power_switch(p["on"]),
    "bench.turn": lambda d, p: d.turn_by_hand(p["angle"], p["seconds"]),
    "bench.rig": lambda d, p: d.wiring(),
    "bench.rewire": lambda d, p: d.rewire(p["changes"], p["faults"]),
    "bench.switch": lambda d, p: d.set_switch(p["name"], p["closed"]),
}
