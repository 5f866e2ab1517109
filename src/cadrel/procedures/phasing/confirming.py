"""Confirm the offset by torque per amp both ways, and refine it by the back-EMF of the turning rotor."""

import math
from dataclasses import dataclass

import numpy as np

from cadrel.core.identification import Estimated, HeldLoad, angle_error_from_spinning
from cadrel.link import Recording
from cadrel.procedures.errors import AxisStopped, NotConfirmed
from cadrel.procedures.phasing.turning import Turning
from cadrel.procedures.session import FloatArray, Session
from cadrel.procedures.strokes import SOFT, Lead, back_and_forth, block_means

TRIES = 8
SHARE, SHARE_MOST = 0.35, 0.95  # of continuous current
FASTEST = 0.3  # of the consented speed, expected of the first push
SHORTEST = 40  # [samples] of a push
ROOM = 0.55  # of the consented speed, to which the next push may go
FULL = 0.75  # of it, beyond which it surely must not: behind a springy shaft the motor runs ahead of its load
LEAST_LONGER, MOST_LONGER = 1.4, 3.0  # factors of a push's length from try to try
LEAST_SHARPER, MOST_SHARPER = 0.8, 1.6  # factors of its current
LONGEST = 20.0  # times as long as the first push
STUCK = 0.25  # of the consented speed, less than a push is meant for: what moved faster was not held by friction
CLEAR = 0.35  # difference of the two ways over their sum: more, and a spring still swings in it
SLOWER = 0.5  # of the speed, where the first spin ran over what was agreed to
GENTLER = 0.4  # of the gain, where the slower one did as well
SPINS = ((1.0, 1.0), (SLOWER, 1.0), (SLOWER, GENTLER))  # one after the other: speed, and gain
SPIN_SHARE = 0.5  # of the consented speed
TURNED, LED = 0.3, 0.7  # of the way meant, below which a spin is led; of the friction that the turned vector showed
STIFFER = 1.5  # times the velocity gain set out from, at most, for an axis heavier than entered
MOST_CROSS = 12.0  # [° electrical] that field current may seem to push by
LEAST_ANSWER = 20.0  # [rad/s²]
MOST_REFINEMENT = math.radians(25)
FREE_OF_LOAD = 0.04  # of the vector's torque: more, and a push with the brake open would let the load fall
SPIN = ("position", "velocity", "v_d", "v_q", "i_q", "i_d")


@dataclass(frozen=True, slots=True)
class Confirmation:
    """Answers to torque current both ways, and to field current, which must not push."""

    forward: float  # [rad/s²] answer to +iq, its own sign
    backward: float  # [rad/s²] answer to -iq
    cross: float  # [rad/s²] half the difference of the answers to +id and -id
    current: float

    @property
    def error_bound_deg(self) -> float:
        """Angle error that the cross answer would mean."""
        along = 0.5 * (self.forward - self.backward)
        return math.degrees(math.atan2(abs(self.cross), max(along, 1e-9)))

    @property
    def imbalance(self) -> float:
        """Difference of the two ways over their sum."""
        return abs(self.forward + self.backward) / max(self.forward - self.backward, 1e-9)


def may_push(session: Session, turning: Turning) -> bool:
    """Whether the axis stays put without current: no brake that would open, no load that pulls."""
    return not session.axis.has_brake and abs(math.sin(turning.bias)) < FREE_OF_LOAD


