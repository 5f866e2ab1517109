"""The live process: streams, presence, STOP, and who may ask; against a stand-in over TCP."""

import asyncio
import json
import socket
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from typing import Any

import pytest
from django.conf import settings
from django.contrib.auth.models import Group, User
from django.db import connection
from django.test import Client

from cadrel.core.simulation import SimulatedDrive
from cadrel.link.wire import Response, encode_response
from cadrel.web.live import passes, stopping
from cadrel.web.live.asgi import LiveProcess
from cadrel.web.live.stopping import stop_axes
from cadrel.web.projects.models import Axis
from cadrel.web.runs.models import Event
from tests.web.conftest import again, client_of

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.timeout(120)]


class Page:
    """An open address of the live process: what it sends is kept."""

    def __init__(self, live: LiveProcess, path: str, client: Client | None, **headers: str) -> None:
        self.status, self.body = 0, b""
        self._left = asyncio.Event()
        self._asked = False
        query = path.partition("?")[2]
        jar = "; ".join(f"{k}={m.value}" for k, m in client.cookies.items()) if client else ""
        sent = {"host": "127.0.0.1:8463", "cookie": jar} | headers
        scope = {
            "type": "http", "method": headers.pop("method", "GET"), "path": path.partition("?")[0],
            "query_string": query.encode(), "headers": [(k.encode(), v.encode()) for k, v in sent.items()],
        }  # fmt: skip
        self.task = asyncio.create_task(live(scope, self._receive, self._send))

    async def _receive(self) -> dict[str, Any]:
        if not self._asked:
            self._asked = True
            return {"type": "http.request", "body": b"press=p1", "more_body": False}
        await self._left.wait()
        return {"type": "http.disconnect"}

    async def _send(self, message: Any) -> None:
        self.status = message.get("status", self.status)
        self.body += message.get("body", b"")

    @property
    def shown(self) -> list[dict[str, Any]]:
        """Every strip that came."""
        lines = self.body.decode().split("\n\n")
        return [json.loads(line[6:]) for line in lines if line.startswith("data: {") and line.endswith("}")]

    async def leave(self) -> None:
        """Close it, and wait until the process has noticed."""
        self._left.set()
        await self.task


@asynccontextmanager
async def running() -> AsyncIterator[LiveProcess]:
    live = LiveProcess()
    live.facts.start()
    chores = [asyncio.create_task(live._attend()), asyncio.create_task(live._log_stops())]
    try:
        yield live
    finally:
        for chore in chores:
            chore.cancel()
        for task in live.hub._readers.values():
            task.cancel()
        await asyncio.gather(*chores, *live.hub._readers.values(), return_exceptions=True)
        live.facts.stop()
        await asyncio.to_thread(live.facts._thread.join, 30)


async def until(is_so: Callable[[], Any], seconds: float = 60.0) -> None:
    end = time.monotonic() + seconds
    while not is_so():
        assert time.monotonic() < end
        await asyncio.sleep(0.02)


def log_out(client: Client) -> None:
    """In a thread, which leaves no connection of its own behind."""
    client.logout()
    connection.close()


def pass_of(user: User) -> Client:
    client = client_of(user)
    client.get("/")
    assert passes.COOKIE in client.cookies
    return client


@pytest.fixture
def observer() -> User:
    user = User.objects.create_user("vera", password="a-long-password")
    user.groups.add(Group.objects.get_or_create(name="observer")[0])
    return user


def test_every_page_is_fed_by_one_reader_and_leaves_nothing_behind(led: Axis, engineer: User, observer: User) -> None:
    clients = [pass_of(engineer), pass_of(observer)]

    async def scene() -> None:
        async with running() as live:
            pages = [Page(live, f"/axis/{led.pk}/live/?tab=t{k}", clients[k % 2]) for k in range(30)]
            await until(lambda: all(len(p.shown) > 10 for p in pages))
            assert len(live.hub._readers) == 1
            assert {p.shown[-1]["control"] for p in pages[::2]} == {"you have control"}
            assert {p.shown[-1]["control"] for p in pages[1::2]} == {"enno has control"}
            assert [p.shown[-1]["leads"] for p in pages[:2]] == [True, False]
            counted = [len(p.shown) for p in pages]
            # All of them are fed; how often a second is for `bin/cadrel benchmark live` to say.
            await until(lambda: min(len(p.shown) - n for p, n in zip(pages, counted, strict=True)) >= 8)
            for page in pages:
                await page.leave()
            assert live.hub.onlookers == set()

    asyncio.run(scene())


def test_a_page_that_goes_at_the_very_moment_of_an_update_leaves_no_ghost(led: Axis, engineer: User) -> None:
    client = pass_of(engineer)

    async def scene() -> None:
        async with running() as live:
            for _ in range(60):
                page = Page(live, f"/axis/{led.pk}/live/?tab=t", client)
                await until(lambda page=page: page.shown)
                (me,) = live.hub.onlookers
                me.told.set()  # an update ...
                page._left.set()  # ... and the page is gone
                async with asyncio.timeout(60):
                    await page.task
                assert live.hub.onlookers == set()

    asyncio.run(scene())


def test_only_a_pass_of_a_living_session_looks_and_a_stream_ends_with_it(led: Axis, engineer: User) -> None:
    client, forged = pass_of(engineer), pass_of(engineer)
    forged.cookies[passes.COOKIE] = forged.cookies[passes.COOKIE].value + "x"
    other = pass_of(engineer)
    other.cookies["sessionid"] = "of-somebody-else"

    async def scene() -> None:
        async with running() as live:
            for unknown in (None, forged, other):
                page = Page(live, f"/axis/{led.pk}/live/", unknown)
                await page.task
                assert page.status == 403
            page = Page(live, f"/axis/{led.pk}/live/", client)
            await until(lambda: page.shown)
            await asyncio.to_thread(log_out, client)
            await asyncio.wait_for(page.task, 60)
            assert b"event: ended" in page.body

    asyncio.run(scene())


