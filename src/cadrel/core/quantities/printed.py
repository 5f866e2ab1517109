"""A cell as a sheet prints it, "2.6 Ω" or "0.13 Nm/Arms" or "6,000 min-1": number, unit and convention told apart."""

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass

from cadrel.core.errors import CoreError
from cadrel.core.quantities.units import units_of

SPACES = dict.fromkeys(map(ord, "\u00a0\u2007\u2009\u202f\u2002\u2003"), " ")
_NUMBER = re.compile(r"[+-]?(?:(?:\d{1,3}(?:[ ']\d{3})+(?![\d/])|\d+)(?:[.,]\d+)*|[.,]\d+)(?:[eE][+-]?\d+)?")
_PER_ONE = re.compile(r"1(?: ?000)? ?/")  # "1/min" is a unit, not a second number
_POLES = re.compile(r"(2\s*p|p)\s*=\s*(\d+)", re.IGNORECASE)
# Quantities whose large values are printed in groups of three; "6,500 rpm" is no six and a half.
GROUPED = ("speed", "count", "steps", "axis_velocity", "axis_acceleration", "axis_jerk", "cable_length")


class UnreadableCell(CoreError):
    """A cell cannot be understood, or can be in two ways; `why` is one sentence for the field."""

    happened = "'{text}': {why}"
    means = "The value was not taken."
    remedy = "Type it as the sheet prints it, number first, then unit."


@dataclass(frozen=True, slots=True, kw_only=True)
class Printed:
    """What a cell says; None where it does not say it."""

    value: float
    unit: str | None = None
    convention: str | None = None


def read_printed(
    text: str, *, quantity: str, units: Collection[str] = (), conventions: Mapping[str, str] | Collection[str] = ()
) -> Printed:
    """Return number, unit and convention of a cell.

    Parameters
    ----------
    text : str
        The cell.
    quantity : str
        What it is of; decides which units there are, and how "6,500" is read.
    units : collection of str, optional
        Units allowed, of the table; all of the quantity if empty.
    conventions : collection of str, or mapping of str to str, optional
        Keys of the conventions allowed (`conventions.CONVENTIONS`), with the labels under which they are shown.

    Raises
    ------
    UnreadableCell
        No number, a unit of something else, or two ways to read it.

    Notes
    -----
    A group of three digits behind a comma is thousands where the quantity is counted in them, where more than one
    group or a decimal point follows, or where the three are noughts; behind a nought it is a decimal ("0,750").
    Everything else with a comma and three digits can be read in two ways, and is asked.
    """
    cell = text.translate(SPACES).replace("−", "-").replace("–", "-").strip()
    poles = _POLES.fullmatch(cell.replace(" ", ""))
    if poles and "poles" in conventions:
        return Printed(value=float(poles[2]), convention="poles" if poles[1].lower() == "2p" else "pairs")
    found = _NUMBER.match(cell)
    if found is None:
        raise UnreadableCell(text=text[:40], why="no number stands first.")
    value = _number(found[0].strip(), text, quantity)
    rest = cell[found.end() :].strip().lstrip("()[]=:").strip()
    if not rest:
        return Printed(value=value)
    if rest[0].isdigit() and not _PER_ONE.match(rest):
        raise UnreadableCell(text=text[:40], why="two numbers stand in it.")
    unit, tail = _unit(rest, tuple(units) or tuple(units_of(quantity)))
    labels = conventions if isinstance(conventions, Mapping) else {key: key for key in conventions}
    by_label = {label.lower(): key for key, label in labels.items()}
    convention = by_label.get(_plain(tail).lower()) or _convention(tail, labels)
    if convention is None and _plain(tail):
        if unit is None and convention is None:
            raise UnreadableCell(text=text[:40], why=f"'{rest[:20]}' is no unit of {quantity.replace('_', ' ')}.")
        raise UnreadableCell(text=text[:40], why=f"'{tail[:20]}' is no convention of it.")
    return Printed(value=value, unit=unit, convention=convention)


