"""One drive, one axis, consent, progress, abort."""

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from cadrel.core.axis import AxisModel
from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Rates
from cadrel.core.identification import IdentifiedPlant
from cadrel.core.parameters import field_of
from cadrel.link import Drive, LinkError, Recording, RefusedByDrive
from cadrel.procedures.computing import computed
from cadrel.procedures.errors import TOO_FAST, Aborted, AxisStopped, NotAllowed, StoppedByHand
from cadrel.procedures.outcome import RunRecord

T = TypeVar("T")
FloatArray = NDArray[np.float64]
ABORT = "Abort by"  # how a stop begins its reason that is the engineer's own end of a run
POLL = 0.02  # [s] of drive time between looks
TREMBLES = math.radians(0.5)  # of the motor: what a device read finely shows of a shaft at rest
RESTS = 0.095  # [s] without a count: the shaft rests
RESTS_BY_HALLS = 0.5  # [s]
RESETS = 5.0  # reset times in which a loop has surely overcome what holds the axis
LONGEST_FREEING = 4.0  # [s] that a pin may take to come out; the drive itself gives up before
LONGEST_OPENING = 0.5  # [s] beyond what a brake is said to take
BREAKAWAY = 2.0  # times the sliding friction, that a slow integral has surely passed when an axis moves
NEAR_ENOUGH = 2e-3  # of the travel agreed to: an axis so near needs no approach
# Of the speed agreed to: an axis so slow may be let go. [s] that a stop may take, beside what a slow integral needs.
AT_REST, LONGEST_STOP = 0.02, 2.0
GENTLE = 0.15  # [s] in which a speed is reached where nothing is measured meanwhile

