"""The shape of a registry entry."""

from dataclasses import dataclass
from typing import Literal, TypedDict


class Entry(TypedDict, total=False):
    """A value as entered. `value` is a number, or the key of a choice; `source` says where it came from."""

    value: float | str
    unit: str
    convention: str
    source: Literal["sheet", "typed", "computed", "identified", "elsewhere", "default"]


@dataclass(frozen=True, slots=True)
class Help:
    """Help on demand: what it is, how to choose it, the usual mistake."""

    what: str
    choose: str
    mistake: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Parameter:
    """One parameter, declared once.

    Attributes
    ----------
    quantity
        Key of `quantities.units`: decides which printed units are possible.
    convention
        Family of `quantities.conventions`, or None where nothing can be meant two ways.
    minimum, maximum
        Bounds in SI, after convention. Values outside are refused with a sentence.
    choices
        Key and label of each option; then `default` is a key.
    storage
        "project": kept as entered. "drive": an SI float in the drive's memory.
    when
        Choices under which it is asked for: key of a choice and the options that call for it, all of them.
    relative_to
        Key of the parameter it may be printed in percent or per mil of.
    improves
        What an optional value is good for, as the page says it.
    rests
        Steps whose proof rests on it, where not all do that rest on its own step.
    restart
        A change takes effect only after the drive restarts.
    cia402
        Object index of IEC 61800-7-201, where one exists.
    """

    key: str
    label: str
    symbol: str
    quantity: str
    step: str
    minimum: float
    maximum: float
    default: float | str | None
    help: Help
    unit: str = ""
    convention: str | None = None
    storage: Literal["project", "drive"] = "project"
    choices: tuple[tuple[str, str], ...] = ()
    required: bool = False
    whole: bool = False
    when: tuple[tuple[str, tuple[str, ...]], ...] = ()
    relative_to: str | None = None
    improves: str = ""
    rests: tuple[str, ...] | None = None
    restart: bool = False
    cia402: str | None = None

    @property
    def kind(self) -> Literal["choice", "number"]:
        """Whether the value is one of the choices or a number."""
        return "choice" if self.choices else "number"
