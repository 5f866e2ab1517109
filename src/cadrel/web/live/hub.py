"""One reader per drive, and whoever looks on: a page costs a queue, no thread and no connection."""

import asyncio
import contextlib
import json
import secrets
import time
from collections.abc import AsyncGenerator, Iterator
from dataclasses import dataclass, field
from typing import Any

from django.conf import settings

from cadrel.link.wire import LONGEST_REQUEST, Request, WireError, decode_response, encode_request
from cadrel.web.live.facts import FactsKeeper
from cadrel.web.live.passes import Pass
from cadrel.web.rig.strip import AxisFacts, Contact, strip_from

PERIOD = 0.1  # [s] between looks at a drive
ANSWER = 1.0  # [s] a drive has for a look
STALE = 0.8  # [s] after which a look is no word about the present any more
AGAIN = 0.5  # [s] before a line that broke is tried anew
AFTER = 0.8  # [s] a page that has just gone still counts as open: it may be on its way to the next one
UNUSED = 30.0  # [s] a line to a drive is kept that nobody looks at


@dataclass(eq=False, slots=True)
class Onlooker:
    """An open page: whose, of which axis, and the newest that was to be shown."""

    axis_id: int
    who: Pass
    session: str
    tab: str
    newest: dict[str, Any] | None = None
    told: asyncio.Event = field(default_factory=asyncio.Event)
    is_over: bool = False

    def show(self, contact: Contact) -> None:
        """Keep what is newest; what was not fetched meanwhile is skipped, so that a slow page delays nobody."""
        self.newest = {"contact": contact}
        self.told.set()


