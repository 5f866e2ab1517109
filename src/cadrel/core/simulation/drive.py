"""The stand-in drive: what a real one would do between its connector and its power stage."""

import math
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import asdict, replace
from typing import Any

import numpy as np

from cadrel.core.parameters import ANGLE_RESTS_ON
from cadrel.core.simulation import layout, machine, torque_filters
from cadrel.core.simulation.blockers import find_blockers
from cadrel.core.simulation.consent import Consents
from cadrel.core.simulation.device import hall_sector, power_off, prime_device
from cadrel.core.simulation.faults import FAULTS, wired
from cadrel.core.simulation.firmware import begin_stop
from cadrel.core.simulation.holding_brake import HoldingBrake
from cadrel.core.simulation.layout import SIGNALS, TICK, TV
from cadrel.core.simulation.memory import Memory, eased, settings_of
from cadrel.core.simulation.motion import POINTS, Motion
from cadrel.core.simulation.oscillation import forget_swing
from cadrel.core.simulation.received import raw_of
from cadrel.core.simulation.refused import DriveRefused
from cadrel.core.simulation.rigging import plant_of
from cadrel.core.simulation.running import MODES, Running
from cadrel.core.simulation.status import shown
from cadrel.core.simulation.truth import RigTruth

# Motion ends when the holder of the lease has not been heard for so long. A run within agreed travel waits longer than
# a hand on a button (`JOG_TICKS`), so that a busy machine aborts nothing, and stands within 1 s all the same.
LEASE_TICKS = 10400  # [ticks] 650 ms
CURRENT_ACCURACY = 0.01  # of the reading: what drives' sheets state of their current sensors (common practice)
WATCH_TICKS = 28000  # [ticks] 1.75 s: motion ends when no page of the one who leads has been open for so long
PRESSES = 16  # STOP presses remembered, so that one that arrives on two ways counts once
HAND_TICKS = 16  # [ticks] 1 ms: how often a hand on the shaft corrects its push
HAND_SPEED = 30.0  # [rad/s] a hand turns no faster
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
        self.memory = Memory()
        self.events: list[dict[str, Any]] = []
        self.switches = {"safe_torque_off": True, "hardware_enable": True}  # True: closed, motion allowed
        self.powered = True
        self._hand: tuple[float, int] | None = None  # angle the hand goes to, and the tick at which it is there
        # The machine's true state with it: for whoever judges from outside. The wire reaches none of it.
        self.running = Running(
            plant=rig.plant,
            state=layout.fresh_state(supply_voltage=rig.plant.supply_voltage, theta=rig.start_angle, seed=seed),
            settings=settings_of(self.memory.in_force, truth),
        )
        self._power_up()

    # --- power and memory -----------------------------------------------------------------------------------

    def _power_up(self) -> None:
        self.memory.reload()
        self.power_state = machine.after(machine.NOT_READY, "initialised")
        self.fault: str | None = None
        self.owner: str | None = None
        self._lease = ""
        self._watcher: str | None = None  # name of the page that must be open; "" any; None: nobody need watch
        self._watched_until = self._last_watched = 0
        self._consents = Consents(self._note)
        self._presses: list[str] = []
        self._swings, self._swung_hz = 0, 0.0  # how often since power-up a loop swung ever wider, and how fast the last
        self._swung_at = 0.0  # [s] of drive time
        self._last_stop: dict[str, Any] | None = None
        plant, old = self.running.plant, self.running.state
        fresh = layout.fresh_state(supply_voltage=plant.supply_voltage, theta=float(old.theta1), seed=0)
        for name in layout.KEPT_WITHOUT_SUPPLY:
            setattr(fresh, name, getattr(old, name))
        fresh.deadline = 0
        fresh.guard_low, fresh.guard_high, fresh.guard_speed = -1e9, 1e9, 1e9
        fresh.edge_time = fresh.edge_last_time = float(old.tick)
        self.running = Running(plant=plant, state=fresh, settings=settings_of(self.memory.in_force, self.truth))
        self.motion, self.brake = Motion(self.running), HoldingBrake(self.running, self._note)
        prime_device(fresh, plant, self.running.settings)
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
        self.running.require_standstill("rewiring")
        rig = RigTruth.from_dict({**asdict(self.rig), **changes, "faults": list(faults)})
        truth = wired(rig)
        made = plant_of(replace(truth, start_angle=self._start), rng=self._rng)  # what cannot be leaves all as it is
        was = self.powered
        self.power_switch(on=False)
        self.rig, self.truth = rig, truth
        self.running.plant = made.plant
        self.running.state.theta_s, self.running.state.slipped = self.running.state.theta1, 0.0
        self._note("rewired", faults=list(faults))
        if was:
            self.power_switch(on=True)

    def power_switch(self, on: bool) -> None:
        """Cut or restore the supply. Working memory, lease, home and angle are gone with it."""
        if on and not self.powered:
            self.powered = True
            self._power_up()
        elif not on and self.powered:
            power_off(self.running.state)
            self.powered = False

    def restart(self) -> None:
        """Start the firmware anew: permanent values come into force, working ones are lost."""
        self.running.require_standstill("restart")
        power_off(self.running.state)
        self._power_up()

    def _apply(self) -> None:
        """Bring parameters into force without a jump of the angle the loops use."""
        before = self.running.settings
        self.running.settings = settings_of(self.memory.in_force, self.truth)
        s, c = self.running.state, self.running.settings
        frame = ("direction", "pole_pairs", "counts", "hall_offset", "hall_sign", "device")
        if any(getattr(before, k) != getattr(c, k) for k in frame):
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
        if not closed and self.running.state.mode != layout.OFF:
            self._note(name + "_opened")
            if name == "safe_torque_off":
                power_off(self.running.state)  # no firmware stands between: torque goes, and a brake falls in after it
            self.disable()

    def write(self, values: Mapping[str, float]) -> list[str]:
        """Write working memory; returns changed keys. Raises `ParameterRefused`, `DriveRefused`.

        A change of what the rotor angle rests on takes commutation's validity with it, unless that is written too.
        """
        beneath = [k for k in values if k in ANGLE_RESTS_ON]
        critical = [*beneath, *(k for k in values if k.startswith("commutation."))]
        if self.running.state.mode != layout.OFF and any(self.memory.working.get(k) != values[k] for k in critical):
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
        return float(self.running.state.tick) * TICK

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
        self.running.require_standstill("turning by hand")
        if seconds <= 0 or abs(angle) / seconds > HAND_SPEED:
            raise DriveRefused(why="no hand turns it so fast.", remedy="Take longer.")
        self._hand = (self.running.state.theta1 + angle, int(self.running.state.tick + seconds / TICK))

    def _push(self) -> None:
        if self._hand is None:
            return
        s, (target, until) = self.running.state, self._hand
        left = (until - s.tick) * TICK
        if left <= 0 or s.mode != layout.OFF:
            s.omega1 = s.omega2 = s.omega3 = 0.0
            self._hand = None
            return
        s.omega1 = s.omega2 = s.omega3 = (target - s.theta1) / left
        s.stuck1 = s.stuck2 = 0

    def _advance_kernel(self, n: int) -> None:
        s = self.running.state
        self.brake.watch()
        self.motion.expire()
        if s.mode != layout.OFF and not s.stopping and self._watcher is not None and s.tick >= self._watched_until:
            self._note("unwatched")
            self.stop("nobody watches")
            self._consents.drop("the pages of the one who leads were closed")
        self.running.advance(n)
        after = self.motion.jog_ended()
        if after is not None:
            # From the last command that asked for motion: what watches a hand on a button must be judged by this.
            self._note("jog_ended", after=after)
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
        s = self.running.state
        self._swings, self._swung_hz, self._swung_at = self._swings + 1, float(s.swung_hz), self.time
        self.memory.write(eased(self.memory.working, float(s.gain_share)))
        self._note("gains_halved", hz=self._swung_hz, share=float(s.gain_share))
        s.gain_share = 1.0
        self._apply()

    def _tripped(self, code: str) -> None:
        self._note(
            code, position=float(self.running.state.trip_position), velocity=float(self.running.state.trip_velocity)
        )
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
            self.running.state, self.memory, self.running.settings,
            switches=self.switches, fault=self.fault, device=self.running.plant.device, mode=mode,
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
        s, given = self.running.state, self._consents.in_force(int(self.running.state.tick))
        if given is None:
            s.deadline = s.tick + LEASE_TICKS
        elif consent == given.token:
            s.deadline = s.tick + LEASE_TICKS
            given.hear(int(s.tick))
        # Else a run is on, and this is not its voice: a page must not keep alive what a dead worker commanded.

    def watched(self, pages: Sequence[str]) -> None:
        """Note that pages of the one who leads are open."""
        self._last_watched = int(self.running.state.tick)
        if self._watcher == "" or self._watcher in pages:
            self._watched_until = self.running.state.tick + WATCH_TICKS

    def give_consent(self, label: str, *, until: float, unattended: bool = False) -> str:
        """Keep a consent to one run, until a drive time [s]; returns its token. Kept alive by whoever shows the token.

        Raises
        ------
        DriveRefused
            It has expired before it came.
        """
        return self._consents.give(label, now=int(self.running.state.tick), until=until, unattended=unattended)

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
        given = self._consents.of_token(consent, int(self.running.state.tick))
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
        s = self.running.state
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
        s.brake_wait = int(self.running.settings.brake_operation != 0 and not s.brake_kept)
        s.int_torque = torque
        torque_filters.settle(s, self.running.settings, torque)
        self._watcher = None if alone else watcher
        self._watched_until = seen + WATCH_TICKS
        self.running.hold.holder = ""
        s.mode = MODES[mode]
        self._note("enabled", mode=mode)

    def _find_angle(self, mode: str) -> None:
        s, c = self.running.state, self.running.settings
        if mode == "vector" or s.angle_quality != layout.ANGLE_UNKNOWN:
            return
        if c.device == layout.HALLS:
            s.angle_quality = layout.ANGLE_SECTOR
            return
        middle = c.hall_offset + (hall_sector(s.hall, c) + 0.5) * math.pi / 3
        s.angle_offset = middle - c.pole_pairs * c.direction * (s.counts - s.count_zero) * 2 * math.pi / c.counts
        s.angle_quality = layout.ANGLE_SECTOR

    def disable(self) -> None:
        """Open the power stage: at once, and the axis coasts; with a brake as soon as it has closed."""
        if self.running.settings.brake_operation and self.running.state.mode != layout.OFF:
            self.running.state.closing = 1
            self._advance_kernel(int(self.running.settings.brake_engage) + 2)
            self.running.state.stopped = 0
        power_off(self.running.state)
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
        elif self.running.state.mode == layout.OFF:
            return
        self._note("stop", why=why, by=by, press=press)
        if self.running.state.mode == layout.OFF:
            return
        self.power_state = machine.after(self.power_state, "quick stop")
        s, c = self.running.state, self.running.settings
        begin_stop(s, c)
        if s.closing and not c.brake_operation:  # no loop to ramp with, no brake to wait for
            power_off(s)
            s.stopped = 1

    def reset_fault(self) -> None:
        """Leave the fault state."""
        self.fault = None
        self.power_state = machine.after(self.power_state, "fault reset")

    # --- recorder ---------------------------------------------------------------------------------------------

    def arm(self, channels: list[str], *, divider: int, samples: int, pre: int, trigger: Mapping[str, Any]) -> None:
        """Arm the recorder. `trigger` is empty (at once) or {signal, level, rising}."""
        self.running.recorder.arm(
            self.running.state, channels, divider=divider, samples=samples, pre=pre, trigger=trigger
        )

    def recorder_state(self) -> str:
        """Return "idle", "armed", "running" or "done"."""
        return self.running.recorder.state(self.running.state)

    def recorded(self) -> tuple[np.ndarray, list[str], float]:
        """Return the finished tape (channels, samples), oldest first, its channels, its period [s].

        Raises
        ------
        DriveRefused
            No recording is complete.
        """
        return self.running.recorder.recorded(self.running.state)

    # --- status -----------------------------------------------------------------------------------------------

    def status(self) -> dict[str, Any]:
        """Everything the rig strip shows."""
        return {
            "time": self.time,
            "power_state": self.power_state,
            "fault": self.fault,
            "owner": self.owner,
            **shown(self.running),
            "latency": self.truth.word_latency,
            "blockers": self.blockers(),
            "not_stored": self.memory.not_stored,
            "restart_needed": self.memory.restart_needed,
            "brake": self.brake.state,
            "recorder": self.recorder_state(),
            "switches": dict(self.switches),
            "events": self.events[-1]["number"] if self.events else 0,
            "consent": self._consents.shown(int(self.running.state.tick)),
            "last_stop": self._last_stop,
            "swings": self._swings,
            "swung_hz": self._swung_hz,
            "swung_at": self._swung_at,
        }

    def raw(self) -> dict[str, Any]:
        """What arrives from the device before the drive makes counts of it: signals, words and their errors."""
        return raw_of(self.running.state, self.running.plant, self.truth)

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
