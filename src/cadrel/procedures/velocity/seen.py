"""What a proposal of a velocity loop rests on, what it must bear, and what is seen of it at rest."""

import math
from dataclasses import dataclass

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.identification import PlantFit, Play, SpringyLoad, Unrest
from cadrel.core.response import FrequencyResponse
from cadrel.core.tuning import noise_behind
from cadrel.procedures.plant.scatter import FAINTLY, PRECISE
from cadrel.procedures.play import Closed, damping_of, rise_of
from cadrel.procedures.session import Session

FIRMLY = 2.0  # a limit cycle does not fall with the gain as noise does: more is taken back than noise would ask
LESS = 1.4  # times the noise, that the next proposal is made for where the twin tells what rests
# Times the ripple that noise explains, and of the budget: beyond both it hunts, and scatters more than noise does.
UNEXPLAINED, HEARD = 2.5, 0.8
CALM = 0.3  # damping of a section's poles at the least, for an axis that hunts
WITHIN = 0.88  # of the ripple asked for, that a proposal may use: the position loop adds a tenth, a look scatters
MOST_AT_ONCE = 6.0  # times the budget: a loop that hunts gets so much less gain in the next proposal
# Time constants of the position loop in the settling time, once a move has settled late with a slow one whatever the
# twin foresaw: what it leaves falls to a twentieth then.
ONCE_LATE = 3.0
ALIKE = 1e-3  # of a frequency, within which two lines are the same
FREE = (math.inf, math.inf)  # of its twin a proposal may do what it will
FAR_BEYOND = 2.5  # times the ripple asked for, from which on a proposal that makes its twin hunt is not looked at


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Seen:
    """What a proposal rests on."""

    measured: FrequencyResponse
    fit: PlantFit
    closed: Closed | None  # the resonance swung strongly
    moved: float  # share by which the resonance moves with amplitude, beside its play
    noise: float  # [rad/s] of the raw speed that a proposal must bear: the device's, or what hunting is owed for
    device: float  # [rad/s] of it the device's own, as it stood under the loop from before
    open_hz: float | None = None  # [Hz] of its resonance, the highest that was seen around a loop; None: none was
    moving: float = 0.0  # [rad/s] of the raw speed while the axis moves, rms
    flicker: float = 0.0  # [rad] rms of the position that the device shows of the axis at rest
    beyond: FrequencyResponse | None = None  # higher lines, where the device can be read so high
    hunts: bool = False  # it trembles at rest by more than the noise explains
    plain: bool = False  # whatever had sections ran away
    hunted: "Looked | None" = None  # the last proposal that an axis at rest hunted with

    @property
    def play(self) -> Play | None:
        """The gap between motor and load, where one is seen."""
        return self.closed.play if self.closed is not None and self.closed.play.is_seen else None

    @property
    def known(self) -> FrequencyResponse:
        """The lines that are known well enough to propose something by, those beyond the others with them."""
        return with_beyond(self.measured, self.beyond)

    @property
    def moves(self) -> float:
        """The share by which the resonance may lie elsewhere: it moves with amplitude, or only its flank is seen."""
        return max(self.moved, doubt_beyond(self.fit))

    @property
    def softer(self) -> float:
        """The share by which the resonance was seen higher before, that play explains; 0 where none is seen.

        A shaft with play is softer the less it swings: each measurement around a loop finds another one, and none is
        where it drifts from.
        """
        resonance = self.fit.load.resonance_hz
        if self.play is None or resonance is None or self.open_hz is None:
            return 0.0
        return max(self.open_hz / resonance - 1, 0.0)

    @property
    def springy(self) -> SpringyLoad:
        """The load as it is known by now."""
        return SpringyLoad(
            load=self.fit.load, small_signal_resistance=self.fit.winding.resistance,
            measured=self.known, moved=self.moves, rise=rise_of(self.closed, self.fit),
            closed_damping=damping_of(self.closed, self.fit), softer=self.softer,
            play=0.0 if self.play is None else self.play.width.value,
            noise=self.noise, flicker=self.flicker,
        )  # fmt: skip

    def asked(self, asked: Robustness) -> Robustness:
        """Return what must be honoured on this plant."""
        rise, damping = rise_of(self.closed, self.fit), damping_of(self.closed, self.fit)
        return asked.where_it_moves(
            self.moves, rise=rise, damping=damping, softer=self.softer, seen_hz=self.fit.seen_hz
        )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Looked:
    """Gains that the axis was looked at with, at rest."""

    gains: Gains
    limited_by: str
    noise: float  # [rad/s] of the raw speed that they were asked to bear
    ripple: float  # [N·m] of torque at rest, rms
    swings: int  # how often the drive halved them, the loop swinging ever wider
    hunts: bool  # trembles by more than was asked, and by more than its noise explains
    loud: bool  # trembles by more than was asked, whatever explains it
    owed: float  # [rad/s] of the raw speed, that gains must bear which tremble less
    most_gain: float  # [N·m·s/rad] that they were allowed
    sways: float = 0.0  # [rad] to either side, where that is more than an axis at rest may
    on_twin: float = 0.0  # [N·m] rms, of ripple at rest foreseen
    beyond: "Looked | None" = None  # a stiffer one that was not looked at: its twin hunts
    plainest: float = 0.0  # [N·m/rad], integral gain of the stiffest with filters alone that was proposed beside it
    is_eased: bool = False  # it hunts with the quickest position loop around it, and not with a slower one


