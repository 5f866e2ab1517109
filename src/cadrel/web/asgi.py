"""Entry point of the web process: a doorkeeper before Django, which looks at no body longer than it may be.

STOP has a way here too, beside the live process's own: it comes before Django and needs neither database nor thread.
"""

import asyncio
import json
import re
import urllib.parse
from collections.abc import Awaitable, Callable, MutableMapping
from http.cookies import CookieError, SimpleCookie
from typing import Any, cast

from django.core.asgi import get_asgi_application

django_application = get_asgi_application()

from django.conf import settings  # noqa: E402

from cadrel.web.live import passes  # noqa: E402
from cadrel.web.live.facts import read_known  # noqa: E402
from cadrel.web.live.stopping import stop_axes  # noqa: E402

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
TOO_LONG = (
    "<!doctype html><title>Too large</title><h1>That is too large.</h1><p>Nothing was read. A file or a form may have "
    "{most:.0f} MB.</p><p><a href='/'>To the projects</a></p>"
)


async def application(scope: Scope, receive: Receive, send: Send) -> None:
    """Answer one connection."""
    if scope["type"] != "http":
        if scope["type"] == "lifespan":
            await _live(receive, send)
        return
    if scope["method"] == "POST" and scope["path"] == "/stop/":
        await _stop(scope, receive, send)
        return
    length = dict(scope["headers"]).get(b"content-length", b"0")
    most = settings.LARGEST_REQUEST
    if not length.isdigit() or len(length) > 12 or int(length) > most:
        await _say(send, 413, TOO_LONG.format(most=most / 1e6), b"text/html; charset=utf-8")
        return
    await django_application(dict(scope), _bounded(receive, most), cast(Any, send))


def _bounded(receive: Receive, most: int) -> Receive:
    """Pass a body on as long as it stays short: one that hides its length is cut off, not swallowed."""
    taken = 0

    async def bounded() -> Message:
        nonlocal taken
        message = await receive()
        taken += len(message.get("body", b""))
        return {"type": "http.disconnect"} if taken > most else message

    return bounded


async def _live(receive: Receive, send: Send) -> None:
    while True:
        message = await receive()
        await send({"type": f"{message['type']}.complete"})
        if message["type"] == "lifespan.shutdown":
            return


async def _stop(scope: Scope, receive: Receive, send: Send) -> None:
    headers = {k.decode("latin-1").lower(): v.decode("latin-1") for k, v in scope["headers"]}
    try:
        cookies = {k: m.value for k, m in SimpleCookie(headers.get("cookie", "")).items()}
    except CookieError:
        cookies = {}
    who, host = passes.read(cookies), headers.get("host", "")
    if who is None or headers.get("origin", f"http://{host}") != f"http://{host}":
        await _say(send, 403, json.dumps({"text": "Log in first."}), b"application/json")
        return
    body = b""
    try:
        async with asyncio.timeout(0.1):
            while len(body) < 4000:
                message = await receive()
                body += message.get("body", b"")
                if not message.get("more_body"):
                    break
    except TimeoutError:
        pass
    press = dict(urllib.parse.parse_qsl(body.decode(errors="replace"))).get("press", "")
    press = re.sub(r"[^0-9A-Za-z-]", "", press)[:40]
    told, unreached = await stop_axes(read_known(), by=who.signature, press=press, secret=settings.LINK_SECRET)
    await _say(send, 200, json.dumps({"told": told, "unreached": unreached}), b"application/json")


async def _say(send: Send, status: int, text: str, kind: bytes) -> None:
    headers = [(b"content-type", kind), (b"cache-control", b"no-store")]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": text.encode()})
