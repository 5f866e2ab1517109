"""The stand-in drive: what a real one would do between its connector and its power stage."""

import math
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import asdict, replace
from typing import Any

import numpy as np

from cadrel.core.parameters import ANGLE_RESTS_ON, field_of
from cadrel.core.simulation import layout, machine, torque_filters
from cadrel.core.simulation.blockers import find_blockers
from cadrel.core.simulation.consent import Consents
from cadrel.core.simulation.device import hall_sector, is_open, power_off, prime_device, rotor_angle
from cadrel.core.simulation.faults import FAULTS, wired
from cadrel.core.simulation.firmware import begin_stop
from cadrel.core.simulation.hold import Hold
from cadrel.core.simulation.kernel import run_ticks
from cadrel.core.simulation.layout import SIGNALS, TICK, TV
from cadrel.core.simulation.memory import Memory, eased, settings_of
from cadrel.core.simulation.oscillation import forget_swing
from cadrel.core.simulation.received import raw_of, signals_now
from cadrel.core.simulation.recorder import Recorder
from cadrel.core.simulation.refused import DriveRefused
from cadrel.core.simulation.rigging import plant_of
from cadrel.core.simulation.truth import RigTruth

# Motion ends when the holder of the lease has not been heard for so long. A run within agreed travel waits longer than
# a hand on a button (`JOG_TICKS`), so that a busy machine aborts nothing, and stands within 1 s all the same.
LEASE_TICKS = 10400  # [ticks] 650 ms
CURRENT_ACCURACY = 0.01  # of the reading: what drives' sheets state of their current sensors (common practice)
WATCH_TICKS = 28000  # [ticks] 1.75 s: motion ends when no page of the one who leads has been open for so long
PRESSES = 16  # STOP presses remembered, so that one that arrives on two ways counts once
JOG_TICKS = 1600  # [ticks] 100 ms: a jog not renewed within it ramps down
HAND_TICKS = 16  # [ticks] 1 ms: how often a hand on the shaft corrects its push
HAND_SPEED = 30.0  # [rad/s] a hand turns no faster
CATCH_RISE = 0.2  # [s] to the whole current that frees a pin
MODES = {"vector": layout.VECTOR, "current": layout.CURRENT, "velocity": layout.VELOCITY, "position": layout.POSITION}
POINTS = {
    "voltage_d": layout.AT_VOLTAGE_D,
    "voltage_q": layout.AT_VOLTAGE_Q,
    "current_d": layout.AT_CURRENT_D,
    "current_q": layout.AT_CURRENT_Q,
    "torque": layout.AT_TORQUE,
    "velocity": layout.AT_VELOCITY,
    "position": layout.AT_POSITION,
}
TRIPS = {
    layout.TRIP_OVERCURRENT: "overcurrent",
    layout.TRIP_OVERVOLTAGE: "overvoltage",
    layout.TRIP_UNDERVOLTAGE: "undervoltage",
    layout.TRIP_OVERSPEED: "overspeed",
    layout.TRIP_FOLLOWING: "following_error",
    layout.TRIP_TRAVEL: "travel_limit",
    layout.TRIP_LEASE: "connection_lost",
    layout.TRIP_GUARD: "guard",
    layout.TRIP_FEEDBACK: "feedback_error",
    layout.TRIP_BRAKE: "brake_not_free",
    layout.TRIP_OSCILLATION: "oscillation",
}
NO_FAULT = {"connection_lost", "guard", "travel_limit"}  # these stop the axis but leave no fault to reset


