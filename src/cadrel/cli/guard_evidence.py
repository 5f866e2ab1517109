"""Hanging axes with brakes: how far the load falls, whatever is done or lost. docs/evidence/guard.md"""

import math
from collections import Counter
from dataclasses import dataclass, field, replace
from multiprocessing import Pool
from pathlib import Path

import numpy as np

from cadrel.bench import DriveService
from cadrel.cli.draws import draw_bench
from cadrel.cli.unbraked_evidence import unbraked_part
from cadrel.core.axis import AxisModel, understand
from cadrel.core.errors import CadrelError
from cadrel.core.identification import IdentifiedPlant
from cadrel.core.parameters import Entry
from cadrel.core.power import MARGIN
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.core.simulation.layout import VECTOR
from cadrel.link import LinkedDrive, LocalLink
from cadrel.procedures import PROCEDURES, Session, in_order
from cadrel.procedures.route import load_project_values

SHARE_OF_TRAVEL = 0.01  # of what was agreed to, or
LEAST_DEG = 5.0  # of the motor, whichever is more: a load may sag so far
STEP = 0.002  # [s] between looks at the true shaft
AFTER = 0.5  # [s] watched after an end
PINS_AMONG = 5  # for so many benches behind friction one behind a pin
INTERRUPTED = ("STOP", "lost line")


@dataclass(slots=True)
class Hanging:
    """What became of one axis."""

    bench: int
    gravity: float  # of rated torque, signed
    ends: dict[str, str] = field(default_factory=dict)  # procedure -> ok, or why not
    sags: dict[str, float] = field(default_factory=dict)  # [°] of the motor, the worst while it was not led
    interrupted: dict[str, float] = field(default_factory=dict)  # [°] after STOP or a lost line
    allowed: float = LEAST_DEG  # [°]
    times: list[tuple[str, float, float, float]] = field(default_factory=list)  # what, set, true, found [s]
    held: tuple[float, float] | None = None  # [N·m] torque asked of the closed brake, and what it held
    cases: list[tuple[str, str, float, float]] = field(default_factory=list)  # predicted, seen, [J] predicted, found
    operated: str = "drive"

    @property
    def worst(self) -> float:
        """The farthest fall of all. [°]"""
        return max([*self.sags.values(), *self.interrupted.values(), 0.0])


def draw_hanging(rng: np.random.Generator, *, pin: bool = False) -> tuple[RigTruth, dict[str, Entry], float]:
    """Return a bench with a hanging load up to 60 % of rated torque, behind a brake, by friction or by a pin."""
    truth, values = draw_bench(rng)
    continuous = float(values["sheet.current_continuous"]["value"]) * math.sqrt(2)
    rated = 1.5 * truth.pole_pairs * truth.flux_linkage * continuous
    gravity = float(rng.uniform(0.1, 0.6) * rng.choice([-1, 1]))
    release, engage = float(rng.uniform(0.015, 0.08)), float(rng.uniform(0.01, 0.06))  # as its sheet has them
    truth = replace(
        truth, torque_load=gravity * rated, brake_torque=float(rng.uniform(1.6, 3.0)) * rated,
        brake_release=release * float(rng.uniform(0.7, 1.15)), brake_engage=engage * float(rng.uniform(0.7, 1.15)),
        brake_resistor=truth.brake_resistor * float(rng.uniform(0.7, 2.5)),
        controller_delay=float(rng.uniform(0.0, 0.005)),
        bus_capacitance=truth.bus_capacitance * float(rng.uniform(0.15, 1.0)),
    )  # fmt: skip
    operated = "controller" if rng.random() < 0.25 else "drive"
    values |= {
        "brake.fitted": {"value": operated, "source": "typed"},
        "brake.torque": {"value": truth.brake_torque, "unit": "N·m", "source": "sheet"},
        "power.brake_resistor": {"value": truth.brake_resistor, "unit": "ohm", "source": "sheet"},
        "power.bus_capacitance": {"value": 1e6 * truth.bus_capacitance, "unit": "µF", "source": "sheet"},
        "power.chopper_threshold": {"value": truth.chopper_on, "unit": "V", "source": "sheet"},
        "brake.release_delay": {"value": 1e3 * release, "unit": "ms", "source": "sheet"},
        "brake.engage_delay": {"value": 1e3 * engage, "unit": "ms", "source": "sheet"},
    }
    return (*_pinned(truth, values, rng, rated), gravity) if pin else (truth, values, gravity)