def test_the_drive_hears_which_pages_of_the_leader_are_open(
    led: Axis, engineer: User, observer: User, bench: tuple[int, SimulatedDrive]
) -> None:
    drive, clients = bench[1], [pass_of(engineer), pass_of(observer)]
    heard: list[tuple[str, ...]] = []
    drive.watched = lambda pages: heard.append(tuple(pages))  # type: ignore[method-assign]

    async def scene() -> None:
        async with running() as live:
            seen = Page(live, f"/axis/{led.pk}/live/?tab=looks", clients[1])
            await until(lambda: len(seen.shown) > 5)
            assert heard == []  # an observer's page watches nothing
            mine = Page(live, "/presence/?tab=library", clients[0])  # a page without a strip counts too
            await until(lambda: ("library",) in heard)
            await mine.leave()
            end = time.monotonic() + 60
            heard.append(("not yet",))
            while heard:  # a page that left is no longer watched over, however late that is noticed
                assert time.monotonic() < end
                heard.clear()
                await asyncio.sleep(0.5)
            await seen.leave()

    asyncio.run(scene())


def test_stop_reaches_every_axis_at_once_however_many_are_silent(
    led: Axis, observer: User, bench: tuple[int, SimulatedDrive], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(stopping, "WITHIN", 60)
    monkeypatch.setattr(stopping, "GIVEN_UP", 60)
    deaf = [socket.create_server(("127.0.0.1", 0)) for _ in range(3)]  # they take the connection and say nothing
    axes = [{"name": "deaf", "host": "127.0.0.1", "port": s.getsockname()[1], "remote": "x"} for s in deaf]
    axes += [{"name": "gone", "host": "127.0.0.1", "port": 1, "remote": "x"}]
    axes += [{"name": "pusher", "host": "127.0.0.1", "port": bench[0], "remote": "tile-pusher"}]

    async def scene() -> tuple[list[str], list[str]]:
        pressed = asyncio.create_task(stop_axes(axes, by="vera (observer)", press="p"))
        await until(lambda: bench[1].status()["last_stop"])
        assert not pressed.done()  # the last one stops while the three before it have not answered
        for server in deaf:
            with server:
                await asyncio.to_thread(lambda s=server: s.accept()[0].close())
        return await pressed

    told, unreached = asyncio.run(scene())
    assert told == ["pusher"]
    assert len(unreached) == 4
    assert bench[1].status()["last_stop"]["by"] == "vera (observer)"


def test_an_axis_that_answers_late_is_told_all_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(stopping, "WITHIN", 0.05)

    async def scene() -> None:
        heard = asyncio.Event()
        let_go = asyncio.Event()

        async def busy(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            await let_go.wait()
            if b"drive.stop" in await reader.readline():
                writer.write(encode_response(Response(2, result={})))
                heard.set()
            writer.close()

        server = await asyncio.start_server(busy, "127.0.0.1", 0)
        axis = {"name": "A", "host": "127.0.0.1", "port": server.sockets[0].getsockname()[1], "remote": "x"}
        assert await stop_axes([axis], by="vera") == ([], ["A: it does not answer"])
        assert len(stopping._on_their_way) == 1
        let_go.set()
        await asyncio.wait_for(heard.wait(), 30)
        await until(lambda: not stopping._on_their_way)
        server.close()

    asyncio.run(scene())


def test_stop_of_an_observer_is_logged_with_its_author_and_foreign_pages_cannot_press_it(
    led: Axis, observer: User, bench: tuple[int, SimulatedDrive], monkeypatch: pytest.MonkeyPatch
) -> None:
    client = pass_of(observer)
    monkeypatch.setattr(stopping, "WITHIN", 30)  # a stand-in in this very process may have much else to do

    async def scene() -> None:
        async with running() as live:
            await until(lambda: live.facts.of(led.pk))
            elsewhere = Page(live, "/stop/", client, method="POST", origin="http://elsewhere.example")
            await elsewhere.task
            assert elsewhere.status == 403
            assert bench[1].status()["last_stop"] is None
            page = Page(live, "/stop/", client, method="POST", origin=f"http://127.0.0.1:{settings.WEB_PORT}")
            await page.task
            assert json.loads(page.body) == {"told": ["A"], "unreached": []}
            await asyncio.sleep(0.5)

    asyncio.run(scene())
    assert bench[1].status()["last_stop"]["why"] == "vera (observer) pressed STOP"
    assert Event.objects.get(kind="stop").text.startswith("STOP by vera (observer): 1 told.")


def test_a_database_that_goes_away_leaves_the_strip_alive_and_says_so(
    led: Axis, engineer: User, monkeypatch: pytest.MonkeyPatch
) -> None:
    from django.db import OperationalError

    from cadrel.web.live import facts

    client = pass_of(engineer)

    async def scene() -> None:
        async with running() as live:
            page = Page(live, f"/axis/{led.pk}/live/", client)
            await until(lambda: page.shown and page.shown[-1]["database"] == "ok")

            def away(self: facts.FactsKeeper) -> None:
                raise OperationalError

            monkeypatch.setattr(facts.FactsKeeper, "_read", away)
            await until(lambda: page.shown[-1]["database"] == "away")
            counted = len(page.shown)
            await until(lambda: len(page.shown) >= counted + 8)  # it goes on, at whatever pace the machine has
            assert page.shown[-1]["link"] == "up" and page.shown[-1]["database"] == "away"
            await page.leave()

    asyncio.run(scene())
    assert again(led).connected
