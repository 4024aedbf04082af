"""The resources a page embeds, as a browser fetches them."""

import asyncio
from typing import TYPE_CHECKING

from dynamikos.engine.failures import Failure
from dynamikos.engine.users.compiled import CompiledRequest, CompiledStep, resolve, split_url

if TYPE_CHECKING:
    from dynamikos.engine.users.performer import User

PARALLEL = 6


async def fetch_embedded(user: "User", compiled: CompiledRequest, step: CompiledStep, page: str) -> float:
    """Fetches the page's resources, up to six at a time; returns when the last byte of the last one came."""
    around = user.around
    gate = asyncio.Semaphore(PARALLEL)
    home = split_url(page)[0]
    carried = "".join(f"{name}: {fill(user.values)}\r\n" for name, fill in compiled.common)
    last = 0.0

    async def fetch(address: str) -> None:
        nonlocal last
        async with gate:
            due = around.clock.now()
            try:
                url = resolve(page, address)
                origin, host, target = split_url(url)
                head = f"GET {target} HTTP/1.1\r\nHost: {host}\r\nUser-Agent: Dynamikos/0.1\r\nAccept: */*\r\n"
                head += carried if origin == home else ""
                reply = await user.hop(origin, target, "GET", head.encode(), b"", next(around.spans), False, due)
            except Failure as failure:
                ended = around.clock.now()
                around.recorder.missed(step.embedded_series, ended, round((ended - due) * 1e6), failure.kind)
            else:
                ended = reply.last_at
                duration = round((ended - due) * 1e6)
                if reply.status >= 400:
                    around.recorder.missed(step.embedded_series, ended, duration, f"status-{reply.status}", reply.bytes_out, reply.bytes_in)
                else:
                    around.recorder.answered(
                        step.embedded_series, due, reply.sent_at, reply.first_at, ended, reply.bytes_out, reply.bytes_in
                    )
            last = max(last, ended)

    async with asyncio.TaskGroup() as group:
        for fill in compiled.embedded:
            group.create_task(fetch(fill(user.values)))
    return last
