"""What returning visitors have in their caches: fetched from the target before second 0, counted
nowhere.
"""

import asyncio
from collections.abc import Iterable, Sequence

from dynamikos.core.errors import TemplateError
from dynamikos.engine.failures import Failure
from dynamikos.engine.fetching import ask
from dynamikos.engine.http.caching import Entry, entry_of, sent_fields
from dynamikos.engine.http.messages import Fields
from dynamikos.engine.ports import Clock, Network, hang_up
from dynamikos.engine.users.compiled import (
    DEFAULT_HEADERS,
    CompiledRequest,
    Script,
    resolve,
    split_url,
)

AT_ONCE, LONGEST_S = 6, 20.0
Primed = Sequence[tuple[str, Entry]]


def _addresses(script: Script) -> Iterable[tuple[str, CompiledRequest, bool]]:
    """(address, request, whether it is a resource that a page embeds) of all GETs that are known
    before the run.
    """
    for step in script.every:
        for request in step.requests:
            if request.plain is None or request.method != "GET":
                continue
            origin, head, _ = request.plain
            page = f"{origin[0]}://{head.base.host}{head.base.target}"
            yield page, request, False
            for fill in request.embedded:
                try:
                    yield resolve(page, fill({})), request, True
                except (TemplateError, Failure):
                    continue


async def prime(script: Script, away_s: float, network: Network, clock: Clock) -> Primed:
    """Everything of a journey that can be kept, as somebody has it who fetched it `away_s` ago.
    What can't be had is left out, and asked for by users as by those who come for the first time.
    """
    wanted = {address: (request, resource) for address, request, resource in _addresses(script)}
    made: list[tuple[str, Entry]] = []
    gate = asyncio.Semaphore(AT_ONCE)

    async def fetch(address: str, request: CompiledRequest, resource: bool) -> None:
        async with gate:
            try:
                origin, host, target = split_url(address)
                fields = (
                    Fields(DEFAULT_HEADERS)
                    if resource or request.base is None
                    else request.base.fixed
                )
                link = await network.open(origin, {})
            except Failure:
                return
            try:
                reply = await ask(link, clock, host, target, fields)
            except Failure:
                return
            finally:
                hang_up(link)
        if reply.cut:
            return
        entry = entry_of(
            reply,
            sent_fields(fields.pairs),
            clock.wall() - away_s,
            heuristic=resource,
            body=reply.body,
        )
        if entry is not None:
            made.append((address, entry))

    tasks = [asyncio.create_task(fetch(address, *how)) for address, how in wanted.items()]
    if tasks:
        _, late = await asyncio.wait(tasks, timeout=LONGEST_S)
        for task in late:
            task.cancel()
    return sorted(made, key=lambda each: each[0])