def _pinned(
    truth: RigTruth, values: dict[str, Entry], rng: np.random.Generator, rated: float
) -> tuple[RigTruth, dict[str, Entry]]:
    """The same axis behind a pin with up to 3° of play, that up to 5 % of the rated torque keep in its hole."""
    play, jam = float(rng.uniform(0.5, 3.0)), float(rng.uniform(0.01, 0.05)) * rated
    values |= {
        "brake.kind": {"value": "pin", "source": "sheet"},
        "brake.free_turn": {"value": 1.5 * play, "unit": "°", "source": "sheet"},
        "brake.free_torque": {"value": 0.8 * rated, "unit": "N·m", "source": "sheet"},
    }
    return replace(truth, brake_kind="pin", pin_play_deg=play, pin_jam=jam), values


class Watched(LocalLink):
    """A link that watches the true shaft: how far it goes, either way, while nothing was told to move it."""

    def __init__(self, drive: SimulatedDrive) -> None:
        service = DriveService({"axis": drive})
        super().__init__(service.answer, service.advance)
        self.drive = drive
        self.was_on = self.untold = self.was_shorted = False
        self.let_go = self.fallen = self.begun = self.lowest = self.highest = 0.0

    def wait(self, seconds: float) -> None:
        """As the link's own, in small steps."""
        left = seconds
        while left > 1e-9:
            super().wait(min(left, STEP))
            left -= STEP
            self.look()

    def look(self) -> None:
        """Note the shaft while the power stage is off."""
        s = self.drive.running.state
        on = bool(s.mode)
        if self.was_on and not on:
            self.let_go = float(s.theta1)
        if on and not self.was_on:
            self.begun, self.lowest, self.highest = float(s.theta1), float(s.vec_angle), float(s.vec_angle)
            self.untold = True
        if not on:
            self.fallen = max(self.fallen, abs(float(s.theta1) - self.let_go))
        elif s.mode == VECTOR and s.shorted:  # nothing leads it yet: all of it is a fall
            if not self.was_shorted:
                self.begun = float(s.theta1)
            self.fallen = max(self.fallen, abs(float(s.theta1) - self.begun))
        elif s.mode == VECTOR:  # led by the vector, and up to half an electrical turn to come to it
            pairs = self.drive.truth.pole_pairs
            if self.was_shorted:  # caught: from here the vector leads
                self.begun, self.lowest, self.highest = float(s.theta1), float(s.vec_angle), float(s.vec_angle)
            self.lowest, self.highest = min(self.lowest, float(s.vec_angle)), max(self.highest, float(s.vec_angle))
            led = (self.highest - self.lowest + math.pi) / pairs
            self.fallen = max(self.fallen, abs(float(s.theta1) - self.begun) - led)
        elif self.untold:  # a loop just closed, and nothing told yet: what it sags until it carries the load
            self.untold = not s.velocity_ref and not s.exc_now
            if self.untold:
                self.fallen = max(self.fallen, abs(float(s.theta1) - self.begun))
        self.was_on, self.was_shorted = on, bool(s.mode == VECTOR and s.shorted)


def try_bench(number: int, seed: int, *, pin: bool = False) -> Hanging:
    """Run every procedure on one axis, then interrupt moves of each closed loop."""
    truth, values, gravity = draw_hanging(np.random.default_rng([seed, number]), pin=pin)
    simulated = SimulatedDrive("axis", truth, seed=seed + number)
    link = Watched(simulated)
    drive, axis = LinkedDrive(link, "axis"), understand(values)
    sent = load_project_values(drive, values, owner="evidence")
    found, plant = Hanging(number, gravity), IdentifiedPlant()
    for procedure in in_order():
        consent = procedure.consent(axis, sent)
        found.allowed = max(LEAST_DEG, SHARE_OF_TRAVEL * math.degrees(consent.travel))
        found.allowed += math.degrees(sent["brake.free_turn"])
        link.let_go, link.fallen = float(simulated.running.state.theta1), 0.0
        begun = float(simulated.running.state.theta1)
        session = Session(drive=drive, axis=axis, consent=consent, plant=plant)
        try:
            outcome = procedure.run(session)
            plant = plant.with_part(outcome.plant)
            verdict = outcome.verdict
            good = verdict is None or verdict.is_proven
            found.ends[procedure.key] = "ok" if good or verdict is None else f"not proven: {verdict.reason}"
        except CadrelError as refusal:
            found.ends[procedure.key] = refusal.parts[0]
        link.wait(AFTER)
        fell = link.fallen
        if procedure.key == "current":  # nothing is told to move: all of it is a fall
            fell = max(fell, abs(float(simulated.running.state.theta1) - begun))
        found.sags[procedure.key] = math.degrees(fell)
        if found.ends[procedure.key] != "ok":
            break
    else:
        for key in ("stops", "brake"):
            _measure(key, found, link, drive, axis, plant, values)
        for how in INTERRUPTED:
            found.interrupted[how] = _interrupted(how, link, drive, axis, plant, sent)
    return found