def _number(digits: str, text: str, quantity: str) -> float:
    body = digits.replace(" ", "").replace("'", "")
    commas, points = body.count(","), body.count(".")
    if commas and points:  # the last of the two is the decimal one
        decimal = "," if body.rindex(",") > body.rindex(".") else "."
        body = body.replace("." if decimal == "," else ",", "").replace(decimal, ".")
    elif commas > 1 or points > 1:
        body = body.replace(",", "").replace(".", "")
    elif commas:
        whole, _, part = body.partition(",")
        three = len(re.match(r"\d*", part)[0]) == 3 and len(whole.lstrip("+-")) <= 3  # type: ignore[index]
        if not three or not whole.lstrip("+-0"):
            body = body.replace(",", ".")
        elif quantity in GROUPED or part.startswith("000"):
            body = body.replace(",", "")
        else:
            raise UnreadableCell(
                text=text[:40],
                why=f"is it {body.replace(',', '')} or {body.replace(',', '.')}? Type it without a comma.",
            )
    try:
        return float(body)
    except ValueError as cause:
        raise UnreadableCell(text=text[:40], why="no number stands first.") from cause


# --- units ------------------------------------------------------------------------------------------------------------

# Spelled otherwise, word by word, before the signs between them are dropped.
_WORDS = (
    (r"[ΩΩ]", "ohm"), (r"\bohms?\b", "ohm"), (r"[μu](?=[A-ZΩohm]|[mns]\b|[mns]$)", "µ"),
    (r"(?:1\s*000|k)\s*(?:rpm|RPM|r/min|rev/min|U/min|1/min|/min|min\s*\^?-1|min⁻¹)", "krpm"),
    (r"\b(?:RPM|Rpm|r\.?/min|rev/min|U/min|tr/min|1/min|r\.p\.m\.)|\bmin\s*\^?-1|min⁻¹|(?<![\w)])/min", "rpm"),
    (r"\bdegC\b|\bdeg C\b|℃", "°C"), (r"\b(?:deg|degrees?)\b", "°"), (r"\bsec(?:onds?)?(?=\d|\b)", "s"),
    (r"\binch(?:es)?\b", "in"), (r"\bfeet\b|\bfoot\b", "ft"), (r"\blbs\b", "lb"), (r"\bkp\b", "kgf"),
    (r"\bNewton\b", "N"), (r"\bvolts?\b|\bVolts?\b", "V"), (r"\bamps?\b|\bAmps?\b|\bAmp\b", "A"),
    (r"\^\s*([23])", r"\1"), (r"²", "2"), (r"³", "3"),
)  # fmt: skip
_SIGNS = str.maketrans("", "", " ·⋅*×.-()[]")
# The same unit with its factors in another order, or with an f that the trade leaves out.
_SWAPPED = {
    "inlb": "lbin", "inlbf": "lbin", "lbfin": "lbin", "inoz": "ozin", "ozfin": "ozin", "inozf": "ozin", "ftlb": "lbft",
    "ftlbf": "lbft", "lbfft": "lbft", "cmkgf": "kgfcm", "kgcm": "kgfcm", "mNewtonm": "mNm", "cm2kg": "kgcm2",
    "cm2g": "gcm2", "gmcm2": "gcm2", "in2lb": "lbin2", "in2oz": "ozin2", "lbins2": "lbins2", "inlbs2": "lbins2",
    "inozs2": "ozins2", "Vsrad": "Vs/rad", "V/rad/s": "Vs/rad", "V/(rad/s)": "Vs/rad", "mVs": "mVs/rad", "Vs": "Vs/rad",
    "V/m/s": "Vs/m", "V/(m/s)": "Vs/m", "K/W": "K/W", "C/W": "°C/W", "Ohm": "ohm", "mOhm": "mohm", "kRPM": "krpm",
    "V/kRPM": "V/krpm", "mV/RPM": "mV/rpm", "percent": "%", "lines": "", "lpr": "", "ppr": "", "cpr": "", "bits": "",
    "bit": "", "counts": "", "periods": "", "pulses": "", "counts/rev": "", "lines/rev": "", "periods/rev": "",
    "inc/rev": "", "rad/sec": "rad/s", "rps": "1/s", "rev/s": "1/s", "m/sec": "m/s", "mm/sec": "mm/s", "kgm2": "kgm2",
}  # fmt: skip


