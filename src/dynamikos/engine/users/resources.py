"""The resources a page embeds, as a browser fetches them: the same headers, redirects followed, six
at a time from each origin.
"""

import asyncio

from dynamikos.core.errors import TemplateError
from dynamikos.core.exchanges import Bomb, decode_body
from dynamikos.core.exchanges.model import REDIRECTS
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.caching import sent_fields
from dynamikos.engine.http.messages import Base, Fields, Head
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.ports import Origin
from dynamikos.engine.users.attempt import Destination
from dynamikos.engine.users.compiled import (
    DEFAULT_HEADERS,
    MAX_HOPS,
    CompiledRequest,
    CompiledStep,
    located,
    resolve,
    split_url,
)
from dynamikos.engine.users.filling import Fill
from dynamikos.engine.users.user_context import UserContext
from dynamikos.engine.users.user_state import UserState
from dynamikos.engine.users.wire import Sent, Wire
from dynamikos.engine.users.witness import Witness


async def fetch_embedded(
    compiled: CompiledRequest,
    step: CompiledStep,
    page: str,
    own: UserState,
    context: UserContext,
    wire: Wire,
    witness: Witness,
) -> float:
    """Fetches the page's resources; returns when the last byte of the last one came."""
    embedded = _Embedded(compiled, step.embedded_series, page, own, context, wire, witness)
    return max(
        await asyncio.gather(*(embedded.fetch(fill) for fill in compiled.embedded)), default=0.0
    )


class _Embedded:
    """The resources of one page, while they are fetched."""

    def __init__(
        self,
        compiled: CompiledRequest,
        series: int,
        page: str,
        own: UserState,
        context: UserContext,
        wire: Wire,
        witness: Witness,
    ) -> None:
        self._compiled, self._series, self._page = compiled, series, page
        self._own, self._context, self._wire, self._witness = own, context, wire, witness
        self._gates: dict[Origin, asyncio.Semaphore] = {}
        self._home = split_url(page)[0]

    async def fetch(self, fill: Fill) -> float:
        """One of them, counted; returns when it was there."""
        found = _Fetched(self._context.clock.now(), self._page)
        try:
            await self._follow(found, fill(self._own.values))
        except Failure as failure:
            found.failed, found.reply, found.told = failure.kind, None, failure.detail
        except TemplateError as problem:
            found.failed, found.reply, found.told = "value-missing", None, str(problem)
        if found.cached:
            self._context.recorder.cached(self._series, self._context.clock.now())
            return found.due
        if found.failed or found.reply is None:
            return self._missed(found)
        return self._passed(found, found.reply)

    def _missed(self, found: "_Fetched") -> float:
        context, reply = self._context, found.reply
        ended = reply.last_at if reply is not None else context.clock.now()
        took = round((ended - found.due) * 1e6)
        context.recorder.missed(
            self._series, ended, took, found.failed, found.bytes_out, found.bytes_in
        )
        self._own.missed(found.failed, ended)
        if reason := context.choice.failed(self._series, found.failed):
            self._witness.exchange(
                self._compiled,
                found.sent,
                reason,
                took,
                found.hop,
                reply,
                error=found.told,
                resource=self._series,
            )
        return ended

    def _passed(self, found: "_Fetched", reply: Reply) -> float:
        context = self._context
        context.recorder.answered(self._series, found.due, reply, found.bytes_out, found.bytes_in)
        if (
            self._own.followed and not context.keep_everything
        ):  # a trial is about the journey's own requests
            took = round((reply.last_at - found.due) * 1e6)
            self._witness.exchange(
                self._compiled,
                found.sent,
                "followed",
                took,
                found.hop,
                reply,
                resource=self._series,
            )
        return reply.last_at

    async def _follow(self, found: "_Fetched", address: str) -> None:
        """From redirect to redirect, to an answer."""
        url = self._page
        for found.hop in range(MAX_HOPS + 1):
            url = resolve(url, address)
            origin, host, target = split_url(url)
            async with self._gates.setdefault(origin, asyncio.Semaphore(self._context.connections)):
                fields = _fields(self._compiled, self._own, is_home=origin == self._home)
                reply = await self._ask(
                    found, url, origin, Head(Base("GET", target, host, fields)), fields
                )
            if reply is None:
                found.cached = True
                return
            found.reply = reply
            found.bytes_out, found.bytes_in = (
                found.bytes_out + reply.bytes_out,
                found.bytes_in + reply.bytes_in,
            )
            if reply.opened_us is not None:
                self._context.recorder.opened(
                    self._series, reply.last_at, reply.opened_us, resumed=reply.resumed
                )
            location = reply.field(b"location") if reply.status in REDIRECTS else None
            if location is None:
                found.failed = wrong_with(reply)
                return
            address = located(location)
        found.failed = "redirect-loop"
        found.told = f"redirected more than {MAX_HOPS} times; the last address is {address[:200]}"

    async def _ask(
        self, found: "_Fetched", url: str, origin: Origin, head: Head, fields: Fields
    ) -> Reply | None:
        """One exchange; None where it is fresh in the user's cache. Raises Failure."""
        cache, sent, clock = self._own.cache, sent_fields(fields.pairs), self._context.clock
        entry = cache.find(url, sent) if cache is not None else None
        if entry is not None and entry.is_fresh(clock.wall()):
            return None
        for name, value in entry.conditions() if entry is not None else ():
            head = head.with_field(name, value)
        found.sent = flight = self._wire.exchange(origin, head, keep=self._witness.everything)
        reply = await flight.reply
        if cache is None:
            return reply
        if entry is not None and reply.status == 304:
            cache.renew(url, entry, reply, clock.wall(), heuristic=True)
        else:
            cache.keep(url, reply, sent, clock.wall(), heuristic=True)
        return reply


class _Nothing(Sent):
    """Nothing could be sent: what is said is the page that asked for it."""

    def __init__(self, page: str) -> None:
        super().__init__()
        origin, host, target = split_url(page)
        self._place = origin, Head(Base("GET", target, host)), b""

    @property
    def place(self) -> Destination:
        return self._place


class _Fetched:
    """How far a resource of `page` came."""

    def __init__(self, due: float, page: str) -> None:
        self.due = due
        self.sent: Sent = _Nothing(page)
        self.failed, self.told, self.hop, self.bytes_out, self.bytes_in = "", "", 0, 0, 0
        self.reply: Reply | None = None
        self.cached = False


def _fields(compiled: CompiledRequest, own: UserState, *, is_home: bool) -> Fields:
    """As every other request's: the engine's own headers where the journey's common ones do not say
    otherwise.
    """
    common = compiled.common if is_home else []
    carried = [(name, fill(own.values)) for name, fill in common if name.lower() != "host"]
    given = {name.lower() for name, _ in carried}
    return Fields(
        (*carried, *((name, value) for name, value in DEFAULT_HEADERS if name.lower() not in given))
    )


def wrong_with(reply: Reply) -> str:
    """The kind of failure that an answer is without any check, or ""."""
    if reply.status >= 400:
        return f"status-{reply.status}"
    if reply.encoding and reply.body and not reply.cut:
        try:
            decode_body(reply.body, reply.encoding.decode("latin-1"))
        except Bomb:
            return "body-bomb"
        except ValueError:
            return "body-encoding"
    return ""