def _measure(
    key: str, found: Hanging, link: Watched, drive: LinkedDrive, axis: AxisModel, plant: IdentifiedPlant,
    values: dict[str, Entry],
) -> None:  # fmt: skip
    """Run a procedure of the step of stops, and keep what it measured beside what is true."""
    procedure, truth, held = PROCEDURES[key], link.drive.truth, drive.read()
    link.let_go, link.fallen = float(link.drive.running.state.theta1), 0.0
    session = Session(drive=drive, axis=axis, consent=procedure.consent(axis, held), plant=plant)
    try:
        outcome = procedure.run(session)
    except CadrelError as refusal:
        found.ends[key] = refusal.parts[0]
        link.wait(AFTER)  # what was stopped ramps down, and its brake closes
        if drive.status()["fault"]:
            drive.reset_fault()
        return
    found.ends[key] = "ok"
    link.wait(AFTER)
    if drive.status()["fault"]:  # a stop that the bus ended is an outcome, and leaves its fault
        drive.reset_fault()
    if key == "stops":  # in the brake test the load is told to move
        found.sags[key] = math.degrees(link.fallen)
    for run in outcome.runs:
        if run.kind == "stop":
            m = run.metrics
            found.cases.append((m["predicted"], m["seen"], m["predicted_energy"], m["energy"]))
    for f in outcome.findings:
        if f.kind == "brake_release":
            found.times.append(("release", held["brake.release_delay"], truth.brake_release, f.value))
        elif f.kind == "brake_engage":
            found.times.append(("engage", held["brake.engage_delay"], truth.brake_engage, f.value))
        elif f.kind == "brake_holding":
            asked = next(c.asked for c in outcome.verdict.criteria) if outcome.verdict else 0.0
            found.held = (asked, f.value)


def _interrupted(
    how: str, link: Watched, drive: LinkedDrive, axis: AxisModel, plant: IdentifiedPlant, sent: dict[str, float]
) -> float:  # fmt: skip
    """How far the load falls after motion was stopped by hand, or its line was lost. [°]"""
    simulated = link.drive
    here, speed = float(drive.status()["position"]), 0.3 * axis.goal.velocity
    drive.enable(
        "velocity" if how == "lost line" else "position",
        guard_low=here - axis.goal.travel, guard_high=here + axis.goal.travel,
        guard_speed=1.2 * sent["limit.velocity"], torque=plant.carried(axis.mechanism.torque_constant_load),
    )  # fmt: skip
    link.wait(0.2)
    if how == "STOP":
        drive.jog(speed)
        link.wait(0.08)
        drive.stop("evidence", press="a press", by="evidence")
    else:
        drive.run_at(speed)  # and nothing is heard any more
    until = simulated.time + 8.0
    link.fallen = 0.0
    while simulated.running.state.mode and simulated.time < until:
        link.wait(STEP)
    link.wait(AFTER)
    return math.degrees(link.fallen)


def _one(arguments: tuple[int, int, bool]) -> Hanging:
    number, seed, pin = arguments
    return try_bench(number, seed, pin=pin)


