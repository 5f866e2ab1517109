"""Hall codes over a turn -> what is wired wrongly, sequence, edges."""

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
NORMAL = (1, 3, 2, 6, 4, 5)  # forward, three signals 120° apart
MIRRORED = (1, 5, 4, 6, 2, 3)
SIXTY_MASK = 2  # with 60° spacing the middle signal is the inverse of what 120° spacing has


@dataclass(frozen=True, slots=True)
class HallFault:
    """What is wrong with the signals: a code, in words, and what to do."""

    code: str  # "absent", "dead", "inverted", "order"
    text: str
    remedy: str


@dataclass(frozen=True, slots=True)
class HallMap:
    """What a slow turn showed of the Hall signals."""

    mirrored: bool
    offset: float  # [rad] electrical angle entering state 1, forward
    edge_errors: tuple[float, ...]  # [rad] of each of the six edges against the even grid
    edges: tuple[float, ...] = ()  # [rad] electrical, of the six edges in the order of the forward sequence
    hysteresis: float = 0.0  # [rad] an edge comes so much later forward than back
    fault: HallFault | None = None

    @property
    def ring(self) -> tuple[int, ...]:
        """States in forward order."""
        return MIRRORED if self.mirrored else NORMAL


def learn_halls(
    angle_up: FloatArray, hall_up: IntArray, angle_down: FloatArray, hall_down: IntArray, *, spacing: int = 120
) -> HallMap:
    """Return sequence, offset and edge placement from records of a forward and a backward turn.

    Parameters
    ----------
    angle_up, angle_down : ndarray, shape (n,)
        Electrical angle of the rotor, with the offset applied. [rad]
    hall_up, hall_down : ndarray of int, shape (n,)
        Hall codes.
    spacing : int
        120 or 60. [°]
    """
    mask = SIXTY_MASK if spacing == 60 else 0
    up, down = hall_up ^ mask, hall_down ^ mask
    order = _sequence(up)
    mirrored = _matches(order, MIRRORED) and not _matches(order, NORMAL)
    fault = hall_fault(np.concatenate([hall_up, hall_down]), order, spacing=spacing)
    if fault is not None:
        return HallMap(mirrored, 0.0, (0.0,) * 6, fault=fault)
    ring = MIRRORED if mirrored else NORMAL
    means, widths = [], []
    for k in range(6):
        before, after = ring[k - 1], ring[k]
        # Each way for itself: hysteresis and friction move the edge apart, as often here as there.
        ways = [_edge_angles(angle_up, up, before, after), _edge_angles(angle_down, down, after, before)]
        seen = [complex(np.exp(1j * (w - k * math.pi / 3)).mean()) for w in ways if w.size]
        if not seen:
            text = f"No edge into state {after ^ mask} was seen."
            return HallMap(mirrored, 0.0, (0.0,) * 6, fault=HallFault("order", text, "Let the shaft turn further."))
        if len(seen) == 2:
            widths.append(float(np.angle(seen[0] / seen[1])))
        mean = sum(seen, 0j)
        means.append(mean / abs(mean))
    total = sum(means, 0j)
    offset = math.atan2(total.imag, total.real)
    errors = tuple(float(np.angle(e * np.exp(-1j * offset))) for e in means)
    edges = tuple(math.remainder(offset + k * math.pi / 3 + errors[k], 2 * math.pi) for k in range(6))
    return HallMap(mirrored, offset, errors, edges, float(np.mean(widths)) if widths else 0.0)


def hall_fault(codes: IntArray, order: list[int], *, spacing: int) -> HallFault | None:
    """Return what is wrong with the codes of a whole turn, or None.

    Parameters
    ----------
    codes : ndarray of int
        As they came.
    order : list of int
        Their sequence forward, brought to 120° spacing.
    """
    still = [k + 1 for k in range(3) if len(np.unique(codes >> k & 1)) < 2]
    check = "Check its wire and the Hall supply, then run this again."
    if len(still) == 3:
        text = f"The Hall signals showed {int(codes[0])} all the time."
        return HallFault("absent", text, "Check the Hall plug and its supply, or enter that there are none.")
    if still:
        names = " and ".join(str(k) for k in still)
        return HallFault("dead", f"Hall {names} did not change over a whole turn.", check)
    if _matches(order, NORMAL) or _matches(order, MIRRORED):
        return None
    for k in range(3):
        turned = [c ^ (1 << k) for c in order]
        if _matches(turned, NORMAL) or _matches(turned, MIRRORED):
            other = 60 if spacing == 120 else 120
            text = f"Hall {k + 1} is inverted: with it turned over the six states come in order."
            if spacing == 60:
                text += " Hall wires exchanged among such a set show the same."
            elif k == 1:  # the same pattern as the other spacing has
                text += f" Halls spaced {other}° would show the same."
            return HallFault("inverted", text, "Exchange the wires of that Hall, or enter the other spacing.")
    shown = "-".join(map(str, order[:8]))
    return HallFault("order", f"The states came as {shown}, an order no three Halls give.", check)


def _sequence(hall: IntArray) -> list[int]:
    keep = np.concatenate([[True], np.diff(hall) != 0])
    return [int(h) for h in hall[keep]]


def _matches(order: list[int], ring: tuple[int, ...]) -> bool:
    """Whether most transitions follow the ring; a few backward steps of a trembling shaft do no harm."""
    steps = list(pairwise(order))
    good = sum(1 for a, b in steps if a in ring and b == ring[(ring.index(a) + 1) % 6])
    return len(steps) >= 5 and good >= 0.8 * len(steps)


def _edge_angles(angle: FloatArray, hall: IntArray, before: int, after: int) -> FloatArray:
    at = np.nonzero((hall[:-1] == before) & (hall[1:] == after))[0]
    return 0.5 * (angle[at] + angle[at + 1])
