"""Errors that say what happened, what it means and what to do."""

from typing import Any, ClassVar, Self


class CadrelError(Exception):
    """Base of every error meant for an engineer's eyes; carries facts, formats its own text."""

    happened: ClassVar[str] = "Something failed."
    means: ClassVar[str] = ""
    remedy: ClassVar[str] = ""

    def __init__(self, **facts: Any) -> None:
        self.facts = facts
        super().__init__(self.text)

    def __reduce__(self) -> tuple[Any, ...]:
        return (_rebuild, (type(self), self.facts))

    @property
    def code(self) -> str:
        """Name under which the error crosses a process or a socket."""
        return type(self).__name__

    @property
    def parts(self) -> tuple[str, str, str]:
        """What happened, what it means, what to do, with the facts filled in."""
        return (
            self.happened.format(**self.facts),
            self.means.format(**self.facts),
            self.remedy.format(**self.facts),
        )

    @property
    def text(self) -> str:
        """The three parts as one line."""
        return " ".join(part for part in self.parts if part)

    @classmethod
    def subclasses(cls) -> dict[str, type[Self]]:
        """All named descendants, by code."""
        found: dict[str, type[Self]] = {}
        for sub in cls.__subclasses__():
            found[sub.__name__] = sub
            found.update(sub.subclasses())
        return found


def _rebuild(kind: type[CadrelError], facts: dict[str, Any]) -> CadrelError:
    return kind(**facts)


class CoreError(CadrelError):
    """A computation cannot be done with what it was given."""


class UnusableInput(CoreError):
    """An argument breaks the stated contract of a function."""

    happened = "{what}"
    means = "Nothing was computed."
    remedy = "{remedy}"