@dataclass(frozen=True, slots=True, kw_only=True)
class Bearing:
    """What a proposal must bear, or have no more of."""

    noise: float  # [rad/s] of the raw speed
    damping: float  # of its sections' poles
    most_gain: float = math.inf  # [N·m·s/rad]
    # Ripple of the twin, calmest and worst, of what was asked for: beyond either no proposal is looked at.
    on_twin: tuple[float, float] = (FAR_BEYOND, math.inf)
    shape: Gains | None = None  # of this shape, with no more gain: nothing is searched where that is stiff enough
    least: float = 0.0  # [N·m/rad] of its integral gain, that is enough
    until_calm: bool = False  # with as much less gain than the shape as the twin wants
    plain: bool = False  # with filters alone

    @property
    def is_free_of_twin(self) -> bool:
        """Whether the stiffest is looked at, whatever the twin does with it."""
        return self.on_twin == FREE and not self.plain and self.shape is None


def resonance_seen(fit: PlantFit) -> float | None:
    """Return where a resonance was seen; None where there is none, or its flank alone was. [Hz]"""
    resonance = fit.load.resonance_hz
    return resonance if resonance is not None and resonance < fit.seen_hz else None


def doubt_beyond(fit: PlantFit) -> float:
    """Return the share by which a resonance may lie elsewhere of which only the flank is seen; 0 where it was seen."""
    resonance = fit.load.resonance_hz
    if resonance is None or resonance_seen(fit) is not None or fit.resonance_std is None:
        return 0.0
    return fit.resonance_std / resonance


def with_beyond(measured: FrequencyResponse, beyond: FrequencyResponse | None) -> FrequencyResponse:
    """Return the precise lines of a measurement, and lines beyond them that tell what rings there."""
    precise = measured.precise(PRECISE)
    return precise if beyond is None else precise.filled_from(beyond, sure=FAINTLY, apart=ALIKE)


def budget(session: Session) -> float:
    """Return the ripple of torque at rest that was asked for. [N·m] rms"""
    return session.axis.robustness.ripple * session.axis.motor.torque_constant * session.current_continuous


def borne(session: Session, noise: float, gains: Gains) -> float:
    """Return the noise that gains were asked to bear, or what they bear without having been asked to. [rad/s]"""
    return max(noise, noise_behind(WITHIN * budget(session), gains))


def unrest_with(session: Session, gains: Gains) -> Unrest:
    """Return what the velocity loop must bear from now on, where an axis swung or trembled with these gains."""
    before = session.plant.unrest
    return Unrest(noise=FIRMLY * noise_behind(WITHIN * budget(session), gains), late=before is not None and before.late)


def stiffer(one: Gains, other: Gains) -> float:
    """Return how much more gain one loop has, by the integral gains: these go with its square in loops of one shape."""
    stiffness = [gains.velocity_gain / gains.velocity_reset for gains in (one, other)]
    return math.sqrt(stiffness[0] / stiffness[1])
