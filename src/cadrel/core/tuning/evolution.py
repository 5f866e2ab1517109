"""Differential evolution of several crowds at once, best/1/bin.

R. Storn, K. Price, J. Global Optimization 11 (1997) 341. The amplification is drawn anew for each generation, as SciPy
has it. SciPy's own evolves one crowd and draws each member's parents by itself: that took twice as long as all the
scores of a search together.
"""

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
Score = Callable[[FloatArray, FloatArray], FloatArray]
AMPLIFIED, CROSSED = (0.4, 0.9), 0.95  # of the members' difference; share of the figures that are new
ALIKE = 1e-4  # of a crowd's mean score: as little as its members differ when it is settled
CORES = os.cpu_count() or 1  # that share the scores: a compiled one works without the interpreter's lock


class Evolution:
    """Crowds that evolve side by side, none of them knowing of the others.

    Attributes
    ----------
    crowds : ndarray, shape (crowds, members, figures)
        As they are by now; after `keep` the best crowd is the first, and its best member its first.
    """

    def __init__(self, crowds: FloatArray, box: Sequence[tuple[float, float]], score: Score) -> None:
        """Begin with crowds, shape (crowds, members, figures), laid into the box of each figure's bounds.

        `score` is of members, one a column, the less the better; of each it is told what it must not exceed to be of
        use, and may leave it with any score above that.
        """
        self._low, self._high = np.array(box).T
        self._score, self._generation = score, 0
        self.crowds = np.clip(crowds, self._low, self._high)
        with ThreadPoolExecutor(CORES) as cores:
            self._scores = self._scored(self.crowds, np.full(crowds.shape[:2], np.inf), cores)

    def go_on(self, until: int, rng: np.random.Generator) -> None:
        """Go on up to a generation, or until the members of every crowd are alike."""
        with ThreadPoolExecutor(CORES) as cores:
            while self._generation < until and not self._is_settled():
                self._generation += 1
                trials = self._trials(rng)
                scores = self._scored(trials, self._scores, cores)
                better = scores <= self._scores
                self.crowds[better], self._scores[better] = trials[better], scores[better]

    def keep(self, most: int) -> None:
        """Give up all but the best crowds, the best one first, and in it its best member."""
        order = np.argsort(self._scores.min(axis=1), kind="stable")[:most]
        self.crowds, self._scores = self.crowds[order], self._scores[order]
        best = self._scores[0].argmin()
        self.crowds[0, [0, best]], self._scores[0, [0, best]] = self.crowds[0, [best, 0]], self._scores[0, [best, 0]]

    def _is_settled(self) -> bool:
        return bool(np.all(self._scores.std(axis=1) <= ALIKE * np.abs(self._scores.mean(axis=1))))

    def _trials(self, rng: np.random.Generator) -> FloatArray:
        """Return of every member one that may take its place."""
        crowds, members, figures = self.crowds.shape
        own, crowd = np.arange(members), np.arange(crowds)[:, None]
        one = rng.integers(1, members, size=(crowds, members))
        other = rng.integers(1, members - 1, size=(crowds, members))
        other += other >= one  # neither the same nor the member itself
        apart = self.crowds[crowd, (own + one) % members] - self.crowds[crowd, (own + other) % members]
        best = self.crowds[crowd[:, 0], self._scores.argmin(axis=1)]
        mutant = best[:, None] + rng.uniform(*AMPLIFIED) * apart
        taken = rng.random(size=mutant.shape) < CROSSED
        taken[crowd, own, rng.integers(figures, size=(crowds, members))] = True
        trials = np.where(taken, mutant, self.crowds)
        anywhere = rng.uniform(self._low, self._high, size=trials.shape)
        return np.asarray(np.where((trials < self._low) | (trials > self._high), anywhere, trials))

    def _scored(self, shapes: FloatArray, beaten: FloatArray, cores: ThreadPoolExecutor) -> FloatArray:
        """Score shapes, every core a part of them; which core has which changes nothing."""
        columns = np.ascontiguousarray(shapes.reshape(-1, shapes.shape[-1]).T)
        parts = np.array_split(np.arange(columns.shape[1]), CORES)
        many, least = [columns[:, part] for part in parts], [beaten.ravel()[part] for part in parts]
        return np.concatenate(list(cores.map(self._score, many, least))).reshape(beaten.shape)
