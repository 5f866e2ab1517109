"""Around every page: content policy, what is no text, a database that is away, the pass for the live process."""

from collections.abc import Callable, Iterable
from urllib.parse import unquote

from django.conf import settings
from django.core.exceptions import BadRequest, RequestDataTooBig, SuspiciousOperation, TooManyFieldsSent
from django.http import HttpRequest, HttpResponse

from cadrel.web.accounts.roles import role_of
from cadrel.web.errors import answer_to, live_address, plain
from cadrel.web.live import passes

Handler = Callable[[HttpRequest], HttpResponse]
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self' {live}; form-action 'self' {live}; base-uri 'none'; frame-ancestors 'none'"
)
LONGEST_FIELD = 20_000  # [characters] of one field of a form; files have a limit of their own


def live_origin(request: HttpRequest) -> dict[str, str]:
    """Context of every page: the live process's address."""
    return {"live": live_address(request)}


class ContentPolicy:
    """Nothing inline, nothing from elsewhere but the live process."""

    def __init__(self, get_response: Handler) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.get_response(request)
        response.headers["Content-Security-Policy"] = POLICY.format(live=live_address(request)).replace(" ;", ";")
        response.headers.setdefault("Vary", "HX-Request")
        return response


class Unwell:
    """Say in plain words that the database is away or full, on a page that needs no database; STOP works from it."""

    def __init__(self, get_response: Handler) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        """Answer for a view that met it; what a middleware met arrives at `errors.broken`."""
        return answer_to(request, error)


class TidyText:
    """Refuse what is no text, or endless, wherever it stands: NUL, lone surrogates, overlong fields."""

    def __init__(self, get_response: Handler) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        try:
            untidy = _untidy(_texts_of(request))
        except (RequestDataTooBig, TooManyFieldsSent):
            return plain(request, 413, "The form is too large.", "Nothing was read.", "Send less at once.")
        except (SuspiciousOperation, BadRequest, ValueError):
            untidy = "a form that cannot be read"
        if untidy:
            return plain(request, 400, f"The request holds {untidy}.", "Nothing was changed.", "Type it again by hand.")
        return self.get_response(request)


def _texts_of(request: HttpRequest) -> Iterable[str]:
    yield unquote(request.path)
    for name, values in request.GET.lists():
        yield name
        yield from values
    for name, value in request.COOKIES.items():
        yield name
        yield value
    if request.method == "POST":
        for name, values in request.POST.lists():
            yield name
            yield from values
        for name, file in request.FILES.items():
            yield name
            yield str(getattr(file, "name", ""))


def _untidy(texts: Iterable[str]) -> str:
    for text in texts:
        if "\0" in text:
            return "a NUL character"
        if len(text) > LONGEST_FIELD:
            return f"more than {LONGEST_FIELD} characters in one field"
        if any(0xD800 <= ord(c) <= 0xDFFF for c in text):
            return "characters that are no text"
    return ""


class LivePass:
    """Give whoever is logged in the signed cookie by which the live process knows them."""

    def __init__(self, get_response: Handler) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.get_response(request)
        user, session = getattr(request, "user", None), getattr(request, "session", None)
        if user is None or session is None or not getattr(session, "accessed", False):
            return response
        if not user.is_authenticated:
            if passes.COOKIE in request.COOKIES:
                response.delete_cookie(passes.COOKIE, samesite="Strict")
            return response
        key = session.session_key or ""
        cookies = dict(request.COOKIES) | {settings.SESSION_COOKIE_NAME: key}
        held, role = passes.read(cookies), role_of(user)
        if key and (held is None or (held.user_id, held.role) != (user.pk, role)):
            value = passes.issue(user_id=user.pk, name=user.get_username(), role=role, session_key=key)
            response.set_cookie(passes.COOKIE, value, max_age=passes.LONGEST, httponly=True, samesite="Strict")
        return response