def confirm_by_pushing(session: Session, centre: float) -> tuple[Confirmation, Recording] | None:
    """Push with torque current both ways, and with field current, which must not push.

    None where only the torque current moved it, and a motor that swings on its shaft told nothing clear of either way
    before it ran as fast as was agreed to: strokes in a loop tell then. Raises `NotConfirmed`.
    """
    session.enter("confirming by torque per amp", 0.8)
    share, longer, limit = SHARE, 1.0, session.consent.speed
    # The shortest push there is must not carry a light axis beyond what was agreed to.
    gentle = FASTEST * limit / (SHORTEST * session.rates.velocity) * 0.6 * session.axis.inertia
    share = min(share, gentle / (session.axis.motor.torque_constant * session.current_continuous))
    least = 0.0
    result: Confirmation | None = None
    for _ in range(TRIES):
        current = share * session.current_continuous
        try:
            forward, backward, record = _push(session, "current_q", current, longer, centre)
            across = _push(session, "current_d", current, longer, centre)
        except AxisStopped as stopped:
            if not stopped.ran_too_fast or result is None or result.error_bound_deg > MOST_CROSS:
                raise
            session.standstill()
            session.note("The motor swings on its shaft: pushes told nothing clear before it ran as fast as agreed to.")
            return None
        result = Confirmation(forward, backward, 0.5 * (across[0] - across[1]), current)
        if forward > LEAST_ANSWER and backward < -LEAST_ANSWER and result.imbalance < CLEAR:
            break
        # A heavy load behind a springy shaft: long pushes show it, more current only makes the spring swing more. One
        # that sticks needs more current. As much of both as the speed seen so far allows.
        seen = max(float(np.abs(record["velocity"]).max()), 1e-9)
        room = ROOM * limit / seen
        if share < SHARE and min(forward, -backward) < LEAST_ANSWER and seen < STUCK * limit:  # with less it sticks
            least, longer = MOST_SHARPER * share, 0.5 * longer
        lengthened = min(max(room, LEAST_LONGER), MOST_LONGER)
        sharpened = min(max(room / MOST_LONGER, LEAST_SHARPER), MOST_SHARPER, FULL * room / ROOM / lengthened)
        longer = min(longer * lengthened, LONGEST)
        share = min(max(share * sharpened, least), SHARE_MOST)
        session.note(f"{100 * current / session.current_continuous:.0f} % current gave no clear answer; pushed on.")
    assert result is not None
    if forward <= 0 or backward >= 0:
        raise NotConfirmed(
            what="Torque current did not push the way it should "
            f"({forward:.0f} and {backward:.0f} rad/s² for plus and minus)."
        )
    if result.error_bound_deg > MOST_CROSS:
        raise NotConfirmed(
            what=f"Field current pushed the shaft: the offset is off by about {result.error_bound_deg:.0f}°."
        )
    return result, record