def evidence(*, benches: int, seed: int, out: Path, cores: int) -> int:
    """Try the benches, print and write the table; exit status 1 if a load fell farther than it may."""
    rows = _tried(benches, seed, cores, pin=False)
    pinned = _tried(benches // PINS_AMONG, seed + 1, cores, pin=True)
    text = "\n".join([
        table(rows, benches, seed), *_pins(pinned), *unbraked_part(benches=benches // 3, seed=seed, cores=cores)
    ])  # fmt: skip
    print(text)
    out.write_text(text)
    return int(any(r.worst > r.allowed for r in [*rows, *pinned]))


def _tried(benches: int, seed: int, cores: int, *, pin: bool) -> list[Hanging]:
    rows: list[Hanging] = []
    with Pool(cores) as pool:
        for row in pool.imap_unordered(_one, [(k, seed, pin) for k in range(benches)]):
            rows.append(row)
            last = list(row.ends.items())[-1]
            print(f"{len(rows)}/{benches} bench {row.bench}: fell {row.worst:.1f}°, {last}", flush=True)
    return sorted(rows, key=lambda r: r.bench)


def _pins(rows: list[Hanging]) -> list[str]:
    """What became of axes that hang on a pin."""
    keys = [*(p.key for p in in_order()), "stops", "brake"]
    whole = [r for r in rows if all(r.ends.get(k) == "ok" for k in keys)]
    lines = [
        "## Behind a pin", "",
        "The same draws, held by a pin with 0.5 to 3° of play that up to 5 % of the rated torque keep in its hole.", "",
        f"Through the whole route, stops and brake test: {len(whole)} of {len(rows)}. Farthest fall "
        f"{max((r.worst for r in rows), default=0.0):.2f}°; farther than allowed: "
        f"{sum(r.worst > r.allowed for r in rows)}.", "",
    ]  # fmt: skip
    return [
        *lines,
        *(f"- bench {r.bench}: {key}: {why}" for r in rows for key, why in r.ends.items() if why != "ok"),
        "",
    ]


def _brakes(rows: list[Hanging]) -> list[str]:
    """Times and torque measured against the true ones."""
    lines = [
        "## Brakes, measured against true", "", "| | measured | error, median and worst | slower than waited for |",
        "| --- | --- | --- | --- |",
    ]  # fmt: skip
    for what in ("release", "engage"):
        of = [(set_, true, seen) for r in rows for name, set_, true, seen in r.times if name == what]
        if of:
            errors = [1e3 * abs(seen - true) for _, true, seen in of]
            slow = sum(seen > MARGIN * set_ for set_, _, seen in of)
            lines.append(f"| {what} | {len(of)} | {np.median(errors):.2f} ms, {max(errors):.2f} ms | {slow} |")
    held = [r.held for r in rows if r.held]
    lines.append(f"| holding torque | {len(held)} | held all that was asked: {sum(b >= 0.99 * a for a, b in held)} | |")
    return [*lines, ""]


def _buses(rows: list[Hanging]) -> list[str]:
    """Cases of the bus, predicted against seen."""
    lines = [
        "## The bus while it stops, predicted against seen",
        "",
        "| predicted | seen | stops |",
        "| --- | --- | --- |",
    ]
    pairs = Counter((p, s) for r in rows for p, s, _, _ in r.cases)
    lines += [f"| {p} | {s} | {n} |" for (p, s), n in sorted(pairs.items())]
    off = [abs(e / w - 1) for r in rows for _, s, w, e in r.cases if s == "resistor" and w > 1.0]
    if off:
        lines += [
            "",
            f"Energy in the resistor against predicted: median {np.median(off):.0%} off, of {len(off)} stops.",
        ]
    return [*lines, ""]


def table(rows: list[Hanging], benches: int, seed: int) -> str:
    """Return the document."""
    keys = [p.key for p in in_order()]
    through = Counter(k for r in rows for k in keys if r.ends.get(k) == "ok")
    reached = Counter(k for r in rows for k in r.ends)

    def worst(key: str) -> float:
        return max((r.sags[key] for r in rows if key in r.sags), default=0.0)

    lines = [
        "# Hanging loads",
        "",
        f"`bin/cadrel evidence guard --benches {benches} --seed {seed}`: drawn benches whose load hangs with 10 to "
        "60 % of the rated torque, either way, behind a brake that the drive or, a quarter of them, a controller "
        "operates, up to 5 ms late; its true times lie at 70 to 115 % of its sheet's (15 to 80 ms, 10 to 60 ms). The "
        "resistor is up to 2.5 times what is usual. The sheet says nothing of the load.",
        "",
        "A fall is how far the true shaft goes, either way, while the power stage is off, while a brake is "
        "open onto shorted windings, or a loop is closed that was told nothing yet; led by a vector, how far it goes "
        "beyond the vector's own way and half an electrical turn; in the current loop, where nothing is told to move, "
        f"at all. Allowed: {SHARE_OF_TRAVEL:.0%} of the travel agreed to, or {LEAST_DEG:.0f}° of the motor, whichever "
        "is more; of a pin also the turn that shows it to be out.",
        "",
        "| procedure | begun | came through | farthest fall |",
        "| --- | --- | --- | --- |",
        *(f"| {k} | {reached[k]} | {through[k]} | {worst(k):.2f}° |" for k in keys),
        *(
            f"| a jog, then {how} | {sum(how in r.interrupted for r in rows)} | | "
            f"{max((r.interrupted[how] for r in rows if how in r.interrupted), default=0.0):.2f}° |"
            for how in INTERRUPTED
        ),
        "",
        *_brakes(rows),
        *_buses(rows),
        f"**Fell farther than allowed: {sum(r.worst > r.allowed for r in rows)} of {len(rows)}.**",
        "",
        "| bench | gravity | ended | why |",
        "| --- | --- | --- | --- |",
    ]
    for r in rows:
        key, why = list(r.ends.items())[-1]
        if why != "ok":
            lines.append(f"| {r.bench} | {r.gravity:+.0%} | {key} | {why} |")
    return "\n".join(lines) + "\n"
