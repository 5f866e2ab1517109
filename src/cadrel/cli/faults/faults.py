"""The faults: what is done to which part, and what must hold then."""

from dataclasses import dataclass

JOG, WORKER, WATCH = 0.2, 1.0, 3.0  # [s] of drive time to standstill: held jog; worker lost; nobody watches


@dataclass(frozen=True, slots=True)
class Fault:
    """One kind of fault."""

    key: str
    label: str
    part: str
    means: str  # "kill", "freeze", "cut", "close", "fill"
    seconds: float = 0.0  # how long a freeze lasts
    stops_jog: float | None = None  # [s] of drive time within which a held jog must stand; None: it may go on
    stops_run: float | None = None  # [s] the same of a procedure; None: it goes on, and its result is kept

    def stops(self, situation: str) -> float | None:
        """Within what a situation must come to a standstill; a shaft turned by hand is no motion of the drive's."""
        if situation == "feedback":
            return None
        return self.stops_jog if situation == "jog" else self.stops_run


FAULTS = (
    Fault("kill-web", "web process killed", "web", "kill", stops_jog=JOG),
    Fault("kill-live", "live process killed", "live", "kill"),
    Fault("kill-worker", "worker killed", "worker", "kill", stops_run=WORKER),
    Fault("kill-stand-in", "stand-in killed", "stand-in", "kill", stops_jog=JOG, stops_run=JOG),
    Fault("kill-database", "database server killed", "database", "kill"),
    Fault("kill-supervisor", "supervisor killed", "supervisor", "kill", stops_jog=JOG, stops_run=WORKER),
    Fault("cut-worker", "the worker's database connection cut", "worker", "cut"),
    Fault("cut-others", "every other database connection cut", "web", "cut"),
    # The streams only: a held button's beats go on, as those of a page that has lost its stream would.
    Fault("close-pages", "every stream of the one who leads closed", "live", "close", stops_jog=WATCH, stops_run=WATCH),
    Fault("freeze-web", "web process frozen", "web", "freeze", 4.0, stops_jog=JOG),
    Fault("freeze-live", "live process frozen", "live", "freeze", 5.0, stops_jog=WATCH, stops_run=WATCH),
    Fault("freeze-worker", "worker frozen", "worker", "freeze", 5.0, stops_run=WORKER),
    Fault("freeze-database", "database server frozen", "database", "freeze", 5.0),
    Fault("freeze-stand-in", "stand-in frozen", "stand-in", "freeze", 3.0),
)
SITUATIONS = ("jog", "feedback", "commutation", "current", "load", "velocity", "position", "acceptance")