class SimulatedDrive:
    """Memory, power states, control lease, motion commands, recorder, events around one kernel state.

    Time is the drive's own: `advance` runs it. Nothing here reads the plant's true values except to step it and to
    offer what sensors would show.
    """

    def __init__(self, name: str, truth: RigTruth, *, seed: int = 0) -> None:
        self.name = name
        self.rig = truth  # as described, its faults listed; `truth` has them done to it
        self.truth = truth = wired(truth)
        self._seed = seed
        self._rng = np.random.default_rng(seed)
        rig = plant_of(truth, rng=self._rng)
        self._start = rig.start_angle
        self._plant = rig.plant
        self.memory = Memory()
        self.events: list[dict[str, Any]] = []
        self.switches = {"safe_torque_off": True, "hardware_enable": True}  # True: closed, motion allowed
        self.powered = True
        self._hand: tuple[float, int] | None = None  # angle the hand goes to, and the tick at which it is there
        self._state = layout.fresh_state(supply_voltage=self._plant.supply_voltage, theta=rig.start_angle, seed=seed)
        self._signals = np.zeros(len(SIGNALS))
        self._power_up()

    # --- power and memory -----------------------------------------------------------------------------------

    def _power_up(self) -> None:
        self.memory.reload()
        self.power_state = machine.after(machine.NOT_READY, "initialised")
        self.fault: str | None = None
        self.owner: str | None = None
        self._lease = ""
        self._jog_until = self._jog_heard = self._held_until = 0
        self._hold = Hold()
        self._watcher: str | None = None  # name of the page that must be open; "" any; None: nobody need watch
        self._watched_until = self._last_watched = 0
        self._consents = Consents(self._note)
        self._opened_at = self._open_travel = 0.0  # [rad] where the brake was opened by hand, and how far it may go
        self._presses: list[str] = []
        self._swings, self._swung_hz = 0, 0.0  # how often since power-up a loop swung ever wider, and how fast the last
        self._swung_at = 0.0  # [s] of drive time
        self._last_stop: dict[str, Any] | None = None
        self._path = np.zeros((1, 6))
        self._excitation = np.zeros(1)
        self._recorder = Recorder()
        self._settings = settings_of(self.memory.in_force, self.truth)
        old = self._state
        fresh = layout.fresh_state(supply_voltage=self._plant.supply_voltage, theta=float(old.theta1), seed=0)
        for name in layout.KEPT_WITHOUT_SUPPLY:
            setattr(fresh, name, getattr(old, name))
        fresh.deadline = 0
        fresh.guard_low, fresh.guard_high, fresh.guard_speed = -1e9, 1e9, 1e9
        fresh.edge_time = fresh.edge_last_time = float(old.tick)
        prime_device(fresh, self._plant, self._settings)
        self._state = fresh
        self._apply()
        self._advance_kernel(4)
        fresh.load_zero += fresh.position - fresh.load_position  # until it is homed, the load is where the motor is
        fresh.load_position = fresh.place = fresh.position
        self._note("power_up")

    def wiring(self) -> dict[str, Any]:
        """What the bench's own page shows: the rig as described, and the faults it can have."""
        possible = [{"code": f.code, "label": f.label} for f in FAULTS.values() if f.befalls(self.rig)]
        return {"rig": asdict(self.rig), "possible": possible}

    def rewire(self, changes: Mapping[str, Any], faults: Sequence[str]) -> None:
        """Change rig values and set its faults; the shaft stays where it is. Supply off and on, as one would.

        Raises
        ------
        DriveRefused
            The power stage is on.
        UnusableInput
            The rig cannot have such a value or fault.
        """
        self._require_standstill("rewiring")
        rig = RigTruth.from_dict({**asdict(self.rig), **changes, "faults": list(faults)})
        truth = wired(rig)
        was = self.powered
        self.power_switch(on=False)
        self.rig, self.truth = rig, truth
        made = plant_of(replace(truth, start_angle=self._start), rng=self._rng)
        self._plant = made.plant
        self._state.theta_s, self._state.slipped = self._state.theta1, 0.0
        self._note("rewired", faults=list(faults))
        if was:
            self.power_switch(on=True)

    def power_switch(self, on: bool) -> None:
        """Cut or restore the supply. Working memory, lease, home and angle are gone with it."""
        if on and not self.powered:
            self.powered = True
            self._power_up()
        elif not on and self.powered:
            power_off(self._state)
            self.powered = False

    def restart(self) -> None:
        """Start the firmware anew: permanent values come into force, working ones are lost."""
        self._require_standstill("restart")
        power_off(self._state)
        self._power_up()

    def _apply(self) -> None:
        """Bring parameters into force without a jump of the angle the loops use."""
        before = getattr(self, "_settings", None)
        self._settings = settings_of(self.memory.in_force, self.truth)
        s, c = self._state, self._settings
        frame = ("direction", "pole_pairs", "counts", "hall_offset", "hall_sign", "device")
        if before is not None and any(getattr(before, k) != getattr(c, k) for k in frame):
            s.angle_quality = layout.ANGLE_UNKNOWN
        if c.is_absolute and self.memory.in_force["commutation.valid"]:
            s.angle_offset, s.angle_quality = c.index_offset, layout.ANGLE_INDEX
        if c.has_index and s.index_seen:
            at_index = c.direction * (s.index_count - s.count_zero) * 2 * math.pi / c.counts
            s.angle_offset = c.index_offset - c.pole_pairs * at_index
            s.angle_quality = layout.ANGLE_INDEX

    @property
    def lease(self) -> str:
        """Token of the lease in force; empty when nobody holds it."""
        return self._lease

    def store(self) -> None:
        """Working to permanent memory."""
        self.memory.store()
        self._note("stored")

    def set_switch(self, name: str, closed: bool) -> None:
        """Open or close an input of the stand-in; an opened one cuts power. Raises `KeyError`."""
        if name not in self.switches:
            raise DriveRefused(why=f"it has no input {name!r}.", remedy=f"It has {', '.join(self.switches)}.")
        self.switches[name] = closed
        if not closed and self._state.mode != layout.OFF:
            self._note(name + "_opened")
            if name == "safe_torque_off":
                power_off(self._state)  # no firmware stands between: torque goes, and a brake falls in after it
            self.disable()

    def write(self, values: Mapping[str, float]) -> list[str]:
        """Write working memory; returns changed keys. Raises `ParameterRefused`, `DriveRefused`.

        A change of what the rotor angle rests on takes commutation's validity with it, unless that is written too.
        """
        beneath = [k for k in values if k in ANGLE_RESTS_ON]
        critical = [*beneath, *(k for k in values if k.startswith("commutation."))]
        if self._state.mode != layout.OFF and any(self.memory.working.get(k) != values[k] for k in critical):
            raise DriveRefused(
                why="pole pairs, feedback and commutation cannot change while enabled.",
                remedy="Disable the axis, then send.",
            )
        changed = self.memory.write(values)
        if "commutation.valid" not in values and set(beneath) & set(changed):
            changed += self.memory.write({"commutation.valid": 0.0})
        self._apply()
        return changed

    # --- time -------------------------------------------------------------------------------------------------

    @property
    def time(self) -> float:
        """Drive time since it was made. [s]"""
        return float(self._state.tick) * TICK

    def advance(self, seconds: float) -> None:
        """Let the drive run; jogs expire and trips are noted in slices of 10 ms. A hand on the shaft pushes each ms."""
        left = round(seconds / TICK)
        while left > 0:
            n = min(left, HAND_TICKS if self._hand else 160)
            self._push()
            self._advance_kernel(n)
            left -= n

    def turn_by_hand(self, angle: float, seconds: float) -> None:
        """Turn the shaft from outside, power off, by an angle within a time; the brake gives way. [rad], [s]

        Raises
        ------
        DriveRefused
            The power stage is on, or the turn is faster than a hand.
        """
        self._require_standstill("turning by hand")
        if seconds <= 0 or abs(angle) / seconds > HAND_SPEED:
            raise DriveRefused(why="no hand turns it so fast.", remedy="Take longer.")
        self._hand = (self._state.theta1 + angle, int(self._state.tick + seconds / TICK))

    def _push(self) -> None:
        if self._hand is None:
            return
        s, (target, until) = self._state, self._hand
        left = (until - s.tick) * TICK
        if left <= 0 or s.mode != layout.OFF:
            s.omega1 = s.omega2 = s.omega3 = 0.0
            self._hand = None
            return
        s.omega1 = s.omega2 = s.omega3 = (target - s.theta1) / left
        s.stuck1 = s.stuck2 = 0

    def _advance_kernel(self, n: int) -> None:
        s = self._state
        if self._jog_until and s.tick >= self._jog_until:
            self._jog_until = 0
            if s.gen == layout.GEN_RAMP:
                s.gen_target = 0.0
                s.gen_rate = self._settings.quick_stop
        if self._held_until and s.tick >= self._held_until:
            self._held_until = 0
            if s.brake_hand:
                s.brake_hand = 0
                self._note("brake_closed", moved=float(s.position) - self._opened_at)
            self._stop_vector()
        if s.brake_hand and abs(s.position - self._opened_at) > self._open_travel:
            self._held_until, s.brake_hand = 0, 0
            self._note("brake_closed", moved=float(s.position) - self._opened_at)
        if s.mode != layout.OFF and not s.stopping and self._watcher is not None and s.tick >= self._watched_until:
            self._note("unwatched")
            self.stop("nobody watches")
            self._consents.drop("the pages of the one who leads were closed")
        run_ticks(
            n,
            s,
            self._plant,
            self._settings,
            self._path,
            self._excitation,
            self._signals,
            self._recorder.channels,
            self._recorder.tape,
        )
        if self._jog_heard and (s.mode == layout.OFF or (s.gen_target == 0.0 and not s.moving)):
            # From the last command that asked for motion: what watches a hand on a button must be judged by this.
            self._note("jog_ended", after=(s.tick - self._jog_heard) * TICK)
            self._jog_heard = 0
        if s.coasted:
            s.coasted = 0
            self._note("coasted", velocity=float(s.velocity), bus=float(s.meas_bus))
        if s.gain_share != 1.0:
            self._eased()
        if s.trip:
            self._tripped(TRIPS[int(s.trip)])
            s.trip = 0
        if s.stopped:
            s.stopped = 0
            self.power_state = machine.after(self.power_state, "stopped")
            if self.power_state == machine.ENABLED:
                self.power_state = machine.after(self.power_state, "disable voltage")

    def _eased(self) -> None:
        """Take gains that were halved within a tick for those in force, so that whoever reads them knows."""
        s = self._state
        self._swings, self._swung_hz, self._swung_at = self._swings + 1, float(s.swung_hz), self.time
        self.memory.write(eased(self.memory.working, float(s.gain_share)))
        self._note("gains_halved", hz=self._swung_hz, share=float(s.gain_share))
        s.gain_share = 1.0
        self._apply()

    def _tripped(self, code: str) -> None:
        self._note(code, position=float(self._state.trip_position), velocity=float(self._state.trip_velocity))
        if code in NO_FAULT:
            self.power_state = machine.after(self.power_state, "quick stop")
            return
        self.fault = code
        self.power_state = machine.after(machine.after(self.power_state, "fault"), "reaction done")

    def _note(self, kind: str, **facts: Any) -> None:
        number = self.events[-1]["number"] + 1 if self.events else 1
        self.events.append({"number": number, "time": self.time, "kind": kind, "facts": facts})
        del self.events[:-500]

    # --- what prevents enabling -------------------------------------------------------------------------------

    def blockers(self, mode: str = "position") -> list[dict[str, str]]:
        """Everything that prevents enabling, in plain words, each with what to do and where."""
        found = find_blockers(
            self._state, self.memory, self._settings,
            switches=self.switches, fault=self.fault, device=self._plant.device, mode=mode,
        )  # fmt: skip
        return [b._asdict() for b in found]

    # --- control and power stage ------------------------------------------------------------------------------

    def take_control(self, owner: str, *, force: bool = False) -> str:
        """Give the lease to `owner`; returns its token. Raises `DriveRefused` while another holds it."""
        if self.owner not in (None, owner) and not force:
            raise DriveRefused(why=f"{self.owner} has control.", remedy="Ask them to give it back, or take it over.")
        before = self.owner
        if before not in (None, owner):
            self.stop(f"control taken over by {owner}")
        self._consents.drop(f"{owner} took control")
        self.owner = owner
        self._lease = secrets.token_hex(16)
        self._note("control_taken", owner=owner, before=before, forced=before not in (None, owner))
        return self._lease

    def give_control(self, lease: str) -> None:
        """Give the lease back; the axis is stopped first."""
        self.check_lease(lease)
        self.stop("control given back")
        self._consents.drop("control was given back")
        self._note("control_given", owner=self.owner)
        self.owner, self._lease = None, ""

    def check_lease(self, lease: str, *, consent: str = "") -> None:
        """Renew the heartbeat of the lease, and of a consent that is told. Raises `DriveRefused` if not in force."""
        if not self._lease or not secrets.compare_digest(lease.encode(), self._lease.encode()):
            raise DriveRefused(why="the command came without control of the axis.", remedy="Take control first.")
        s, given = self._state, self._consents.in_force(int(self._state.tick))
        if given is None:
            s.deadline = s.tick + LEASE_TICKS
        elif consent == given.token:
            s.deadline = s.tick + LEASE_TICKS
            given.hear(int(s.tick))
        # Else a run is on, and this is not its voice: a page must not keep alive what a dead worker commanded.

    def watched(self, pages: Sequence[str]) -> None:
        """Note that pages of the one who leads are open."""
        self._last_watched = int(self._state.tick)
        if self._watcher == "" or self._watcher in pages:
            self._watched_until = self._state.tick + WATCH_TICKS

    def give_consent(self, label: str, *, until: float, unattended: bool = False) -> str:
        """Keep a consent to one run, until a drive time [s]; returns its token. Kept alive by whoever shows the token.

        Raises
        ------
        DriveRefused
            It has expired before it came.
        """
        return self._consents.give(label, now=int(self._state.tick), until=until, unattended=unattended)

    def revoke_consent(self, label: str, *, why: str = "") -> None:
        """Take a consent back, if it is the one of that label."""
        self._consents.revoke(label, why)

    def enable(
        self,
        mode: str,
        *,
        guard_low: float,
        guard_high: float,
        guard_speed: float,
        torque: float = 0.0,
        brake_closed: bool = False,
        cut_on_guard: bool = False,
        consent: str = "",
        watcher: str = "",
        unattended: bool = False,
        not_after: float = math.inf,
    ) -> None:
        """Close the power stage in a mode, within the consented travel and speed. [rad], [rad/s]

        A `torque` given is there from the first moment, so that a load does not sag while the brake opens. [N·m]
        With `brake_closed` it stays closed: current flows, and nothing moves.
        With `cut_on_guard` an axis that leaves its guard is not ramped to standstill by a loop whose angle nobody has
        confirmed yet: the brake closes, and current goes.
        Unless `unattended` was agreed to, a page of the one who leads must stay open: the one named `watcher`, or any.

        Raises
        ------
        DriveRefused
            Something prevents enabling; `why` names all of it. Or the consent has expired, here or `not_after`. [s]
        """
        given = self._consents.of_token(consent, int(self._state.tick))
        if self.time > not_after:
            raise DriveRefused(
                why=f"the command came {self.time - not_after:.0f} s after the consent had expired.",
                remedy="Look at the axis again, tick the consent, and enable at once.",
            )
        blockers = self.blockers(mode)
        if blockers:
            raise DriveRefused(
                why=" ".join(b["text"] for b in blockers), remedy=" ".join(b["remedy"] for b in blockers)
            )
        s = self._state
        if s.mode != layout.OFF:
            raise DriveRefused(why="it is enabled already.", remedy="Disable it first.")
        alone = unattended or (given is not None and given.unattended)
        # A run enables many times: each time anew would let it go on for ever with nobody there.
        seen = int(s.tick) if given is None else max(given.given, self._last_watched)
        if not alone and s.tick >= seen + WATCH_TICKS:
            self._consents.drop("the pages of the one who leads were closed")
            raise DriveRefused(
                why="nobody watches: no page of the one who leads is open.",
                remedy="Keep a page open, or agree to an unattended run.",
            )
        self._find_angle(mode)
        for event in ("shutdown", "switch on", "enable operation"):
            self.power_state = machine.after(self.power_state, event)
        power_off(s)
        s.position_ref, s.guard_low, s.guard_high, s.guard_speed = s.place, guard_low, guard_high, guard_speed
        s.stopped = s.trip = s.swung = 0
        forget_swing(s)
        s.vec_angle = s.vec_target = math.remainder(float(s.vec_angle), 2 * math.pi)
        # A current of its own carries nothing: there the brake opens only when it is told to.
        s.brake_kept, s.guard_cuts = int(brake_closed or mode == "current"), int(cut_on_guard)
        s.brake_wait = int(self._settings.brake_operation != 0 and not s.brake_kept)
        s.int_torque = torque
        torque_filters.settle(s, self._settings, torque)
        self._watcher = None if alone else watcher
        self._watched_until = seen + WATCH_TICKS
        self._hold.holder = ""
        s.mode = MODES[mode]
        self._note("enabled", mode=mode)

    def _find_angle(self, mode: str) -> None:
        s, c = self._state, self._settings
        if mode == "vector" or s.angle_quality != layout.ANGLE_UNKNOWN:
            return
        if c.device == layout.HALLS:
            s.angle_quality = layout.ANGLE_SECTOR
            return
        middle = c.hall_offset + (hall_sector(s.hall, c) + 0.5) * math.pi / 3
        s.angle_offset = middle - c.pole_pairs * c.direction * (s.counts - s.count_zero) * 2 * math.pi / c.counts
        s.angle_quality = layout.ANGLE_SECTOR

    def set_brake(self, *, closed: bool) -> None:
        """Close the brake while current flows, or let it open. Raises `DriveRefused` without brake or current."""
        if self._state.mode == layout.OFF or self._state.stopping:
            raise DriveRefused(why="it is not enabled.", remedy="Enable it first.")
        self._require_brake()
        self._state.brake_kept = int(closed)

    def hold_brake_open(self, *, travel: float, holder: str = "") -> None:
        """Open the brake without current, as long as this is renewed within 100 ms by the same holder.

        It closes by itself once the shaft has gone farther than `travel` from where it was opened. [rad]
        """
        self._require_standstill("opening the brake by hand")
        self._require_brake()
        self._hold.take(holder, now=int(self._state.tick), until=self._held_until)
        s = self._state
        if not s.brake_hand:
            self._opened_at, self._open_travel = float(s.position), abs(travel)
            self._note("brake_opened", travel=abs(travel))
        s.brake_hand, self._held_until = 1, s.tick + JOG_TICKS

    def close_brake(self, *, holder: str = "") -> None:
        """Let a brake held open by hand close."""
        self._hold.let(holder)
        self._held_until, self._state.brake_hand = 0, 0

    def _require_brake(self) -> None:
        if not self._settings.brake_operation:
            raise DriveRefused(why="no brake is set to be operated.", remedy=f"Enter {field_of('brake.fitted')}.")

    def brake_state(self) -> str:
        """Return "none", "closed", "opening", "open" or "closing": as the drive knows it, by its times."""
        s, c = self._state, self._settings
        if not c.brake_operation:
            return "none"
        if s.brake_told:
            return "open" if is_open(s, c) else "opening"
        return "closed" if s.brake_timer >= c.brake_engage else "closing"

    def disable(self) -> None:
        """Open the power stage: at once, and the axis coasts; with a brake as soon as it has closed."""
        if self._settings.brake_operation and self._state.mode != layout.OFF:
            self._state.closing = 1
            self._advance_kernel(int(self._settings.brake_engage) + 2)
            self._state.stopped = 0
        power_off(self._state)
        self.power_state = machine.after(self.power_state, "disable voltage")
        self._note("disabled")

    def stop(self, why: str, *, press: str = "", by: str = "") -> None:
        """Quick stop, whoever asks: ramp to standstill, then open the power stage.

        A `press` is a STOP by hand: it ends the consent to a run as well, so that nothing enables again by itself. One
        that arrives a second time, on another way, changes nothing.
        """
        if press:
            if press in self._presses:
                return
            self._presses = [*self._presses[1 - PRESSES :], press]
            self._last_stop = {"press": press, "by": by, "why": why, "time": self.time}
            self._consents.drop(why or f"{by or 'somebody'} pressed STOP")
        elif self._state.mode == layout.OFF:
            return
        self._note("stop", why=why, by=by, press=press)
        if self._state.mode == layout.OFF:
            return
        self.power_state = machine.after(self.power_state, "quick stop")
        begin_stop(self._state, self._settings)
        if self._state.closing and not self._settings.brake_operation:  # no loop to ramp with, no brake to wait for
            power_off(self._state)
            self._state.stopped = 1

    def reset_fault(self) -> None:
        """Leave the fault state."""
        self.fault = None
        self.power_state = machine.after(self.power_state, "fault reset")

    def _require_standstill(self, what: str) -> None:
        if self._state.mode != layout.OFF:
            raise DriveRefused(why=f"{what} needs the power stage off.", remedy="Disable the axis first.")

    def _require_mode(self, *modes: str) -> None:
        if self._state.stopping or self._state.mode not in [MODES[m] for m in modes]:
            raise DriveRefused(why=f"it is not enabled in {' or '.join(modes)} mode.", remedy="Enable it first.")

    # --- motion -----------------------------------------------------------------------------------------------

    def vector(
        self,
        *,
        angle: float,
        rate: float,
        current: float,
        rise: float,
        acceleration: float = 0.0,
        held: bool = False,
        holder: str = "",
    ) -> None:
        """Turn the vector to an absolute electrical angle and ramp its current. [rad], [rad/s], [A], [A/s]

        With an acceleration it starts and stops gently, without one at once [rad/s²]. A `held` one must be renewed
        within 100 ms, or it stands still and its current goes.
        """
        self._require_mode("vector")
        self._hold.take(holder, now=int(self._state.tick), until=self._held_until)
        s = self._state
        s.vec_target, s.vec_rate, s.vec_accel = angle, abs(rate), abs(acceleration)
        self._held_until = s.tick + JOG_TICKS if held else 0
        if not held:
            self._hold.let(holder)
        s.vec_current_target, s.vec_current_rate = min(abs(current), self._settings.current_limit), abs(rise)

    def catch(self, *, current: float, level: float) -> None:
        """Short the windings, and lead the rotor by a vector of `current` once its motion drives `level`. [A], [A]

        A brake opens onto the shorted windings: a load that falls brakes itself, and its own current tells the vector
        that holds it.
        """
        self._require_mode("vector")
        s = self._state
        s.vec_current, s.vec_current_target = 0.0, min(abs(current), self._settings.current_limit)
        s.vec_target, s.vec_speed = s.vec_angle, 0.0
        s.catch_d = s.catch_q = s.catch_base_d = s.catch_base_q = 0.0
        # A pin comes out under a vector only; its windings are shorted as soon as it is out.
        s.catch_wait = 0
        s.catch_level, s.catching, s.shorted = abs(level), 1, int(self._settings.brake_free_turn == 0.0)
        s.vec_current_rate = s.vec_current_target / CATCH_RISE

    def release_vector(self, *, holder: str = "") -> None:
        """Stop the vector where it is; its current goes."""
        self._require_mode("vector")
        self._hold.take(holder, now=int(self._state.tick), until=self._held_until)
        self._held_until = 0
        self._hold.let(holder)
        self._stop_vector()

    def _stop_vector(self) -> None:
        s = self._state
        s.vec_target, s.vec_speed, s.vec_current_target = s.vec_angle, 0.0, 0.0
        s.vec_current_rate = max(s.vec_current_rate, 1e3)

    def adopt_angle(self, angle: float) -> None:
        """Take an electrical angle for where the rotor stands now; gone with the next power-up. [rad]"""
        s, c = self._state, self._settings
        if s.mode not in (layout.OFF, layout.VECTOR):
            raise DriveRefused(why="a loop is closed on the angle in use.", remedy="Disable the axis first.")
        here = c.pole_pairs * c.direction * (s.counts + 0.5 - s.count_zero) * 2 * math.pi / c.counts
        s.angle_offset, s.angle_quality = angle - here, layout.ANGLE_ALIGNED

    def jog(self, velocity: float, *, holder: str = "") -> None:
        """Run at a speed as long as this is renewed within 100 ms by the same holder. [rad/s]"""
        self._require_mode("velocity", "position")
        self._hold.take(holder, now=int(self._state.tick), until=self._jog_until)
        s, c = self._state, self._settings
        s.gen_target = min(max(velocity, -c.velocity_limit), c.velocity_limit)
        s.gen_rate, s.gen = c.acceleration, layout.GEN_RAMP
        self._jog_until = s.tick + JOG_TICKS
        if not velocity:
            self._hold.let(holder)
        if velocity or not self._jog_heard:
            self._jog_heard = s.tick

    def run_at(self, velocity: float, acceleration: float = 0.0) -> None:
        """Ramp to a speed and keep it, more gently than the limit if an acceleration says so. [rad/s], [rad/s²]"""
        self.jog(velocity)
        self._jog_until = self._jog_heard = 0
        if acceleration > 0.0:
            self._state.gen_rate = min(acceleration, self._settings.acceleration)

    def run_path(self, segments: np.ndarray) -> None:
        """Run constant-jerk segments from where the command stands; position mode. Shape (n, 6)."""
        self._require_mode("position")
        s = self._state
        goes_on = s.gen == layout.GEN_PATH and s.path_time >= self._path[-1, 1]  # its plan is over, its notch not yet
        if s.gen != layout.GEN_HOLD and not goes_on:
            raise DriveRefused(why="a move is in progress.", remedy="Wait for its end.")
        if np.abs(segments[:, 3]).max(initial=0) > self._settings.velocity_limit * 1.001:
            raise DriveRefused(
                why="the move is faster than the velocity limit.",
                remedy=f"Lower its speed, or raise {field_of('limit.velocity')}.",
            )
        if goes_on:
            self._begin_where_the_last_move_ends()
        else:
            s.path_origin = s.position_ref
            s.shape_x1 = s.shape_x2 = s.shape_v1 = s.shape_v2 = s.shape_a1 = s.shape_a2 = 0.0
        self._path = np.ascontiguousarray(segments, dtype=float)
        s.path_time, s.path_index, s.gen = 0.0, 0, layout.GEN_PATH

    def _begin_where_the_last_move_ends(self) -> None:
        """Move the origin there; what the notch holds stays what it was, seen from the new origin."""
        s, c = self._state, self._settings
        begun, ended, x, v, a, jerk = self._path[-1]
        dt = ended - begun
        gone = x + dt * (v + dt * (a / 2 + dt * jerk / 6))
        s.path_origin += gone
        s.shape_x1 -= gone * (1.0 - c.shaping_b0)
        s.shape_x2 -= gone * (c.shaping_b2 - c.shaping_a2)

    def set_position(self, value: float) -> None:
        """Declare the present position: homing "here" (CiA 402 method 37). [rad]"""
        self._require_standstill("setting the position")
        s = self._state
        s.position_zero += value - s.position
        s.load_zero += value - s.load_position
        s.position = s.load_position = s.place = value

    def excite(self, point: str, samples: np.ndarray, *, divider: int, repeats: int) -> None:
        """Add samples at an injection point, one every `divider` ticks, `repeats` times over."""
        s = self._state
        if s.mode == layout.OFF or s.stopping:
            raise DriveRefused(why="it is not enabled.", remedy="Enable it first.")
        self._excitation = np.ascontiguousarray(samples, dtype=float)
        s.exc_index, s.exc_len, s.exc_left, s.exc_div = 0, len(samples), repeats, divider
        s.exc_point = POINTS[point]

    # --- recorder ---------------------------------------------------------------------------------------------

    def arm(self, channels: list[str], *, divider: int, samples: int, pre: int, trigger: Mapping[str, Any]) -> None:
        """Arm the recorder. `trigger` is empty (at once) or {signal, level, rising}."""
        self._recorder.arm(self._state, channels, divider=divider, samples=samples, pre=pre, trigger=trigger)

    def recorder_state(self) -> str:
        """Return "idle", "armed", "running" or "done"."""
        return self._recorder.state(self._state)

    def recorded(self) -> tuple[np.ndarray, list[str], float]:
        """Return the finished tape (channels, samples), oldest first, its channels, its period [s].

        Raises
        ------
        DriveRefused
            No recording is complete.
        """
        return self._recorder.recorded(self._state)

    # --- status -----------------------------------------------------------------------------------------------

    def status(self) -> dict[str, Any]:
        """Everything the rig strip shows."""
        s = self._state
        amps = math.hypot(s.meas_d, s.meas_q) if s.mode != layout.OFF else 0.0
        return {
            "time": self.time,
            "power_state": self.power_state,
            "fault": self.fault,
            "owner": self.owner,
            "mode": {v: k for k, v in MODES.items()}.get(int(s.mode), "off"),
            "position": float(s.position),
            "velocity": float(s.velocity),
            "current": amps,
            "v_bus": float(s.meas_bus),
            "place": float(s.place),
            "following_error": float(s.position_ref - s.place) if s.mode == layout.POSITION else 0.0,
            "counts": int(s.counts - s.count_zero),
            "levels": [int(int(s.counts) % 4 in (1, 2)), int(int(s.counts) % 4 in (2, 3))],  # of A and B at the input
            "hall": int(s.hall),
            "index_seen": int(s.index_seen),
            "index_counts": int(s.index_count - s.count_zero),
            "moving": bool(s.moving or s.stopping),
            "angle_quality": self._quality(),
            "angle": float(s.angle_used),
            "vector_angle": float(s.vec_angle),
            "catching": bool(s.catching),
            "shaft_angle": float(rotor_angle(s, self._settings)),
            "second": int(s.second),
            "signals": signals_now(s, self._plant, self._settings),
            "words": int(s.words),
            "word_errors": int(s.word_errors),
            "latency": self.truth.word_latency,
            "blockers": self.blockers(),
            "not_stored": self.memory.not_stored,
            "restart_needed": self.memory.restart_needed,
            "brake": self.brake_state(),
            "resistor_hot": bool(s.resistor_hot),
            "recorder": self.recorder_state(),
            "switches": dict(self.switches),
            "events": self.events[-1]["number"] if self.events else 0,
            "consent": self._consents.shown(int(s.tick)),
            "last_stop": self._last_stop,
            "swings": self._swings,
            "swung_hz": self._swung_hz,
            "swung_at": self._swung_at,
        }

    def _quality(self) -> str:
        name = ("unknown", "sector", "edge", "index", "aligned")[int(self._state.angle_quality)]
        return "absolute" if name == "index" and self._settings.is_absolute else name

    def raw(self) -> dict[str, Any]:
        """What arrives from the device before the drive makes counts of it: signals, words and their errors."""
        return raw_of(self._state, self._plant, self.truth)

    def identity(self) -> dict[str, Any]:
        """Name, versions and ratings."""
        return {
            "name": self.name,
            "maker": "stand-in",
            "firmware": "1.0.0",
            "protocol": 1,
            "current_period": TICK,
            "velocity_period": TV,
            "memories": ["working", "permanent"],
            "injection": list(POINTS),
            "homing": [],
            "inputs": list(self.switches),
            "current_peak": self.truth.drive_current_peak,
            "current_continuous": self.truth.drive_current_continuous,
            "voltage_max": self.truth.overvoltage,
            "current_accuracy": CURRENT_ACCURACY,
            "signals": [{"key": k, "unit": u, "label": label} for k, u, label in SIGNALS],
        }
