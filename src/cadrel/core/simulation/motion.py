"""What moves an axis that is enabled: a vector, a jog, a path, an excitation; and where it is said to stand."""

import math

import numpy as np

from cadrel.core.parameters import field_of
from cadrel.core.simulation import layout
from cadrel.core.simulation.layout import TICK
from cadrel.core.simulation.refused import DriveRefused
from cadrel.core.simulation.running import JOG_TICKS, Running

CATCH_RISE = 0.2  # [s] to the whole current that frees a pin
POINTS = {
    "voltage_d": layout.AT_VOLTAGE_D,
    "voltage_q": layout.AT_VOLTAGE_Q,
    "current_d": layout.AT_CURRENT_D,
    "current_q": layout.AT_CURRENT_Q,
    "torque": layout.AT_TORQUE,
    "velocity": layout.AT_VELOCITY,
    "position": layout.AT_POSITION,
}


class Motion:
    """The commands that move, on what runs in the drive."""

    def __init__(self, running: Running) -> None:
        self._running = running

    def expire(self) -> None:
        """End what was not renewed in time, or lasts no longer.

        A jog and a run ramp down, a held vector stands still and its current goes.
        """
        r, s = self._running, self._running.state
        if r.jog_until and s.tick >= r.jog_until:
            r.jog_until = 0
            if s.gen == layout.GEN_RAMP:
                s.gen_target = 0.0
                s.gen_rate = r.settings.quick_stop
        if r.run_until and s.tick >= r.run_until:
            r.run_until = 0
            if s.gen == layout.GEN_RAMP:
                s.gen_target = 0.0
        if r.held_until and s.tick >= r.held_until:
            r.held_until = 0
            self.stop_vector()

    def jog_ended(self) -> float | None:
        """Return how long after the last command for it a jog came to rest, once; None while there is none. [s]"""
        r, s = self._running, self._running.state
        if not r.jog_heard or not (s.mode == layout.OFF or (s.gen_target == 0.0 and not s.moving)):
            return None
        after, r.jog_heard = (s.tick - r.jog_heard) * TICK, 0
        return float(after)

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
        self._running.require_mode("vector")
        self._running.hold.take(holder, now=int(self._running.state.tick), until=self._running.held_until)
        s = self._running.state
        s.vec_target, s.vec_rate, s.vec_accel = angle, abs(rate), abs(acceleration)
        self._running.held_until = s.tick + JOG_TICKS if held else 0
        if not held:
            self._running.hold.let(holder)
        s.vec_current_target, s.vec_current_rate = min(abs(current), self._running.settings.current_limit), abs(rise)

    def catch(self, *, current: float, level: float) -> None:
        """Short the windings, and lead the rotor by a vector of `current` once its motion drives `level`. [A], [A]

        A brake opens onto the shorted windings: a load that falls brakes itself, and its own current tells the vector
        that holds it.
        """
        self._running.require_mode("vector")
        s = self._running.state
        s.vec_current, s.vec_current_target = 0.0, min(abs(current), self._running.settings.current_limit)
        s.vec_target, s.vec_speed = s.vec_angle, 0.0
        s.catch_d = s.catch_q = s.catch_base_d = s.catch_base_q = 0.0
        # A pin comes out under a vector only; its windings are shorted as soon as it is out.
        s.catch_wait = 0
        s.catch_level, s.catching, s.shorted = abs(level), 1, int(self._running.settings.brake_free_turn == 0.0)
        s.vec_current_rate = s.vec_current_target / CATCH_RISE

    def release_vector(self, *, holder: str = "") -> None:
        """Stop the vector where it is; its current goes."""
        self._running.require_mode("vector")
        self._running.hold.take(holder, now=int(self._running.state.tick), until=self._running.held_until)
        self._running.held_until = 0
        self._running.hold.let(holder)
        self.stop_vector()

    def stop_vector(self) -> None:
        """Stop the vector where it is; its current goes."""
        s = self._running.state
        s.vec_target, s.vec_speed, s.vec_current_target = s.vec_angle, 0.0, 0.0
        s.vec_current_rate = max(s.vec_current_rate, 1e3)

    def adopt_angle(self, angle: float) -> None:
        """Take an electrical angle for where the rotor stands now; gone with the next power-up. [rad]"""
        s, c = self._running.state, self._running.settings
        if s.mode not in (layout.OFF, layout.VECTOR):
            raise DriveRefused(why="a loop is closed on the angle in use.", remedy="Disable the axis first.")
        here = c.pole_pairs * c.direction * (s.counts + 0.5 - s.count_zero) * 2 * math.pi / c.counts
        s.angle_offset, s.angle_quality = angle - here, layout.ANGLE_ALIGNED

    def jog(self, velocity: float, *, holder: str = "") -> None:
        """Run at a speed as long as this is renewed within 100 ms by the same holder. [rad/s]"""
        self._running.require_mode("velocity", "position")
        self._running.hold.take(holder, now=int(self._running.state.tick), until=self._running.jog_until)
        s, c = self._running.state, self._running.settings
        s.gen_target = min(max(velocity, -c.velocity_limit), c.velocity_limit)
        s.gen_rate, s.gen = c.acceleration, layout.GEN_RAMP
        self._running.jog_until, self._running.run_until = s.tick + JOG_TICKS, 0
        if not velocity:
            self._running.hold.let(holder)
        if velocity or not self._running.jog_heard:
            self._running.jog_heard = s.tick

    def run_at(self, velocity: float, acceleration: float = 0.0, lasts: float = 0.0) -> None:
        """Ramp to a speed and keep it, more gently than the limit if an acceleration says so. [rad/s], [rad/s²]

        It ramps to rest again by itself after what it `lasts`, if that is given, whoever is late. [s]
        """
        self.jog(velocity)
        self._running.jog_until = self._running.jog_heard = 0
        if lasts > 0.0:
            self._running.run_until = int(self._running.state.tick) + round(lasts / TICK)
        if acceleration > 0.0:
            self._running.state.gen_rate = min(acceleration, self._running.settings.acceleration)

    def run_path(self, segments: np.ndarray) -> None:
        """Run constant-jerk segments from where the command stands; position mode. Shape (n, 6)."""
        self._running.require_mode("position")
        s = self._running.state
        goes_on = (
            s.gen == layout.GEN_PATH and s.path_time >= self._running.path[-1, 1]
        )  # its plan is over, its notch not yet
        if s.gen != layout.GEN_HOLD and not goes_on:
            raise DriveRefused(why="a move is in progress.", remedy="Wait for its end.")
        if np.abs(segments[:, 3]).max(initial=0) > self._running.settings.velocity_limit * 1.001:
            raise DriveRefused(
                why="the move is faster than the velocity limit.",
                remedy=f"Lower its speed, or raise {field_of('limit.velocity')}.",
            )
        if goes_on:
            self._begin_where_the_last_move_ends()
        else:
            s.path_origin = s.position_ref
            s.shape_x1 = s.shape_x2 = s.shape_v1 = s.shape_v2 = s.shape_a1 = s.shape_a2 = 0.0
        self._running.path = np.ascontiguousarray(segments, dtype=float)
        s.path_time, s.path_index, s.gen = 0.0, 0, layout.GEN_PATH

    def _begin_where_the_last_move_ends(self) -> None:
        """Move the origin there; what the notch holds stays what it was, seen from the new origin."""
        s, c = self._running.state, self._running.settings
        begun, ended, x, v, a, jerk = self._running.path[-1]
        dt = ended - begun
        gone = x + dt * (v + dt * (a / 2 + dt * jerk / 6))
        s.path_origin += gone
        s.shape_x1 -= gone * (1.0 - c.shaping_b0)
        s.shape_x2 -= gone * (c.shaping_b2 - c.shaping_a2)

    def set_position(self, value: float) -> None:
        """Declare the present position: homing "here" (CiA 402 method 37). [rad]"""
        self._running.require_standstill("setting the position")
        s = self._running.state
        s.position_zero += value - s.position
        s.load_zero += value - s.load_position
        s.position = s.load_position = s.place = value

    def excite(self, point: str, samples: np.ndarray, *, divider: int, repeats: int) -> None:
        """Add samples at an injection point, one every `divider` ticks, `repeats` times over."""
        s = self._running.state
        if s.mode == layout.OFF or s.stopping:
            raise DriveRefused(why="it is not enabled.", remedy="Enable it first.")
        self._running.excitation = np.ascontiguousarray(samples, dtype=float)
        s.exc_index, s.exc_len, s.exc_left, s.exc_div = 0, len(samples), repeats, divider
        s.exc_point = POINTS[point]
