"""A request line -> a response line, around the simulated drives."""

import threading
from collections.abc import Callable
from typing import Any

from cadrel.core.errors import CadrelError
from cadrel.core.simulation import SimulatedDrive
from cadrel.link.wire import (
    INVALID_PARAMS,
    INVALID_REQUEST,
    NO_METHOD,
    REFUSED,
    Request,
    Response,
    WireError,
    decode_request,
    encode_response,
    pack,
    unpack,
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


class DriveService:
    """Answers request lines for a set of drives. One lock keeps clock and commands apart."""

    def __init__(
        self, drives: dict[str, SimulatedDrive], *, on_store: Callable[[SimulatedDrive], None] | None = None
    ) -> None:
        self.drives = drives
        self._on_store = on_store
        self.lock = threading.RLock()

    def answer(self, line: bytes) -> bytes:
        """Return the response line of a request line; every error becomes a response."""
        number: int | None = None
        try:
            request = decode_request(line)
            number = request.id
            with self.lock:
                return encode_response(Response(number, self._carry_out(request)))
        except WireError as error:
            return _error(number, INVALID_REQUEST, str(error))
        except LookupError as error:
            code = NO_METHOD if isinstance(error, _NoMethod) else INVALID_PARAMS
            return _error(number, code, f"{type(error).__name__}: {error}")
        except CadrelError as error:
            return _error(number, REFUSED, error.text, {"code": error.code, "parts": list(error.parts)})
        except (TypeError, ValueError) as error:
            return _error(number, INVALID_PARAMS, str(error))

    def advance(self, seconds: float) -> None:
        """Let every powered drive run."""
        with self.lock:
            for drive in self.drives.values():
                if drive.powered:
                    drive.advance(seconds)

    def _carry_out(self, request: Request) -> Any:
        if request.method == "bench.axes":
            return sorted(self.drives)
        handler = HANDLERS.get(request.method)
        if handler is None:
            raise _NoMethod(request.method)
        params = request.params
        drive = self.drives.get(str(params.get("axis")))
        if drive is None:
            raise NoSuchAxis(axis=params.get("axis"), known=", ".join(sorted(self.drives)))
        if not drive.powered and not request.method.startswith("bench."):
            raise PoweredOff()
        if request.method in NEED_LEASE:
            drive.check_lease(str(params.get("lease", "")))
        elif params.get("lease") and params["lease"] == drive.lease:
            drive.check_lease(drive.lease)
        result = handler(drive, params)
        if request.method == "parameters.store" and self._on_store is not None:
            self._on_store(drive)
        return result


class _NoMethod(LookupError):
    pass


def _error(number: int | None, code: int, message: str, data: dict[str, Any] | None = None) -> bytes:
    error: dict[str, Any] = {"code": code, "message": message}
    if data:
        error["data"] = data
    return encode_response(Response(number, error=error))


def _read_recorder(drive: SimulatedDrive, _: dict[str, Any]) -> dict[str, Any]:
    tape, channels, period = drive.recorded()
    return {"channels": channels, "period": period, "data": pack(tape)}


HANDLERS: dict[str, Handler] = {
    "drive.identity": lambda d, p: d.identity(),
    "drive.status": lambda d, p: d.status(),
    "drive.restart": lambda d, p: d.restart(),
    "drive.stop": lambda d, p: d.stop(str(p.get("why", ""))),
    "parameters.read": lambda d, p: {"working": d.memory.working, "permanent": d.memory.permanent}[p["memory"]],
    "parameters.write": lambda d, p: d.write(p["values"]),
    "parameters.store": lambda d, p: d.store(),
    "control.take": lambda d, p: d.take_control(str(p["owner"]), force=bool(p.get("force"))),
    "control.give": lambda d, p: d.give_control(str(p["lease"])),
    "control.beat": lambda d, p: None,
    "power.enable": lambda d, p: d.enable(
        str(p["mode"]),
        guard_low=float(p["guard_low"]),
        guard_high=float(p["guard_high"]),
        guard_speed=float(p["guard_speed"]),
        torque=float(p.get("torque", 0.0)),
    ),
    "power.disable": lambda d, p: d.disable(),
    "fault.reset": lambda d, p: d.reset_fault(),
    "motion.vector": lambda d, p: d.vector(
        angle=float(p["angle"]),
        rate=float(p["rate"]),
        current=float(p["current"]),
        rise=float(p["rise"]),
        acceleration=float(p.get("acceleration", 0.0)),
        held=bool(p.get("held")),
    ),
    "motion.jog": lambda d, p: d.jog(float(p["velocity"])),
    "motion.run": lambda d, p: d.run_at(float(p["velocity"]), float(p.get("acceleration", 0.0))),
    "motion.path": lambda d, p: d.run_path(unpack(p["segments"])),
    "motion.adopt_angle": lambda d, p: d.adopt_angle(float(p["angle"])),
    "motion.set_position": lambda d, p: d.set_position(float(p["value"])),
    "excitation.start": lambda d, p: d.excite(
        str(p["point"]), unpack(p["samples"]), divider=int(p["divider"]), repeats=int(p["repeats"])
    ),
    "feedback.raw": lambda d, p: d.raw(),
    "recorder.arm": lambda d, p: d.arm(
        list(p["channels"]),
        divider=int(p["divider"]),
        samples=int(p["samples"]),
        pre=int(p.get("pre", 0)),
        trigger=p.get("trigger") or {},
    ),
    "recorder.state": lambda d, p: d.recorder_state(),
    "recorder.read": _read_recorder,
    "events.read": lambda d, p: [e for e in d.events if e["number"] > int(p.get("since", 0))],
    "bench.power": lambda d, p: d.power_switch(bool(p["on"])),
    "bench.turn": lambda d, p: d.turn_by_hand(float(p["angle"]), float(p["seconds"])),
    "bench.rig": lambda d, p: d.wiring(),
    "bench.rewire": lambda d, p: d.rewire(dict(p["changes"]), list(p["faults"])),
    "bench.switch": lambda d, p: d.set_switch(str(p["name"]), bool(p["closed"])),
}
NEED_LEASE = {
    "parameters.write",
    "parameters.store",
    "drive.restart",
    "control.give",
    "control.beat",
    "power.enable",
    "power.disable",
    "fault.reset",
    "motion.vector",
    "motion.jog",
    "motion.run",
    "motion.path",
    "motion.adopt_angle",
    "motion.set_position",
    "excitation.start",
    "recorder.arm",
}