def _push(session: Session, point: str, current: float, longer: float, centre: float) -> tuple[float, float, Recording]:
    """Push forward, back twice as long, forward: it ends near rest where it began. Accelerations of both ways."""
    axis = session.axis
    # Long against the period of a resonance, or its swing would be read as acceleration; the guard on speed holds
    # should the load be much lighter than entered.
    expected = current * axis.motor.torque_constant / (0.6 * axis.inertia)
    length = int(
        longer * np.clip(round(FASTEST * session.consent.speed / expected / session.rates.velocity), SHORTEST, 320)
    )
    pulse = np.concatenate([np.full(length, current), np.full(2 * length, -current), np.full(length, current)])
    with session.enabled_around("current", centre):
        record = session.excite_and_record(
            ["position", "i_q", "i_d", "velocity"], point, pulse, divider=session.rates.ticks, repeats=1
        )
    session.standstill()
    x, t = record["position"], record.period
    # Parabolas through the two ways; the first samples of each are left to the current's rise.
    first, second = slice(length // 4, length), slice(length + length // 4, 3 * length)

    def curvature(part: slice) -> float:
        n = np.arange(part.stop - part.start) * t
        return float(2 * np.polyfit(n, x[part], 2)[0])

    return curvature(first), curvature(second), record


def torque_against(session: Session, turning: Turning) -> float:
    """Return the torque that carries the load, from where it held the shaft beside the vector. [N·m]"""
    return -math.sin(turning.bias) * turning.current * session.axis.motor.torque_constant


def friction_seen(session: Session, turning: Turning) -> float:
    """Return the sliding friction by which the shaft lagged behind the vector, both ways. [N·m]"""
    behind = math.sin(min(turning.lag, math.pi / 2)) * math.cos(turning.bias)
    return max(behind, 0.0) * turning.current * session.axis.motor.torque_constant


def held_load(session: Session, turning: Turning) -> HeldLoad:
    """Return what the load pulls with, for what follows; one within the doubt of a held angle is none."""
    pulls = abs(math.sin(turning.bias)) >= FREE_OF_LOAD
    return HeldLoad(
        constant=torque_against(session, turning) if pulls else 0.0,
        entered=session.axis.mechanism.torque_constant_load,
    )


def refine_by_spinning(
    session: Session, held: float, pushed: Confirmation | None, *, most: float | None = None, rubs: float = 0.0,
) -> tuple[Estimated, Recording]:  # fmt: skip
    """Spin both ways and read from the back-EMF by how much the angle is ahead, at one top speed.

    A held vector rests where load torque and friction leave it; the back-EMF of the turning rotor knows neither. `held`
    is the torque that carries the load, there from the first moment [N·m]; `most` is by how much the angle may be off;
    `rubs` the friction as far as it is known, for a loop that cannot overcome it [N·m].
    Raises `NotConfirmed`.
    """
    session.enter("spinning to refine the angle", 0.9)
    v, motor = session.values, session.axis.motor
    pairs, psi = v["motor.pole_pairs"], v["motor.flux_linkage"]
    kept = {k: v[k] for k in ("velocity.gain", "velocity.reset_time", "load.inertia")}
    inertia = v["load.inertia"]
    if pushed is not None and pushed.forward > 0:
        seen = motor.torque_constant * pushed.current * 2 / (pushed.forward - pushed.backward)
        inertia = float(np.clip(seen, 0.5 * motor.inertia, 30 * inertia))
    # A careful loop for the inertia that was just felt: the one entered may be far off.
    heavier = inertia / v["load.inertia"]
    stiffer = min(heavier, STIFFER)  # behind a springy shaft a heavy load leaves the motor's own inertia to the loop
    session.write({
        "velocity.gain": kept["velocity.gain"] * stiffer, "load.inertia": inertia,
        "velocity.reset_time": kept["velocity.reset_time"] * heavier / stiffer,
    })  # fmt: skip
    try:
        record = _spun(session, held, rubs=rubs)
    finally:
        session.write(kept)
    means = block_means(record)
    fast = np.abs(means["speed"]) > 0.35 * np.abs(means["speed"]).max()
    error = angle_error_from_spinning(
        pairs * means["speed"][fast], means["v_d"][fast], means["i_q"][fast], flux_linkage=psi,
        inductance=v["motor.inductance"],
    )  # fmt: skip
    if abs(error.value) > (MOST_REFINEMENT if most is None else most):
        raise NotConfirmed(
            what=f"The back-EMF of the turning rotor says the offset is {math.degrees(error.value):.0f}° off."
        )
    return error, record


def _spun(session: Session, held: float, *, rubs: float) -> Recording:
    """Spin both ways; where a load that pulls makes the soft loop run over the speed agreed to, once more, slower.

    And where it does so again, with less gain: behind a shaft that hardly damps itself the motor alone swings, about a
    speed that is as it should be. Where the loop hardly turns the axis, it is led by the inertia entered and most of
    the friction known.
    """
    for share, gain in SPINS:
        if gain != 1.0:
            v = session.values
            session.write({
                "velocity.gain": gain * v["velocity.gain"], "velocity.reset_time": v["velocity.reset_time"] / gain,
            })  # fmt: skip

        def spun(lead: Lead | None = None, top: float = share * SPIN_SHARE) -> tuple[Recording, FloatArray]:
            return back_and_forth(session, SPIN, strokes=(1.0, -1.0), torque=held, top=top, softest=SOFT, lead=lead)

        try:
            record, wave = spun()
            meant = float(np.ptp(np.cumsum(wave))) * session.rates.velocity
            if rubs > 0.0 and float(np.ptp(record["position"])) < TURNED * meant:
                record, _ = spun(Lead(1.0, found=LED * rubs))
        except AxisStopped as stopped:
            if (share, gain) == SPINS[-1] or not stopped.ran_too_fast:
                raise
            session.standstill()
            how = f"at {100 * SLOWER:.0f} % of the speed" if share == 1.0 else f"with {100 * GENTLER:.0f} % of the gain"
            session.note(f"It ran faster than agreed to; spun again {how}.")
        else:
            return record
    raise AssertionError("unreachable")


def confirmation_from_spin(record: Recording, session: Session) -> Confirmation:
    """Return torque per amp both ways from the strokes: acceleration per current, speeding up either way."""
    means = block_means(record)
    speed, current = means["speed"], means["i_q"]
    rate = np.gradient(speed, 40 * record.period)
    top = np.abs(rate).max()
    answers = []
    for way in (1.0, -1.0):
        going = (way * speed > 0.05 * np.abs(speed).max()) & (np.abs(rate) > 0.15 * top)
        if going.sum() < 4:
            raise NotConfirmed(what="The strokes were too short to compare torque per amp both ways.")
        slope = np.polyfit(rate[going], current[going], 1)[0]
        answers.append(1 / slope if slope > 0 else 0.0)
    at = 0.5 * session.current_continuous
    if min(answers) <= 0:
        raise NotConfirmed(what="Acceleration did not go with torque current.")
    return Confirmation(answers[0] * at, -answers[1] * at, 0.0, at)
