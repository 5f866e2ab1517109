"""The identified plant: what commutation, load run and velocity run found of an axis, as one typed value."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import TwoMass, Winding, mechanics
from cadrel.core.errors import UnusableInput
from cadrel.core.response.estimate import FrequencyResponse


@dataclass(frozen=True, slots=True, kw_only=True)
class TotalLoad:
    """Everything that moves, seen from the motor as one mass. Of the load run."""

    inertia: float  # [kg·m²]
    viscous_total: float  # [N·m·s/rad] of motor and load together; the motor's own share is `TwoMass.viscous`
    coulomb: float  # [N·m]
    constant: float = 0.0  # [N·m] that holds what hangs or is pulled, at standstill
    inertia_std: float = 0.0  # [kg·m²]; 0 where it is not stated

    def as_dict(self) -> dict[str, Any]:
        """Return plain values."""
        return asdict(self)

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> Self:
        """Return what `as_dict` gave. Raises `KeyError`."""
        needed = {k: float(plain[k]) for k in ("inertia", "viscous_total", "coulomb")}
        return cls(**needed, **{k: float(plain.get(k, 0.0)) for k in ("constant", "inertia_std")})


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SpringyLoad:
    """Motor and load on their spring, and the response they were read from. Of the velocity run."""

    load: TwoMass
    small_signal_resistance: float  # [ohm] as small currents meet the winding: dead time is in it
    measured: FrequencyResponse  # torque command to unfiltered speed
    moved: float = 0.0  # share by which its resonance moved from one amplitude to another, its play left aside
    rise: float = 0.0  # share by which its resonance lies higher once play between motor and load is closed
    closed_damping: float = 1.0  # of the damping of `load`: what is left of it then
    softer: float = 0.0  # share by which its resonance was seen higher before, with its play open as well
    play: float = 0.0  # [rad] whole, at the motor; 0: none seen
    noise: float | None = None  # [rad/s] rms of the raw speed at rest; None: not looked at
    flicker: float = 0.0  # [rad] rms of the position that the device shows of an axis at rest

    def as_dict(self) -> dict[str, Any]:
        """Return plain values; rounded far below what any measurement resolves."""
        m = self.measured
        return {
            "load": asdict(self.load),
            "small_signal_resistance": self.small_signal_resistance,
            "moved": self.moved,
            "rise": self.rise,
            "closed_damping": self.closed_damping,
            "softer": self.softer,
            "play": self.play,
            "noise": self.noise,
            "flicker": self.flicker,
            "measured": {
                "f": np.round(m.frequency, 6).tolist(),
                "re": [float(f"{v:.9g}") for v in m.value.real],
                "im": [float(f"{v:.9g}") for v in m.value.imag],
                "coherence": np.round(m.coherence, 5).tolist(),
                "std": [float(f"{v:.4g}") for v in m.std],
            },
        }

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> Self:
        """Return what `as_dict` gave. Raises `KeyError`."""
        m = {k: np.array(v, dtype=np.float64) for k, v in plain["measured"].items()}
        return cls(
            load=TwoMass(**plain["load"]),
            small_signal_resistance=float(plain["small_signal_resistance"]),
            measured=FrequencyResponse(m["f"], m["re"] + 1j * m["im"], m["coherence"], m["std"]),
            **{k: float(plain.get(k, 0.0)) for k in ("moved", "rise", "softer", "play", "flicker")},
            closed_damping=float(plain.get("closed_damping", 1.0)),
            noise=plain.get("noise"),
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class HeldLoad:
    """The constant torque by which a held vector was pulled aside. Of commutation, until the load run finds it better.

    It rests on the sheet's torque constant. What was entered of the load at that time is kept beside it: where that is
    changed afterwards, what was found moves with it.
    """

    constant: float  # [N·m] that holds what hangs or is pulled, at standstill
    entered: float  # [N·m] as the mechanism's entries told it then

    def as_dict(self) -> dict[str, Any]:
        """Return plain values."""
        return asdict(self)

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> Self:
        """Return what `as_dict` gave. Raises `KeyError`."""
        return cls(constant=float(plain["constant"]), entered=float(plain["entered"]))


@dataclass(frozen=True, slots=True, kw_only=True)
class RubbedLoad:
    """Friction over speed, of everything that moves. Of the friction run."""

    sliding: float  # [N·m]
    viscous: float  # [N·m·s/rad]
    breakaway: float | None = None  # [N·m]; None: not above sliding
    stribeck_speed: float | None = None  # [rad/s] at which 1/e of what breakaway is more is left

    def as_dict(self) -> dict[str, Any]:
        """Return plain values."""
        return asdict(self)

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> Self:
        """Return what `as_dict` gave. Raises `KeyError`."""
        return cls(
            sliding=float(plain["sliding"]), viscous=float(plain["viscous"]), breakaway=plain["breakaway"],
            stribeck_speed=plain["stribeck_speed"],
        )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class ChainLoad:
    """Masses one behind the other on springs, from the motor on. Of a response of the velocity loop in motion."""

    inertias: tuple[float, ...]  # [kg·m²] (n,)
    springs: tuple[float, ...]  # [N·m/rad] (n - 1,) between neighbours
    losses: tuple[float, ...]  # [N·m·s/rad] (n - 1,) in the springs
    rubs: tuple[float, ...]  # [N·m·s/rad] (n - 1,) of the masses behind a spring, against the ground
    own: float  # [N·m·s/rad] of the motor against the ground

    def response(self, frequency: NDArray[np.float64]) -> NDArray[np.complex128]:
        """Return torque to speed of the motor: impedances from the outermost mass inwards. [Hz] -> [rad/s per N·m]"""
        s = np.asarray(2j * np.pi * frequency, dtype=np.complex128)
        behind: NDArray[np.complex128] = np.zeros(len(s), dtype=np.complex128)
        for k in range(len(self.springs), 0, -1):
            behind = behind + self.inertias[k] * s + self.rubs[k - 1]
            shaft = self.springs[k - 1] / s + self.losses[k - 1]
            behind = shaft * behind / (shaft + behind)
        return np.asarray(1 / (behind + self.inertias[0] * s + self.own), dtype=np.complex128)

    def as_dict(self) -> dict[str, Any]:
        """Return plain values."""
        return {k: v if k == "own" else list(v) for k, v in asdict(self).items()}

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> Self:
        """Return what `as_dict` gave. Raises `KeyError`."""
        rows = {k: tuple(float(v) for v in plain[k]) for k in ("inertias", "springs", "losses", "rubs")}
        return cls(**rows, own=float(plain["own"]))


@dataclass(frozen=True, slots=True, kw_only=True)
class Unrest:
    """What a velocity loop must bear for the axis to stand still after its moves, and soon. Of the acceptance."""

    noise: float = 0.0  # [rad/s] rms of the raw speed, that stands for what no run of the loop had shown
    late: bool = False  # a move settled late, the position loop being slow: it must be a quick one

    def as_dict(self) -> dict[str, Any]:
        """Return plain values."""
        return asdict(self)

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> Self:
        """Return what `as_dict` gave. Raises `KeyError`."""
        return cls(noise=float(plain["noise"]), late=bool(plain.get("late", False)))


PlantPart = TotalLoad | SpringyLoad | HeldLoad | RubbedLoad | ChainLoad | Unrest


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class IdentifiedPlant:
    """What is known of the plant; each part is None until found, and again once it has been retired."""

    total: TotalLoad | None = None
    springy: SpringyLoad | None = None
    held: HeldLoad | None = None
    rubbed: RubbedLoad | None = None
    chain: ChainLoad | None = None
    unrest: Unrest | None = None

    def asked_of_any(self, asked: Robustness) -> Robustness:
        """Return what loops must honour whatever the resonance: held by no more of dry friction than was found."""
        return asked if self.total is None else asked.where_friction_is(self.total.coulomb)

    def asked(self, asked: Robustness) -> Robustness:
        """Return what loops must honour: over a wider drift where the resonance was seen to move with amplitude.

        And held by no more of dry friction than there is.
        """
        asked = self.asked_of_any(asked)
        if self.springy is None:
            return asked
        s = self.springy
        return asked.where_it_moves(s.moved, rise=s.rise, damping=s.closed_damping, softer=s.softer)

    def with_part(self, part: PlantPart | None) -> Self:
        """Return the plant with a part found anew. A new total load retires what was found on the one before."""
        if isinstance(part, TotalLoad):
            return replace(self, total=part, springy=None, rubbed=None, chain=None, unrest=None)
        if isinstance(part, SpringyLoad):
            return replace(self, springy=part)
        if isinstance(part, HeldLoad):
            return replace(self, held=part)
        if isinstance(part, RubbedLoad):
            return replace(self, rubbed=part)
        if isinstance(part, ChainLoad):
            return replace(self, chain=part)
        if isinstance(part, Unrest):
            return replace(self, unrest=part)
        return self

    def carried(self, entered: float) -> float:
        """Return the torque that carries the load at standstill: as found, or as entered where nothing was. [N·m]"""
        if self.total is not None:
            return self.total.constant
        return entered if self.held is None else self.held.constant + entered - self.held.entered

    def mechanics(self, frequency: NDArray[np.float64]) -> NDArray[np.complex128]:
        """Return torque to speed of the motor as far as it is known: chain, motor and load, or one mass.

        [Hz] -> [rad/s per N·m]

        Raises
        ------
        UnusableInput
            Nothing is known of it.
        """
        if self.chain is not None:
            return self.chain.response(frequency)
        if self.springy is not None:
            return mechanics(self.springy.load, frequency)
        if self.total is None:
            raise UnusableInput(what="The load is not identified.", remedy="Run the load step first.")
        return mechanics(TwoMass(inertia_motor=self.total.inertia, viscous=self.total.viscous_total), frequency)

    def winding(self, working: Winding) -> Winding:
        """Return the winding as small currents meet it, or the one given where that was not found."""
        if self.springy is None:
            return working
        return replace(working, resistance=self.springy.small_signal_resistance)

    def as_dict(self) -> dict[str, Any]:
        """Return plain values."""
        parts = (
            ("total", self.total),
            ("springy", self.springy),
            ("held", self.held),
            ("rubbed", self.rubbed),
            ("chain", self.chain),
            ("unrest", self.unrest),
        )
        return {k: p.as_dict() for k, p in parts if p is not None}

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> Self:
        """Return what `as_dict` gave. Raises `KeyError`."""
        return cls(
            total=TotalLoad.from_dict(plain["total"]) if "total" in plain else None,
            springy=SpringyLoad.from_dict(plain["springy"]) if "springy" in plain else None,
            held=HeldLoad.from_dict(plain["held"]) if "held" in plain else None,
            rubbed=RubbedLoad.from_dict(plain["rubbed"]) if "rubbed" in plain else None,
            chain=ChainLoad.from_dict(plain["chain"]) if "chain" in plain else None,
            unrest=Unrest.from_dict(plain["unrest"]) if "unrest" in plain else None,
        )
