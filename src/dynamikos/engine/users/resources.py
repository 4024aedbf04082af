"""The resources a page embeds, as a browser fetches them: the same headers, redirects followed, six at a time from each
origin.
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
    around: UserContext,
    wire: Wire,
    witness: Witness,
) -> float:
    """Fetches the page's resources; returns when the last byte of the last one came."""
    gates: dict[Origin, asyncio.Semaphore] = {}
    home = split_url(page)[0]
    last = 0.0

    async def fetch(fill: Fill) -> None:
        nonlocal last
        found = _Fetched(around.clock.now(), page)
        try:
            await follow(found, fill(own.values))
        except Failure as failure:
            found.failed, found.reply, found.told = failure.kind, None, failure.detail
        except TemplateError as problem:
            found.failed, found.reply, found.told = "value-missing", None, str(problem)
        if found.cached:
            around.recorder.cached(step.embedded_series, around.clock.now())
            last = max(last, found.due)
            return
        reply, due, series = found.reply, found.due, step.embedded_series
        ended = reply.last_at if reply is not None else around.clock.now()
        if found.failed or reply is None:
            took = round((ended - due) * 1e6)
            around.recorder.missed(series, ended, took, found.failed, found.bytes_out, found.bytes_in)
            own.missed(found.failed, ended)
            if reason := around.choice.failed(series, found.failed):
                witness.exchange(
                    compiled, found.sent, reason, took, found.hop, reply, error=found.told, resource=series
                )
        else:
            around.recorder.answered(series, due, reply, found.bytes_out, found.bytes_in)
            if own.followed and not around.keep_everything:  # a trial is about the journey's own requests
                took = round((ended - due) * 1e6)
                witness.exchange(compiled, found.sent, "followed", took, found.hop, reply, resource=series)
        last = max(last, ended)

    async def follow(found: "_Fetched", address: str) -> None:
        url = page
        for found.hop in range(MAX_HOPS + 1):
            url = resolve(url, address)
            origin, host, target = split_url(url)
            async with gates.setdefault(origin, asyncio.Semaphore(around.connections)):
                fields = _fields(compiled, own, is_home=origin == home)
                head, cache, wall = Head(Base("GET", target, host, fields)), own.cache, around.clock.wall()
                sent = sent_fields(fields.pairs)
                entry = cache.find(url, sent) if cache is not None else None
                if entry is not None and entry.is_fresh(wall):
                    found.cached = True
                    return
                for name, value in entry.conditions() if entry is not None else ():
                    head = head.with_field(name, value)
                found.sent = flight = wire.exchange(origin, head, keep=witness.everything)
                found.reply = reply = await flight.reply
                if cache is not None:
                    if entry is not None and reply.status == 304:
                        cache.renew(url, entry, reply, around.clock.wall(), heuristic=True)
                    else:
                        cache.keep(url, reply, sent, around.clock.wall(), heuristic=True)
            found.bytes_out, found.bytes_in = found.bytes_out + reply.bytes_out, found.bytes_in + reply.bytes_in
            if reply.opened_us is not None:
                around.recorder.opened(step.embedded_series, reply.last_at, reply.opened_us, resumed=reply.resumed)
            location = reply.field(b"location") if reply.status in REDIRECTS else None
            if location is None:
                found.failed = wrong_with(reply)
                return
            address = located(location)
        found.failed = "redirect-loop"
        found.told = f"redirected more than {MAX_HOPS} times; the last address is {address[:200]}"

    await asyncio.gather(*(fetch(fill) for fill in compiled.embedded))
    return last


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
    """As every other request's: the engine's own headers where the journey's common ones do not say otherwise."""
    common = compiled.common if is_home else []
    carried = [(name, fill(own.values)) for name, fill in common if name.lower() != "host"]
    given = {name.lower() for name, _ in carried}
    return Fields((*carried, *((name, value) for name, value in DEFAULT_HEADERS if name.lower() not in given)))


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
