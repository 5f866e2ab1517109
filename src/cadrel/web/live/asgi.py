"""Entry point of the live process: the strip's stream, who is present, and STOP.

It answers four addresses and runs no Django view: nothing a page does can keep STOP waiting. Pages come from the web
process at another port of the same host; what they may ask here is told to the browser by the CORS headers.
"""

import asyncio
import contextlib
import json
import os
import re
import urllib.parse
from collections.abc import Awaitable, Callable, MutableMapping
from http.cookies import CookieError, SimpleCookie
from typing import Any

import django

django.setup()

from django.conf import settings  # noqa: E402
from django.db import connection  # noqa: E402

from cadrel.web.jobs.patience import AWAY  # noqa: E402
from cadrel.web.live import passes  # noqa: E402
from cadrel.web.live.facts import FactsKeeper, read_known  # noqa: E402
from cadrel.web.live.hub import Hub  # noqa: E402
from cadrel.web.live.stopping import stop_axes  # noqa: E402

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]
LIVE = re.compile(r"/axis/(\d{1,15})/live/")
PRESENCE = 5.0  # [s] between words to a page that only has to be there
LONGEST_FORM = 4000  # [bytes] of what a STOP says
RETRY = 500  # [ms] after which a page whose stream broke asks again


class LiveProcess:
    """The application: facts, hub, and the four addresses."""

    def __init__(self) -> None:
        self.facts = FactsKeeper()
        self.hub = Hub(self.facts)
        self._chores: list[asyncio.Task[None]] = []
        self._stops: list[tuple[str, str]] = []  # (who, text) waiting to be logged

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer one connection."""
        if scope["type"] == "lifespan":
            await self._live(receive, send)
        elif scope["type"] == "http":
            request = _Request(scope)
            answer = self._answer_of(request)
            with contextlib.suppress(ConnectionError, OSError):
                await answer(request, receive, send)

    async def _live(self, receive: Receive, send: Send) -> None:
        while True:
            message = await receive()
            if message["type"] == "lifespan.startup":
                self.facts.start()
                self._chores = [asyncio.create_task(self._attend()), asyncio.create_task(self._log_stops())]
                await send({"type": "lifespan.startup.complete"})
            else:
                for chore in self._chores:
                    chore.cancel()
                self.facts.stop()
                await send({"type": "lifespan.shutdown.complete"})
                return

    async def _attend(self) -> None:
        while True:
            self.hub.attend_all()
            await asyncio.sleep(0.25)

    def _answer_of(self, request: "_Request") -> Callable[["_Request", Receive, Send], Awaitable[None]]:
        if request.method == "GET" and request.path == "/health/":
            return self._health
        who = passes.read(request.cookies)
        if who is None:
            return _not_known
        request.who = who
        if request.method == "POST" and request.path == "/stop/":
            return self._stop if request.is_from_here else _not_known
        if request.method == "GET" and (found := LIVE.fullmatch(request.path)):
            request.axis_id = int(found[1])
            return self._stream
        if request.method == "GET" and request.path == "/presence/":
            return self._presence
        return _no_such

    # --- STOP ---------------------------------------------------------------------------------------------------

    async def _stop(self, request: "_Request", receive: Receive, send: Send) -> None:
        who, form = request.who, {}
        with contextlib.suppress(TimeoutError, ValueError):
            form = dict(urllib.parse.parse_qsl((await _body(receive)).decode(errors="replace")))
        axes = [
            {"name": f.name, "host": f.host, "port": f.port, "remote": f.remote}
            for f in self.facts.all()
            if f.connected
        ] or read_known()
        press = re.sub(r"[^0-9A-Za-z-]", "", form.get("press", ""))[:40]
        told, unreached = await stop_axes(axes, by=who.signature, press=press, secret=settings.LINK_SECRET)
        self._stops.append((who.name, f"STOP by {who.signature}: {len(told)} told. {' '.join(unreached)}".strip()))
        if form.get("page"):  # sent by the form itself, without script
            place = request.origin or f"http://{request.host}"
            page = (
                "<!doctype html><title>STOP</title><h1>STOP was sent.</h1>"
                f"<p>{len(told)} axes were told.</p><p>{_escaped(' '.join(unreached))}</p>"
                f'<p><a href="{_escaped(place)}/">To the projects</a></p>'
            )
            await _say(request, send, 200, page, kind="text/html; charset=utf-8")
            return
        await _say(request, send, 200, json.dumps({"told": told, "unreached": unreached}))

    async def _log_stops(self) -> None:
        """Write who pressed STOP into the event log, whenever the database will have it."""
        while True:
            await asyncio.sleep(0.2)
            while self._stops:
                with contextlib.suppress(*AWAY):
                    await asyncio.to_thread(_log_stop, *self._stops[0])
                    self._stops.pop(0)
                    continue
                break

    # --- streams ------------------------------------------------------------------------------------------------

    async def _stream(self, request: "_Request", receive: Receive, send: Send) -> None:
        session = request.cookies.get(settings.SESSION_COOKIE_NAME, "")
        tab = re.sub(r"[^0-9A-Za-z-]", "", request.query.get("tab", ""))[:40]
        await _begin_stream(request, send)
        lines = self.hub.look(request.axis_id or 0, request.who, session=session, tab=tab)

        async def pour() -> None:
            async with contextlib.aclosing(lines):
                async for text in lines:
                    await _send_part(send, f"data: {text}\n\n")
            await _send_part(send, "event: ended\ndata: {}\n\n")

        await _until_gone(pour(), receive, send)

    async def _presence(self, request: "_Request", receive: Receive, send: Send) -> None:
        session = request.cookies.get(settings.SESSION_COOKIE_NAME, "")
        tab = re.sub(r"[^0-9A-Za-z-]", "", request.query.get("tab", ""))[:40]
        await _begin_stream(request, send)

        async def stay() -> None:
            with self.hub.present(request.who, session=session, tab=tab) as me:
                while not (me.is_over or self.facts.has_ended(session)):
                    await _send_part(send, ": here\n\n")
                    with contextlib.suppress(TimeoutError):
                        async with asyncio.timeout(PRESENCE):
                            await me.told.wait()

        await _until_gone(stay(), receive, send)

    async def _health(self, request: "_Request", receive: Receive, send: Send) -> None:
        tasks = len(asyncio.all_tasks())
        body = {
            "pid": os.getpid(), "onlookers": len(self.hub.onlookers), "database": self.facts.is_fresh, "tasks": tasks,
        }  # fmt: skip
        await _say(request, send, 200, json.dumps(body))


class _Request:
    """What matters of a scope."""

    who: passes.Pass
    axis_id: int | None = None

    def __init__(self, scope: Scope) -> None:
        self.method, self.path = str(scope["method"]), str(scope["path"])
        headers = {k.decode("latin-1").lower(): v.decode("latin-1") for k, v in scope["headers"]}
        self.query = dict(urllib.parse.parse_qsl(scope["query_string"].decode("latin-1")))
        self.host = headers.get("host", "")
        self.origin = headers.get("origin", "")
        try:
            jar = SimpleCookie(headers.get("cookie", ""))
        except CookieError:
            jar = SimpleCookie()
        self.cookies = {name: morsel.value for name, morsel in jar.items()}

    @property
    def is_from_here(self) -> bool:
        """Whether the page that asks is one of ours: same host, the web's port or our own. No origin is no browser."""
        if not self.origin:
            return True
        host = self.host.rpartition(":")[0]
        allowed = {f"http://{host}:{port}" for port in (settings.WEB_PORT, settings.LIVE_PORT)}
        return self.origin in allowed and host in settings.ALLOWED_HOSTS


