"""What only the stand-in has: a mains switch, a hand on its shaft, wires that can be changed. Not for procedures."""

from collections.abc import Mapping, Sequence
from typing import Any

from cadrel.link.linked_drive import Link


class StandIn:
    """The stand-in's own commands, for its page and for evidence."""

    def __init__(self, link: Link, axis: str) -> None:
        self.link = link
        self.axis = axis

    def _call(self, method: str, **params: Any) -> Any:
        return self.link.call(method, {"axis": self.axis, **params})

    def power_switch(self, on: bool) -> None:
        """The stand-in's mains switch."""
        self._call("bench.power", on=on)

    def turn_by_hand(self, angle: float, seconds: float) -> None:
        """Turn the stand-in's shaft from outside, power off. [rad], [s] Raises `RefusedByDrive`."""
        self._call("bench.turn", angle=angle, seconds=seconds)

    def rig(self) -> dict[str, Any]:
        """The stand-in's wiring and load as they are: for its own page only."""
        return dict(self._call("bench.rig"))

    def rewire(self, changes: Mapping[str, Any], faults: Sequence[str]) -> None:
        """Change the stand-in's wiring, device or load, power off. Raises `RefusedByDrive`."""
        self._call("bench.rewire", changes=dict(changes), faults=list(faults))

    def set_switch(self, name: str, closed: bool) -> None:
        """The stand-in's safety and enable inputs."""
        self._call("bench.switch", name=name, closed=closed)
