"""Words recorded while a marked shaft was turned once -> where the position really is in them."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from cadrel.core.feedback.device import SerialWord
from cadrel.core.feedback.word import CRC6_BITS, crc6, layout_of

FEWEST = 40  # words
MOST_LEADING = 40  # bits


@dataclass(frozen=True, slots=True)
class WordFinding:
    """What the words show. None where it cannot be told."""

    bits: int  # of the whole word
    before: int | None  # bits sent before the single-turn position: leading and multi-turn together
    single_turn_bits: int | None
    below: int | None  # bits between position and checksum that never change
    checksum_fits: bool
    differences: tuple[str, ...]  # from the layout entered, in words; empty when they agree


def read_layout(words: Sequence[Sequence[int]], entered: SerialWord) -> WordFinding:
    """Return where the single-turn position is, from words of about one turn.

    Parameters
    ----------
    words : sequence of sequence of int
        Raw bits, most significant first, while the shaft turned once, evenly enough.
    entered : SerialWord
        The layout as entered.

    Notes
    -----
    Over one turn the top bit of the position changes twice, the next four times, then eight: nothing else in a word
    does that. Below the last bit of the position come bits that stand still (alignment, error, warning), then the
    checksum.
    """
    fields = layout_of(entered)
    expected = sum(f.bits for f in fields)
    table = np.array(words, dtype=np.int64)
    bits = int(table.shape[1])
    differences: list[str] = []
    if bits != expected:
        differences.append(f"The device sends {bits} bits; the layout entered has {expected}.")
    fits = entered.crc != "crc6" or _checksum_fits(table, entered.leading_bits)
    tail = {"crc6": CRC6_BITS, "parity": 1, "none": 0}[entered.crc]
    changes = np.abs(np.diff(table, axis=0)).sum(0)
    start = _start_of_turn(changes[: bits - tail]) if len(table) >= FEWEST else None
    if start is None:
        return WordFinding(bits, None, None, None, fits, tuple(differences))
    live = np.nonzero(changes[: bits - tail] > 0)[0]
    end = int(live[-1]) + 1
    found, below = end - start, bits - tail - end
    before = entered.leading_bits + entered.multi_turn_bits
    flags = int(entered.error_bit != "none") + int(entered.warning_bit != "none")
    if start != before:
        differences.append(f"{start} bits come before the position; {before} were entered.")
    if found != entered.position_bits:
        differences.append(f"The position has {found} bits; {entered.position_bits} were entered.")
    if below != entered.trailing_bits + flags:
        differences.append(
            f"{below} still bits follow the position; {entered.trailing_bits} alignment and {flags} status bits were "
            "entered."
        )
    if not fits:
        differences.append("The checksum fits none of the words.")
    return WordFinding(bits, start, found, below, fits, tuple(differences))


def _start_of_turn(changes: np.ndarray) -> int | None:
    """First bit of the doubling pattern 2, 4, 8, each one fewer where the turn ended short of it."""
    for k in range(min(len(changes) - 2, MOST_LEADING)):
        if 1 <= changes[k] <= 3 and 3 <= changes[k + 1] <= 5 and 6 <= changes[k + 2] <= 10:
            return k
    return None


def _checksum_fits(table: np.ndarray, leading: int) -> bool:
    for row in table[:: max(1, len(table) // 20)]:
        sent = int("".join(map(str, row[-CRC6_BITS:])), 2)
        if crc6([int(b) for b in row[leading:-CRC6_BITS]]) != sent:
            return False
    return True