class Hub:
    """The onlookers, and a reader for every drive that any of them looks at."""

    def __init__(self, facts: FactsKeeper) -> None:
        self.facts = facts
        self.onlookers: set[Onlooker] = set()
        self._readers: dict[tuple[str, int], asyncio.Task[None]] = {}
        self._gone: dict[tuple[int, int, str], float] = {}  # (axis, user, tab) -> when its page went
        self._texts: dict[tuple[int, int, str], tuple[Contact, str]] = {}

    async def look(self, axis_id: int, who: Pass, *, session: str, tab: str) -> AsyncGenerator[str]:
        """Yield the strip of an axis, as JSON, as often as the drive is looked at; ends with the session."""
        await self._read_once()
        with self.present(who, session=session, tab=tab, axis_id=axis_id) as me:
            self._attend(axis_id)
            first = True
            while not me.is_over:
                if not first:
                    # Not wait_for: it may swallow a cancellation that comes with the event, and the page would stay.
                    with contextlib.suppress(TimeoutError):
                        async with asyncio.timeout(1.0):
                            await me.told.wait()
                first = False
                me.told.clear()
                if self.facts.has_ended(session):
                    return
                facts = self.facts.of(axis_id)
                if facts is None:
                    if self.facts.is_fresh:
                        return  # the axis is gone
                    continue
                contact = me.newest["contact"] if me.newest else Contact(None, None, 0.0)
                age = time.monotonic() - contact.at
                if contact.status is not None and age > STALE:  # what was so a while ago is not what is so
                    contact = Contact(None, f"It has not answered for {age:.0f} s.", contact.at)
                yield self._text(facts, contact, who.user_id)
                if not facts.connected:
                    await asyncio.sleep(0.5)

    @contextlib.contextmanager
    def present(self, who: Pass, *, session: str, tab: str, axis_id: int = 0) -> Iterator[Onlooker]:
        """A page that is open, of an axis or of none: the drives its user leads are told that it is there."""
        me = Onlooker(axis_id, who, session, tab or secrets.token_hex(8))
        self.facts.watch_session(session)
        self.onlookers.add(me)
        try:
            yield me
        finally:
            self.onlookers.discard(me)
            self._gone[(axis_id, who.user_id, me.tab)] = time.monotonic()
            if not any(o.session == session for o in self.onlookers):
                self.facts.forget_session(session)

    async def _read_once(self) -> None:
        """Let the facts be read once more, so that a new page does not begin with what was so before its request."""
        seen = self.facts.rounds
        self.facts.hurry()
        until = time.monotonic() + 0.3
        while self.facts.rounds == seen and time.monotonic() < until:
            await asyncio.sleep(0.01)

    def _text(self, facts: AxisFacts, contact: Contact, user_id: int) -> str:
        """The strip as JSON; worked out once for all who would read the same."""
        mine = user_id if user_id == facts.leader_id else 0
        database = "ok" if self.facts.is_fresh else "away"
        key = (facts.pk, mine, database)
        known = self._texts.get(key)
        if known is None or known[0] is not contact:
            strip = strip_from(facts, contact, user_id=user_id)
            known = (contact, json.dumps(strip | {"database": database}, allow_nan=False))
            self._texts[key] = known
        return known[1]

    def _attend(self, axis_id: int) -> None:
        facts = self.facts.of(axis_id)
        if facts is None:
            return
        task = self._readers.get(facts.address)
        if task is None or task.done():
            self._readers[facts.address] = asyncio.create_task(self._read(facts.address))

    def attend_all(self) -> None:
        """See to it that every drive with a connected axis has a reader."""
        for facts in self.facts.all():
            if facts.connected:
                self._attend(facts.pk)

    def _axes_at(self, address: tuple[str, int]) -> list[AxisFacts]:
        looked = {o.axis_id for o in self.onlookers}
        here = [f for f in self.facts.all() if f.address == address and f.connected]
        return [f for f in here if f.pk in looked or self._pages_of(f)]

    async def _read(self, address: tuple[str, int]) -> None:
        """Look at the axes of one drive, over and over, until nobody looks on; a broken line is made anew."""
        streams: tuple[asyncio.StreamReader, asyncio.StreamWriter] | None = None
        number, idle_since = 0, time.monotonic()
        try:
            while True:
                begun = time.monotonic()
                axes = self._axes_at(address)
                if axes:
                    idle_since = begun
                elif begun - idle_since > UNUSED:
                    return
                for facts in axes:
                    number += 1
                    try:
                        async with asyncio.timeout(ANSWER):
                            if streams is None:
                                streams = await _connect(address)
                            status = await _ask(streams, number, self._question(facts))
                        contact = Contact(status, None, time.monotonic())
                    except (OSError, TimeoutError, WireError, _Refused) as error:
                        contact = Contact(None, str(error) or "no answer in time", time.monotonic())
                        if streams is not None and not isinstance(error, _Refused):
                            streams[1].close()
                            streams = None
                    for one in self.onlookers:
                        if one.axis_id == facts.pk:
                            one.show(contact)
                pause = PERIOD if streams is not None or not axes else AGAIN
                await asyncio.sleep(max(pause - (time.monotonic() - begun), 0.005))
        finally:
            if streams is not None:
                streams[1].close()

    def _question(self, facts: AxisFacts) -> dict[str, Any]:
        """What a look says to the drive: the leader's lease, and which of the leader's pages are open.

        While a run is on, its worker alone renews the lease: a page must not keep alive what a dead worker commanded.
        """
        params: dict[str, Any] = {"axis": facts.remote}
        pages = self._pages_of(facts)
        if pages and facts.lease:
            params |= {"watch": pages, "lease": facts.lease}
        return params

    def _pages_of(self, facts: AxisFacts) -> list[str]:
        """Open pages of the one who leads, of this axis or any other; with those that went a moment ago."""
        if facts.leader_id is None or not facts.lease:
            return []
        now = time.monotonic()
        self._gone = {k: t for k, t in self._gone.items() if now - t < AFTER}
        open_now = [o.tab for o in self.onlookers if o.who.user_id == facts.leader_id]
        just_gone = [tab for _, user, tab in self._gone if user == facts.leader_id]
        return sorted({*open_now, *just_gone})[:200]


class _Refused(Exception):
    """The drive answered that it does not."""


async def _connect(address: tuple[str, int]) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
    streams = await asyncio.open_connection(*address, limit=LONGEST_REQUEST)
    if settings.LINK_SECRET:
        await _ask_any(streams, Request(0, "link.hello", {"secret": settings.LINK_SECRET}))
    return streams


async def _ask(
    streams: tuple[asyncio.StreamReader, asyncio.StreamWriter], number: int, params: dict[str, Any]
) -> dict[str, Any]:
    return dict(await _ask_any(streams, Request(number, "drive.status", params)))


async def _ask_any(streams: tuple[asyncio.StreamReader, asyncio.StreamWriter], request: Request) -> Any:
    reader, writer = streams
    writer.write(encode_request(request))
    await writer.drain()
    line = await reader.readline()
    if not line:
        raise ConnectionError("it hung up")
    response = decode_response(line)
    if response.error is not None:
        raise _Refused(str(response.error["message"])[:300])
    if response.id != request.id:
        raise ConnectionError("the answer belongs to another question")
    return response.result
