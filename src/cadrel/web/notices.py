"""What the next page says: notices of three parts, kept in the session until a page has shown them."""

from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

from django.http import HttpRequest

from cadrel.core.errors import CadrelError

KEPT = "notices"
MOST = 6  # of a chain of forwarded pages; older ones give way


@dataclass(frozen=True, slots=True)
class Notice:
    """What happened, what it means, what to do; `kind` is "success" or "error"."""

    kind: str
    happened: str
    means: str = ""
    remedy: str = ""


def say(request: HttpRequest, text: str) -> None:
    """Tell of what was done, on the next page."""
    _keep(request, Notice("success", text))


def refuse(request: HttpRequest, error: CadrelError | str) -> None:
    """Tell of what was not done, on the next page."""
    _keep(request, Notice("error", error) if isinstance(error, str) else Notice("error", *error.parts))


def _keep(request: HttpRequest, notice: Notice) -> None:
    request.session[KEPT] = [*request.session.get(KEPT, []), asdict(notice)][-MOST:]


def notices(request: HttpRequest) -> dict[str, Callable[[], list[Notice]]]:
    """Context of every page: taken out of the session as they are drawn."""

    def shown() -> list[Notice]:
        kept: list[dict[str, Any]] = request.session.pop(KEPT, []) if KEPT in request.session else []
        return [Notice(**n) for n in kept]

    return {"notices": shown}
