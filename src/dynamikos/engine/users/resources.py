"""The resources a page embeds, as a browser fetches them: the same headers, redirects followed, six at a time from each
origin.
"""

import asyncio
from typing import TYPE_CHECKING

from dynamikos.core.errors import TemplateError
from dynamikos.core.exchanges import Bomb, decode_body
from dynamikos.core.exchanges.model import REDIRECTS
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.ports import Origin
from dynamikos.engine.users.compiled import (
    DEFAULT_HEADERS,
    MAX_HOPS,
    CompiledRequest,
    CompiledStep,
    located,
    resolve,
    split_url,
)

if TYPE_CHECKING:
    from dynamikos.engine.users.performer import User

PARALLEL = 6


async def fetch_embedded(user: "User", compiled: CompiledRequest, step: CompiledStep, page: str) -> float:
    """Fetches the page's resources; returns when the last byte of the last one came."""
    around, recorder, witness = user.around, user.around.recorder, user.witness
    gates: dict[Origin, asyncio.Semaphore] = {}
    home = split_url(page)[0]
    last = 0.0

    async def fetch(address: str) -> None:
        nonlocal last
        due, failed, bytes_out, bytes_in = around.clock.now(), "redirect-loop", 0, 0
        reply: Reply | None = None
        told, url, head, span, hop = "", page, b"", 0, 0
        try:
            for hop in range(MAX_HOPS + 1):  # noqa: B007 -- how far it came
                url = resolve(url, address)
                origin, host, target = split_url(url)
                async with gates.setdefault(origin, asyncio.Semaphore(PARALLEL)):
                    head, span = _head(user, compiled, target, host, is_home=origin == home), next(around.spans)
                    reply = await user.hop(
                        origin, target, "GET", head, b"", span, around.keep_everything, around.clock.now()
                    )
                bytes_out, bytes_in = bytes_out + reply.bytes_out, bytes_in + reply.bytes_in
                if reply.opened_us is not None:
                    recorder.opened(step.embedded_series, reply.last_at, reply.opened_us, resumed=reply.resumed)
                location = reply.header(b"location") if reply.status in REDIRECTS else None
                if location is None:
                    failed = wrong_with(reply)
                    break
                address = located(location)
            else:
                told = f"redirected more than {MAX_HOPS} times; the last address is {address[:200]}"
        except Failure as failure:
            failed, reply, told = failure.kind, None, failure.detail
        except TemplateError as problem:
            failed, reply, told = "value-missing", None, str(problem)
        ended = reply.last_at if reply is not None else around.clock.now()
        if failed or reply is None:
            duration = round((ended - due) * 1e6)
            recorder.missed(step.embedded_series, ended, duration, failed, bytes_out, bytes_in)
            if reason := around.choice.failed(step.embedded_series, failed):
                witness.keep(
                    compiled, reason, "GET", url, head, b"", duration, span, hop, reply,
                    error=told, resource=step.embedded_series,
                )  # fmt: skip
        else:
            recorder.answered(step.embedded_series, due, reply.sent_at, reply.first_at, ended, bytes_out, bytes_in)
        last = max(last, ended)

    addresses = [fill(user.values) for fill in compiled.embedded]
    await asyncio.gather(*(fetch(address) for address in addresses))
    return last


def _head(user: "User", compiled: CompiledRequest, target: str, host: str, *, is_home: bool) -> bytes:
    """As every other request's: the engine's own headers where the journey's common ones do not say otherwise."""
    carried = [(name, fill(user.values)) for name, fill in compiled.common if name.lower() != "host"] if is_home else []
    given = {name.lower() for name, _ in carried}
    lines = [*carried, *((name, value) for name, value in DEFAULT_HEADERS if name.lower() not in given)]
    return "".join(
        [f"GET {target} HTTP/1.1\r\nHost: {host}\r\n", *(f"{name}: {value}\r\n" for name, value in lines)]
    ).encode()


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