def _escaped(text: str) -> str:
    from html import escape

    return escape(text, quote=True)


def _log_stop(name: str, text: str) -> None:
    from django.contrib.auth.models import User

    from cadrel.web.jobs.models import Job
    from cadrel.web.runs.models import Event

    try:
        who = User.objects.filter(username=name).first()
        Event.objects.create(axis=None, who=who, kind="stop", text=text[:400])
        Job.objects.active().update(abort=True)
    finally:
        connection.close()


async def _body(receive: Receive) -> bytes:
    body = b""
    async with asyncio.timeout(0.1):  # what a STOP says beside STOP is not worth waiting for
        while True:
            message = await receive()
            body += message.get("body", b"")
            if not message.get("more_body") or len(body) > LONGEST_FORM:
                return body[:LONGEST_FORM]


def _headers(request: _Request, kind: str) -> list[tuple[bytes, bytes]]:
    headers = [
        (b"content-type", kind.encode()), (b"cache-control", b"no-store"), (b"x-content-type-options", b"nosniff"),
        (b"content-security-policy", b"default-src 'none'"),
    ]  # fmt: skip
    if request.origin and request.is_from_here:
        headers += [
            (b"access-control-allow-origin", request.origin.encode("latin-1")),
            (b"access-control-allow-credentials", b"true"), (b"vary", b"Origin"),
        ]  # fmt: skip
    return headers


async def _say(request: _Request, send: Send, status: int, text: str, *, kind: str = "application/json") -> None:
    await send({"type": "http.response.start", "status": status, "headers": _headers(request, kind)})
    await send({"type": "http.response.body", "body": text.encode()})


async def _not_known(request: _Request, receive: Receive, send: Send) -> None:
    await _say(request, send, 403, json.dumps({"text": "Log in first."}))


async def _no_such(request: _Request, receive: Receive, send: Send) -> None:
    await _say(request, send, 404, json.dumps({"text": "There is no such address."}))


async def _begin_stream(request: _Request, send: Send) -> None:
    headers = _headers(request, "text/event-stream")
    await send({"type": "http.response.start", "status": 200, "headers": headers})
    await _send_part(send, f"retry: {RETRY}\n\n")


async def _send_part(send: Send, text: str) -> None:
    await send({"type": "http.response.body", "body": text.encode(), "more_body": True})


async def _until_gone(work: Any, receive: Receive, send: Send) -> None:
    """Run a stream until it ends by itself or its page goes."""
    task = asyncio.create_task(work)
    gone = asyncio.create_task(_gone(receive))
    await asyncio.wait({task, gone}, return_when=asyncio.FIRST_COMPLETED)
    gone.cancel()
    task.cancel()
    with contextlib.suppress(asyncio.CancelledError, ConnectionError):
        await task
    with contextlib.suppress(ConnectionError, RuntimeError):
        await send({"type": "http.response.body", "body": b""})


async def _gone(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


application = LiveProcess()
