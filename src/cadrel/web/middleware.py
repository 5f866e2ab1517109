"""A strict content security policy: nothing inline, nothing from elsewhere."""

from collections.abc import Awaitable, Callable

from asgiref.sync import iscoroutinefunction, markcoroutinefunction
from django.http import HttpRequest, HttpResponse

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)


class ContentPolicy:
    """Adds the policy to every answer; works in both call styles."""

    sync_capable = async_capable = True

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse | Awaitable[HttpResponse]]) -> None:
        self.get_response = get_response
        self.is_async = iscoroutinefunction(get_response)
        if self.is_async:
            markcoroutinefunction(self)

    def __call__(self, request: HttpRequest) -> HttpResponse | Awaitable[HttpResponse]:
        if self.is_async:
            return self._later(request)
        return _with_policy(self.get_response(request))  # type: ignore[arg-type]

    async def _later(self, request: HttpRequest) -> HttpResponse:
        return _with_policy(await self.get_response(request))  # type: ignore[misc]


def _with_policy(response: HttpResponse) -> HttpResponse:
    response.headers["Content-Security-Policy"] = POLICY
    response.headers.setdefault("Vary", "HX-Request")
    return response
