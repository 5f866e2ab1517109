"""What changes along the way of a back-and-forth run: friction by waves over it, torque by harmonics of the turn."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
Picked = NDArray[np.int64]
# Waves of friction over the way run, and over how much more than that way they repeat: a turn or so has few of what
# repeats with it, and over many they level out.
WAVES, BEYOND = 6, 1.25
HIGHEST, MOST_ORDERS = 60, 4  # order per turn, and how many of them: slots and poles, and their multiples
PERIODS = 2.0  # of an order that the way must hold


@dataclass(frozen=True, slots=True, eq=False)
class Along:
    """Columns of an equation, for spans of samples: those of `orders`, and of friction where it is `wavy`."""

    position: FloatArray  # [rad] shape (n,)
    span: int  # samples; an equation covers two
    orders: tuple[int, ...] = ()  # per turn
    wavy: bool = False

    def columns(self, pick: Picked, way: FloatArray) -> FloatArray:
        """Return what multiplies the unknowns in equations that begin at `pick`, moving one `way` or the other (±1)."""
        columns = [part for order in self.orders for part in _parts(self._turned(pick, (order,))[0])]
        if self.wavy:
            columns += list(self._friction(pick, way).T)
        return np.stack(columns, axis=1) if columns else np.empty((len(pick), 0))

    def strongest(self, rest: FloatArray, pick: Picked) -> int | None:
        """Return the order that takes most of what is left of the torque; None where the way holds none."""
        least = math.ceil(PERIODS * 2 * math.pi / max(float(np.ptp(self.position)), 1e-9))
        orders = tuple(k for k in range(max(least, 1), HIGHEST + 1) if k not in self.orders)
        if not orders:
            return None
        taken = []
        for turned in self._turned(pick, orders):
            columns = np.stack([*_parts(turned), np.ones(len(pick))], axis=1)
            solved, *_ = np.linalg.lstsq(columns, rest, rcond=None)
            taken.append(float(np.sum((columns @ solved) ** 2)))
        return orders[int(np.argmax(taken))]

    def _turned(self, pick: Picked, orders: tuple[int, ...]) -> list[NDArray[np.complex128]]:
        """Mean of exp(j order angle) over each equation's span, weighted as its torque is; one for each order."""
        window = np.arange(2 * self.span - 1)
        weights = np.convolve(np.ones(self.span), np.ones(self.span)) / self.span**2
        angle = self.position[pick[:, None] + window]
        return [np.exp(1j * order * angle) @ weights for order in orders]

    def _friction(self, pick: Picked, way: FloatArray) -> FloatArray:
        """Waves against the motion, level on average. Shape (picked, 2 WAVES).

        Going and coming by the same place with the same push tell friction and inertia apart, whatever rubs there.
        """
        x = self.position[pick + self.span]
        phase = 2 * math.pi / (BEYOND * float(np.ptp(x))) * np.outer(x - x.min(), np.arange(1, WAVES + 1))
        waves = np.hstack([np.cos(phase), np.sin(phase)])
        return np.asarray((waves - waves.mean(0)) * way[:, None])


def _parts(turned: NDArray[np.complex128]) -> tuple[FloatArray, FloatArray]:
    return turned.real, turned.imag