HINTS = {
    "guard": "The axis left the travel or speed that was consented to.",
    "travel_limit": "Move the axis away from the end of its travel.",
    "overcurrent": "Current rose above the peak: check inductance and current gain.",
    "oscillation": "The loop swung ever wider, and halving its gains did not end it: lower "
    f"{field_of('velocity.gain')} and {field_of('position.gain')}, or tune the velocity loop anew.",
    "overspeed": "The axis ran too fast: check commutation and direction.",
    "brake_not_free": f"The pin of the brake did not come out: raise {field_of('brake.free_torque')}, or check "
    f"{field_of('brake.free_turn')} and its coil.",
    "coasted": "Braking raised the bus, and the axis coasted as chosen: fit a brake resistor, or brake more gently.",
    "following_error": f"The axis did not follow: lower {field_of('limit.acceleration')}, or check what blocks it.",
    "overvoltage": "Braking raised the bus: fit a brake resistor, or lower "
    f"{field_of('limit.velocity')} and {field_of('limit.acceleration')}.",
    "feedback_error": "The device's words arrived wrong: check cable, layout and checksum.",
    "undervoltage": "The supply dropped: check it.",
    "connection_lost": "The drive lost contact with Cadrel: check the line and try again.",
    "unwatched": "No page of the one who leads was open: keep one open, or agree to an unattended run.",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Consent:
    """What the engineer agreed to. At the motor shaft."""

    travel: float  # [rad] to each side of where the run starts
    speed: float  # [rad/s]


def _silent(phase: str, share: float) -> None:
    return None


@dataclass(slots=True, kw_only=True)
class Session:
    """What a procedure works with. `report` gets phase and share done; `is_aborted` is asked at every look."""

    drive: Drive
    axis: AxisModel
    consent: Consent
    arguments: Mapping[str, float] = field(default_factory=dict)  # of this start, as the procedure declares them
    report: Callable[[str, float], None] = _silent
    is_aborted: Callable[[], bool] = lambda: False
    plant: IdentifiedPlant = field(default_factory=IdentifiedPlant)  # what earlier runs found
    phase: str = "preparation"
    notes: list[str] = field(default_factory=list)
    partial: RunRecord | None = None  # the last recording, kept if the run is interrupted
    values: dict[str, float] = field(default_factory=dict)  # the drive's working memory, kept in step
    written: dict[str, float] = field(default_factory=dict)  # by this run, last; the drive may have halved gains since
    guarded: tuple[float, float] = (-math.inf, math.inf)  # [rad] within which the axis was enabled last
    trusts_angle: bool = True  # a loop may be trusted to ramp down; not before the angle has been confirmed
    swings: int = 0  # how often, since the run began, the drive halved its gains because the loop swung ever wider
    swung_before: int | None = None  # of that, what the drive counted before; None: not looked yet
    pressed: str | None = None  # the STOP pressed last when the run began; None: not looked yet

    def enter(self, phase: str, share: float) -> None:
        """Begin a phase."""
        self.phase = phase
        self.report(phase, share)

    def note(self, text: str) -> None:
        """Keep a remark for the run's protocol."""
        self.notes.append(text)

    # --- drive values -----------------------------------------------------------------------------------------

    def refresh(self) -> dict[str, float]:
        """Read the drive's working memory."""
        self.values = self.drive.read()
        return self.values

    def write(self, values: Mapping[str, float]) -> None:
        """Write working memory."""
        self.drive.write(values)
        self.values.update(values)
        self.written.update(values)

    @property
    def on_load(self) -> bool:
        """Whether the position loop compares with a device on the load."""
        return self.values["feedback.position_device"] != 0.0 and self.values["feedback.second_counts"] != 0.0

    @property
    def place(self) -> str:
        """The recorder's signal of the position that the position loop compares."""
        return "load_position" if self.on_load else "position"

    @property
    def place_count(self) -> float:
        """One count of the device that the position loop compares. [rad] at the motor"""
        if self.on_load:
            return 2 * math.pi / abs(self.values["feedback.second_counts"])
        return self.axis.feedback.count_angle

    # --- power ------------------------------------------------------------------------------------------------

    @contextmanager
    def enabled(
        self, mode: str, *, torque: float | None = None, brake_closed: bool = False
    ) -> Iterator[dict[str, Any]]:
        """Enable within the consented travel around the present position; always ends with the power stage off.

        A `torque` is there from the first moment, in a closed loop that which carries the load unless another is given.
        With `brake_closed` a brake stays closed: current flows, and a hanging load stays where it is. [N·m]

        Raises
        ------
        NotAllowed
            The drive refuses to enable.
        """
        here = float(self.drive.status()["position"])
        with self.enabled_around(mode, here, torque=torque, brake_closed=brake_closed) as status:
            yield status

    @contextmanager
    def enabled_around(
        self,
        mode: str,
        centre: float,
        *,
        torque: float | None = None,
        travel: float = math.inf,
        brake_closed: bool = False,
        let_go: bool = False,
    ) -> Iterator[dict[str, Any]]:
        """As `enabled`, around a stated position, within less than the consented travel if so wished. [rad], [N·m]

        What still moves in the end is brought to rest first, unless it may be `let_go`.

        Raises
        ------
        NotAllowed
            The drive refuses to enable.
        """
        room = min(travel, self.consent.travel)
        if torque is None:
            torque = 0.0 if mode == "vector" else self.carried
        self.guarded = (centre - room, centre + room)
        status = self.seen(self.drive.status())
        try:
            self.drive.enable(
                mode,
                guard_low=centre - room,
                guard_high=centre + room,
                guard_speed=self.consent.speed,
                torque=torque,
                brake_closed=brake_closed,
                cut_on_guard=not self.trusts_angle,
            )
        except RefusedByDrive as refusal:
            self.check_abort()  # pressed before anything was looked at, it took the consent only
            self.seen(self.drive.status())
            raise NotAllowed(why=refusal.parts[0], remedy=refusal.parts[2]) from refusal
        try:
            if mode not in ("vector", "current") and not brake_closed:
                self._await_brake()
            yield status
            if mode in ("velocity", "position") and not let_go:
                self.come_to_rest(mode)
        except BaseException:
            self._stop_quietly()
            raise
        else:
            self.drive.disable()

    def come_to_rest(self, mode: str) -> None:
        """Wait, power on, until the axis has stopped, told so: a heavy one behind a slow loop runs on after that.

        It would coast out of its travel without power. What does not stop within the time that such a loop takes is not
        waited for any longer.
        """
        slow = AT_REST * self.consent.speed
        status = self.seen(self.drive.status())
        if status["mode"] != mode or abs(status["velocity"]) <= slow:
            return
        if mode == "velocity":
            self.command_speed(0.0, acceleration=self._gentle(status["velocity"]))
        end = status["time"] + GENTLE + LONGEST_STOP + self._patience
        while status["time"] < end:
            before, status = status, self.hold(2 * POLL)
            # By the way gone: a device's noise shows speeds of an axis that stands.
            if abs(status["position"] - before["position"]) <= slow * (status["time"] - before["time"]):
                return

    @contextmanager
    def unconfirmed(self) -> Iterator[None]:
        """Until its end the angle counts as not confirmed: a guard that trips closes the brake and cuts current."""
        self.trusts_angle = False
        try:
            yield
        finally:
            self.trusts_angle = True

    def _await_brake(self) -> None:
        """Wait until the drive knows the brake to be open; a vector opens it with its current, by `brake_opened`."""
        if self.axis.has_brake:
            at_most = self._longest_opening()
            self.until(lambda s: s["brake"] in ("open", "none"), at_most=at_most, what="opening the brake")

    def brake_opened(self) -> None:
        """Wait, the vector's current being told, until it flows and the drive knows the brake to be open."""
        if self.axis.has_brake:
            at_most = self._longest_opening() + 1.0
            self.until(lambda s: s["brake"] in ("open", "none"), at_most=at_most, what="opening the brake")

    def _longest_opening(self) -> float:
        freeing = LONGEST_FREEING if self.axis.brake_by_pin else 0.0
        return 2 * self.values.get("brake.release_delay", 0.0) + LONGEST_OPENING + freeing

    @property
    def carried(self) -> float:
        """Torque that carries the load at standstill: as found, by load run or commutation, else as entered. [N·m]"""
        return self.plant.carried(self.axis.mechanism.torque_constant_load)

    @property
    def asked(self) -> Robustness:
        """What loops must honour; over a wider drift where the resonance was seen to move with amplitude."""
        return self.plant.asked(self.axis.robustness)

    @property
    def asked_of_any(self) -> Robustness:
        """What loops must honour whatever is found of the resonance."""
        return self.plant.asked_of_any(self.axis.robustness)

    def _stop_quietly(self) -> None:
        """On the way out of an error: stop if the drive still listens; without us it stops by itself."""
        try:
            self.drive.stop("run ended early")
        except LinkError:
            self.note("The drive could not be told to stop; it stops by itself when the connection is lost.")

    def stand_again(self) -> None:
        """Come to rest after a loop that ran away, and reset the fault it left, which the run itself brought about."""
        self.standstill()
        if self.drive.status()["fault"]:
            self.drive.reset_fault()

    def require_room(self, reach: float) -> None:
        """Raise `NotAllowed` where so far to either side would run into the ends of the travel. [rad]"""
        here, v = float(self.drive.status()["position"]), self.values
        per, unit = self.axis.mechanism.unit_per_rad, self.axis.mechanism.unit
        for end, left in (
            ("limit.travel_max", v["limit.travel_max"] - here),
            ("limit.travel_min", here - v["limit.travel_min"]),
        ):
            if left < reach:
                raise NotAllowed(
                    why=f"It goes {reach * per:.3g} {unit} to either side, to the end of the travel "
                    f"{max(left, 0.0) * per:.3g} are left.",
                    remedy=f"Move the axis away from it, or correct {field_of(end)}.",
                )

    # --- time -------------------------------------------------------------------------------------------------

    def check_abort(self) -> None:
        """Raise `Aborted` if the engineer asked for it; for waits with the power stage off."""
        if self.is_aborted():
            raise Aborted(phase=self.phase)

    def seen(self, status: dict[str, Any]) -> dict[str, Any]:
        """Return a status. Raises `StoppedByHand` or `Aborted` if somebody ended the run since it began."""
        last = status.get("last_stop") or {"press": "", "by": ""}
        if self.pressed is None:
            self.pressed = last["press"]
        elif last["press"] != self.pressed and str(last["why"]).startswith(ABORT):
            raise Aborted(phase=self.phase)
        elif last["press"] != self.pressed:
            raise StoppedByHand(by=last["by"] or "Somebody", phase=self.phase)
        self._count_swings(status)
        return status

    def _count_swings(self, status: Mapping[str, Any]) -> None:
        """Notice that the drive has halved its gains, and read those that are in force now."""
        count = int(status.get("swings", 0))
        if self.swung_before is None:
            self.swung_before = count
        new = count - self.swung_before - self.swings
        if new > 0:
            self.swings += new
            self.note(
                f"{self.phase.capitalize()}: the loop swung ever wider at {status['swung_hz']:.0f} Hz. The drive "
                "halved its gains and went on."
            )
            self.refresh()

    def look(self) -> dict[str, Any]:
        """Return the status; raises if the engineer aborted or the drive stopped by itself.

        Raises
        ------
        Aborted, StoppedByHand, AxisStopped
        """
        self.check_abort()
        status = self.seen(self.drive.status())
        if status["mode"] == "off" or status["fault"]:
            events = self.drive.events(max(0, int(status["events"]) - 4))
            last = next((e for e in reversed(events) if e["kind"] in HINTS), None)
            reason = status["fault"] or (last["kind"] if last else "stop")
            if last is not None and reason == "guard":
                raise self._guard_left(last["facts"])
            raise AxisStopped(
                phase=self.phase,
                reason="nobody watched" if reason == "unwatched" else reason.replace("_", " "),
                hint=HINTS.get(reason, "It was stopped from elsewhere: the drive's events say by whom."),
            )
        return status

    def _guard_left(self, facts: Mapping[str, float]) -> AxisStopped:
        """Which limit the axis left, and by how much, in the engineer's unit."""
        unit, per = self.axis.mechanism.unit, self.axis.mechanism.unit_per_rad
        speed, position = abs(facts.get("velocity", 0.0)), facts.get("position", 0.0)
        low, high = self.guarded
        if speed > self.consent.speed or low <= position <= high:
            return AxisStopped(
                phase=self.phase,
                reason=f"{TOO_FAST} {speed * per:.3g} {unit}/s, {self.consent.speed * per:.3g} were agreed to",
                hint="It was told to run slower. Check the load's inertia as entered and the commutation; a shaft that "
                "swings by itself wants a lower velocity gain or torque filter.",
            )
        agreed = f"{low * per:.4g} to {high * per:.4g}"
        return AxisStopped(
            phase=self.phase,
            reason=f"it reached {position * per:.4g} {unit}, the end of the {agreed} agreed to",
            hint="Start farther from the end of the travel, or agree to more; a load that pulls wants its brake or a "
            "counter-force entered.",
        )

    def hold(self, seconds: float) -> dict[str, Any]:
        """Let drive time pass while enabled, looking often; returns the last status."""
        status = self.look()
        end = status["time"] + seconds
        while status["time"] < end:
            self.drive.wait(min(POLL, max(end - status["time"], 1e-3)))
            status = self.look()
        return status

    def rest(self, seconds: float) -> None:
        """Let drive time pass with the power stage off."""
        end = self.seen(self.drive.status())["time"] + seconds
        while self.seen(self.drive.status())["time"] < end:
            self.check_abort()
            self.drive.wait(POLL)

    def until(self, is_done: Callable[[dict[str, Any]], bool], *, at_most: float, what: str) -> dict[str, Any]:
        """Wait until a status satisfies a condition. Raises `AxisStopped` after `at_most` seconds of drive time."""
        status = self.look()
        end = status["time"] + at_most
        while not is_done(status):
            if status["time"] > end:
                raise AxisStopped(
                    phase=self.phase,
                    reason=f"{what} did not happen within {at_most:.1f} s",
                    hint="Check what holds the axis.",
                )
            self.drive.wait(POLL)
            status = self.look()
        return status

    def computed(self, work: Callable[[], T]) -> T:
        """Return what a computation gives, however long it takes, the power stage being off.

        The drive hears of the run meanwhile: it ends a consent whose holder falls silent, and a machine may be busy.

        Raises
        ------
        Aborted, StoppedByHand
            Somebody ended the run; the computation is of no use any more.
        """

        def look() -> None:
            self.check_abort()
            self.seen(self.drive.status())

        return computed(work, meanwhile=look)

    def standstill(self) -> dict[str, Any]:
        """Wait, power off, until the shaft rests; returns the status. Halls alone hardly see a slow one: they wait."""
        status = self.drive.status()
        since, end = status["time"], status["time"] + 20.0
        rests = RESTS_BY_HALLS if self.axis.feedback.kind.tells_sectors_only else RESTS
        last, fine = status["counts"], self.axis.feedback.kind.has_sine
        trembles = TREMBLES / self.axis.feedback.count_angle if fine else 0.0
        while status["time"] < end and status["time"] - since < rests:
            self.drive.wait(0.1)
            status = self.seen(self.drive.status())
            if abs(status["counts"] - last) > trembles:
                last, since = status["counts"], status["time"]
        return status

    # --- recording --------------------------------------------------------------------------------------------

    def arm(self, channels: Sequence[str], *, seconds: float, divider: int | None = None, **trigger: Any) -> None:
        """Arm the recorder for a duration; `divider` ticks per sample, those of a velocity sample if none is given."""
        divider = divider or self.rates.ticks
        pre = int(trigger.pop("pre", 0))
        self.drive.arm(
            channels, divider=divider, samples=round(seconds / (divider * self.rates.current)), pre=pre, trigger=trigger
        )

    def recorded(self, *, at_most: float, then: Callable[[], None] | None = None) -> Recording:
        """Wait for the recording and fetch it; what comes `then` is done before: an axis that runs is stopped."""
        self.until(lambda s: s["recorder"] == "done", at_most=at_most, what="the end of the recording")
        if then is not None:
            then()
        record = self.drive.recording()
        self.partial = RunRecord(
            kind="interrupted", title=self.phase, period=record.period, channels=record.channels, excitation={}
        )
        return record

    def excite_and_record(
        self,
        channels: Sequence[str],
        point: str,
        samples: FloatArray,
        *,
        divider: int,
        repeats: int,
        lead: int = 0,
        finer: int = 1,
        begun: Callable[[], None] | None = None,
        then: Callable[[], None] | None = None,
    ) -> Recording:
        """Inject a periodic signal and record exactly its repeats, aligned to the first sample of the first of them.

        It is recorded `finer` times as often as it is injected, every so many of `divider` ticks. The recorder triggers
        on the excitation itself, so that record and excitation share their start. The last `lead` samples of the
        signal, a whole period of it at the most, come before the repeats and are not kept. What is to be said as soon
        as it has `begun` is said then, and what comes `then` is done once all is recorded, before it is fetched.
        """
        total = len(samples) * repeats
        if lead:
            samples, repeats = np.concatenate([samples[len(samples) - lead :], np.tile(samples, repeats)]), 1
        first = float(samples[0])
        level = 0.5 * first if first else 1e-12
        self.drive.arm(
            ["excitation", *channels],
            divider=divider // finer,
            samples=(lead + total + 8) * finer,
            pre=4 * finer,
            trigger={"signal": "excitation", "level": level, "rising": first > 0},
        )
        self.hold(8 * divider * self.rates.current)
        self.drive.excite(point, samples, divider=divider, repeats=repeats)
        if begun is not None:
            begun()
        record = self.recorded(at_most=(lead + total) * divider * self.rates.current + 2.0, then=then)
        start = int(np.argmax(record["excitation"] != 0.0)) + lead * finer
        return Recording(record.period, {k: v[start : start + total * finer] for k, v in record.channels.items()})

    @property
    def rates(self) -> Rates:
        """Of the drive's loops, as it tells itself."""
        return self.drive.capabilities().rates

    @property
    def torque_constant(self) -> float:
        """Of the flux that the drive has: the sheet's, until the load run found a better one. [N·m/A peak]"""
        motor = replace(self.axis.motor, flux_linkage=self.values["motor.flux_linkage"])
        return motor.torque_constant

    @property
    def current_continuous(self) -> float:
        """Smallest of motor, drive and current limit. [A peak]"""
        rating = float(self.drive.identity()["current_continuous"])
        return min(self.axis.motor.current_continuous, rating, self.values["limit.current"])

    @property
    def current_accuracy(self) -> float:
        """Share of the reading within which the drive's sheet states its current sensors; what rests on them is no
        surer than that."""
        return float(self.drive.identity()["current_accuracy"])

    def run_at(self, speed: float) -> None:
        """In velocity mode: come to a speed gently, and wait until that is done. [rad/s]

        At the limit's acceleration a careful loop would fall behind and then overshoot the speed consented to.
        """
        ramp = self._gentle(speed)
        self.command_speed(speed, acceleration=ramp)
        self.hold(abs(speed) / ramp)

    def command_speed(self, speed: float, *, acceleration: float, lasts: float = 0.0) -> None:
        """Tell the drive a speed, and after how long it ends it by itself. [rad/s], [rad/s²], [s]

        Raises `AxisStopped` where it has stopped the axis.
        """
        try:
            self.drive.run_at(speed, acceleration=acceleration, lasts=lasts)
        except RefusedByDrive:
            self.hold(LONGEST_STOP)  # what it stopped for is said once it has stopped
            raise

    def _gentle(self, speed: float) -> float:
        """Acceleration that takes `GENTLE` to a speed, or what the limit allows. [rad/s²]"""
        return min(max(self.values["limit.acceleration"], 1e-9), max(abs(speed), 1e-9) / GENTLE)

    @property
    def _patience(self) -> float:
        """How much longer a careful velocity loop may take than its command: its integral overcomes friction. [s]"""
        return RESETS * self.values.get("velocity.reset_time", 0.0)

    @property
    def loop_lag(self) -> float:
        """How long the axis runs behind its command: inertia over gain of the velocity loop in force. [s]

        Longer where its integral is quicker than that, and makes it overshoot.
        """
        gain, reset = self.values.get("velocity.gain", 0.0), self.values.get("velocity.reset_time", math.inf)
        lag = self.values.get("load.inertia", 0.0) / gain if gain > 0.0 else 0.0
        return lag * (1.0 + lag / reset)

    def _breaking_away(self, speed: float) -> float:
        """How long the integral of the velocity loop takes to overcome friction, an axis standing. [rad/s] -> [s]"""
        total = self.plant.total
        if total is None or not self.values.get("velocity.gain"):
            return 0.0
        rate = self.values["velocity.gain"] / self.values["velocity.reset_time"] * speed  # [N·m/s]
        return BREAKAWAY * (total.coulomb + abs(total.constant)) / rate

    def longest_to_break_away(self, speed: float) -> float:
        """How long an axis at rest may take to be freed by the integral of its velocity loop, told a slow speed. [s]"""
        return 0.3 + self._patience + 2 * self._breaking_away(speed)

    def go_to(self, position: float, *, speed: float) -> None:
        """In velocity mode: run near a position and stop there. [rad], [rad/s]"""
        status = self.look()
        gap = position - status["position"]
        speed = min(speed, math.sqrt(max(self.values["limit.acceleration"], 1e-9) * abs(gap)), abs(gap) / GENTLE)
        if abs(gap) < NEAR_ENOUGH * self.consent.travel or speed <= 0:
            return
        ramp = self._gentle(max(speed, abs(status["velocity"])))
        self.command_speed(math.copysign(speed, gap), acceleration=ramp)
        stop_gap = speed * (0.5 * speed / ramp + self.loop_lag)
        self.until(
            lambda s: (position - s["position"]) * math.copysign(1, gap) <= stop_gap + speed * POLL,
            at_most=3 * abs(gap) / speed + 2 + self._patience + self._breaking_away(speed),
            what="the approach",
        )
        self.command_speed(0.0, acceleration=ramp)
        self.until(lambda s: not s["moving"], at_most=speed / ramp + 2 + self._patience, what="standstill")
        self.come_to_rest("velocity")
