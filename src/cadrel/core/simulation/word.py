"""A serial word, bit by bit: what the device sends, and what the drive makes of it by the layout it was given. Numba.

The word is one number, its last bit sent last: position field, alignment bits, error bit, warning bit, checksum.
Leading and multi-turn bits are zero here and only count towards the length.
"""

import math

import numba
import numpy as np

from cadrel.core.simulation.layout import TICK
from cadrel.core.simulation.plant import FAST

POLYNOMIAL = 0x43  # x^6 + x + 1, of BiSS-C
NO_CHECKSUM, PARITY, CRC6 = 0, 1, 6  # bits of the checksum, which is what its kind is known by
NO_FLAG, ACTIVE_LOW, ACTIVE_HIGH = 0, 1, 2
BELIEVED = 4.0  # times the speed at which the drive trips: a larger step is no motion
STEP_FREE = 16.0  # [counts] that are always believed


def _table() -> np.ndarray:
    """Remainder of six bits at a time."""
    table = np.zeros(64, dtype=np.int64)
    for start in range(64):
        register = start
        for _ in range(6):
            register <<= 1
            if register & 0x40:
                register ^= POLYNOMIAL
        table[start] = register
    return table


_TABLE = _table()


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def crc6(data, bits):
    """CRC-6 of the low `bits` of a number, start value 0, inverted. Six bits at a time from the top.

    Bits above the sixtieth are leading zeros of the line, which a register that starts at 0 does not notice.
    """
    register = 0
    for k in range(min((bits + 5) // 6, 10) - 1, -1, -1):
        register = _TABLE[register ^ ((data >> (6 * k)) & 0x3F)]
    return register ^ 0x3F


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def parity_of(data):
    """1 where the number of ones is odd."""
    odd = 0
    while data:
        data &= data - 1
        odd ^= 1
    return odd


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def binary_of(gray):
    """Binary value of a Gray code."""
    value = gray
    shift = gray >> 1
    while shift:
        value ^= shift
        shift >>= 1
    return value


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def sent_word(position, p):
    """The word a device of the true layout sends."""
    data = position ^ (position >> 1) if p.word_gray > 0.0 else position
    data *= int(p.word_skip)
    flags = int(p.word_flags)  # error first, then warning, both active low
    if flags >= 1:
        data = 2 * data + (0 if p.word_alarm > 0.0 else 1)
    if flags >= 2:
        data = 2 * data + 1
    checksum = int(p.word_checksum)
    if checksum == CRC6:
        return data * 64 + crc6(data, int(p.word_length) - 6)
    if checksum == PARITY:
        return data * 2 + parity_of(data)
    return data


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def position_of_word(word, c):
    """Position field of a word by the drive's layout, or -1 where checksum or error bit speak against it."""
    data = word
    checksum = int(c.word_checksum)
    if checksum == CRC6:
        data = word >> 6
        if crc6(data, int(c.word_length) - 6) != word & 0x3F:
            return -1
    elif checksum == PARITY:
        data = word >> 1
        if parity_of(word) != 0:
            return -1
    if c.word_warning > 0.0:
        data >>= 1
    if c.word_error > 0.0:
        level = data & 1
        data >>= 1
        if (level == 0) == (int(c.word_error) == ACTIVE_LOW):
            return -1
    whole = data // int(c.word_skip)
    if c.word_gray > 0.0:
        whole = binary_of(whole)
    return whole % int(c.word_counts)


@numba.njit(cache=True, error_model="numpy", fastmath=FAST)
def is_believable(step, missed, c):
    """Whether a shaft can have gone so far since the last good word."""
    most = BELIEVED * c.trip_speed * TICK * (missed + 1) * c.word_counts / (2 * math.pi)
    return abs(step) <= most + STEP_FREE
