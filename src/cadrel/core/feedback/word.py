"""The word of a serial device: its bit fields, and the checksum of BiSS-C."""

from collections.abc import Sequence
from dataclasses import dataclass

from cadrel.core.feedback.device import SerialWord

CRC6_POLYNOMIAL = 0x43  # x^6 + x + 1
CRC6_BITS = 6


@dataclass(frozen=True, slots=True)
class BitField:
    """Bits of one meaning, in the order sent."""

    name: str
    bits: int


def layout_of(word: SerialWord) -> list[BitField]:
    """Return the fields in the order they are sent, empty ones left out."""
    checksum = {"crc6": CRC6_BITS, "parity": 1, "none": 0}[word.crc]
    fields = [
        BitField("leading", word.leading_bits),
        BitField("multi-turn", word.multi_turn_bits),
        BitField("position", word.position_bits),
        BitField("trailing", word.trailing_bits),
        BitField("error", int(word.error_bit != "none")),
        BitField("warning", int(word.warning_bit != "none")),
        BitField("checksum", checksum),
    ]
    return [f for f in fields if f.bits]


def crc6(bits: Sequence[int]) -> int:
    """Return the CRC-6 of BiSS-C over bits, most significant first, as sent: inverted.

    Polynomial x^6 + x + 1 (0x43), start value 0, result inverted (BiSS Interface, Protocol Description C-Mode, iC-Haus;
    from memory).
    """
    register = 0
    for bit in bits:
        register = (register << 1) | (bit & 1)
        if register & 0x40:
            register ^= CRC6_POLYNOMIAL
    for _ in range(CRC6_BITS):
        register <<= 1
        if register & 0x40:
            register ^= CRC6_POLYNOMIAL
    return register ^ 0x3F


def _bits(value: int, count: int) -> list[int]:
    return [(value >> k) & 1 for k in reversed(range(count))]


def gray_to_binary(code: int) -> int:
    """Return the binary value of a Gray code."""
    value = code
    while code := code >> 1:
        value ^= code
    return value


def encode_word(
    word: SerialWord, *, position: int, turns: int = 0, error: bool = False, warning: bool = False
) -> list[int]:
    """Return the bits a device of that layout sends, most significant first. Leading and trailing bits are zero."""
    whole = (turns << word.position_bits) | position
    if word.coding == "gray":
        whole ^= whole >> 1
    data = _bits(whole, word.multi_turn_bits + word.position_bits) + [0] * word.trailing_bits
    for state, active in ((word.error_bit, error), (word.warning_bit, warning)):
        if state != "none":
            data.append(int(active == (state == "high")))
    data = [0] * word.leading_bits + data
    if word.crc == "crc6":
        data += _bits(crc6(data[word.leading_bits :]), CRC6_BITS)
    elif word.crc == "parity":
        data.append(sum(data) % 2)
    return data


@dataclass(frozen=True, slots=True)
class WordReading:
    """What a word says. `is_sound` False: the checksum does not fit, and nothing else counts."""

    position: int
    turns: int
    error: bool
    warning: bool
    is_sound: bool


def decode_word(word: SerialWord, bits: Sequence[int]) -> WordReading:
    """Return what received bits mean.

    Raises
    ------
    ValueError
        The number of bits is not that of the layout.
    """
    fields = layout_of(word)
    if len(bits) != sum(f.bits for f in fields):
        raise ValueError(f"{len(bits)} bits received, the layout has {sum(f.bits for f in fields)}")
    parts: dict[str, int] = {}
    at = 0
    for field in fields:
        parts[field.name] = int("".join(str(b & 1) for b in bits[at : at + field.bits]), 2)
        at += field.bits
    whole = (parts.get("multi-turn", 0) << word.position_bits) | parts["position"]
    if word.coding == "gray":
        whole = gray_to_binary(whole)
    body = list(bits[word.leading_bits : len(bits) - fields[-1].bits])
    sound = {
        "crc6": lambda: parts["checksum"] == crc6(body),
        "parity": lambda: sum(bits) % 2 == 0,
        "none": lambda: True,
    }[word.crc]()

    def active(name: str, state: str) -> bool:
        return state != "none" and bool(parts[name]) == (state == "high")

    return WordReading(
        position=whole & ((1 << word.position_bits) - 1),
        turns=whole >> word.position_bits,
        error=active("error", word.error_bit),
        warning=active("warning", word.warning_bit),
        is_sound=sound,
    )