def _spelled(text: str) -> str:
    for pattern, word in _WORDS:
        text = re.sub(pattern, word, text)
    return text


def _key(text: str) -> str:
    bare = text.translate(_SIGNS)
    above, _, below = bare.partition("/")
    turned = _SWAPPED.get(above, above)
    if below and "/" not in turned:
        bare = f"{turned}/{below}"
    return _SWAPPED.get(bare, bare)


def _unit(rest: str, units: tuple[str, ...]) -> tuple[str | None, str]:
    """Return the unit that the longest beginning of a text is, and what stands behind it."""
    known = {_key(_spelled(u)): u for u in units}
    spelled = _spelled(rest)
    for end in range(len(spelled), 0, -1):
        head, tail = spelled[:end], spelled[end:]
        if tail[:1].isalnum() and head[-1:].isalpha() and not _convention_like(tail):
            continue  # never in the middle of a word, but "Arms" is A and rms
        if (unit := known.get(_key(head))) is not None:
            return unit, tail
    return None, spelled


# --- conventions ------------------------------------------------------------------------------------------------------

_TOKENS = {
    "rms": r"r\.?m\.?s\.?|eff|ac", "peak": r"pk|peak|p|pp?k|0-?pk|o-?p|max|crest", "dc": r"dc",
    "ll": r"l-?l|ll|line[ -]?to[ -]?line|line[ -]?line|phase[ -]to[ -]phase|ph[ -]?ph|u-?v",
    "phase": r"ph|phase|l-?n|per phase",
    "terminal": r"terminal|between the terminals",
}  # fmt: skip
_TOKEN = re.compile(
    r"[\s,;_()/\[\]]*(?:" + "|".join(f"(?P<{k}>{v})" for k, v in _TOKENS.items()) + r")(?![a-z0-9])", re.IGNORECASE
)
_MEANT = {
    frozenset({"rms"}): ("rms", "per_rms"), frozenset({"peak"}): ("peak", "per_peak"),
    frozenset({"dc"}): ("dc", "per_dc"),
    frozenset({"ll"}): ("line_to_line",), frozenset({"phase"}): ("phase",), frozenset({"terminal"}): ("terminal",),
    frozenset({"ll", "rms"}): ("ll_rms",), frozenset({"ll", "peak"}): ("ll_peak",),
    frozenset({"phase", "rms"}): ("phase_rms",), frozenset({"phase", "peak"}): ("phase_peak",),
}  # fmt: skip
_WHOLE = {"poles": "poles", "pole": "poles", "polepairs": "pairs", "pairs": "pairs", "pairsofpoles": "pairs"}


def _convention_like(tail: str) -> bool:
    return _TOKEN.match(tail) is not None


def _plain(tail: str) -> str:
    return tail.strip(" ,;()[]./")


def _convention(tail: str, allowed: Collection[str]) -> str | None:
    """Return the convention that a tail names, of those allowed."""
    whole = _WHOLE.get(re.sub(r"[^a-z]", "", tail.lower()))
    if whole in allowed:
        return whole
    if tail.strip() in allowed:
        return tail.strip()
    seen: set[str] = set()
    at = 0
    while (token := _TOKEN.match(tail, at)) is not None:
        seen.add(str(token.lastgroup))
        at = token.end()
    if _plain(tail[at:]):
        return None
    return next((key for key in _MEANT.get(frozenset(seen), ()) if key in allowed), None)
