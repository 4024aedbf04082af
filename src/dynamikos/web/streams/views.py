"""Server-sent events of one subject: `id: <subject>.<sequence>`, permission at connect and every
30 s.
"""

import asyncio
import time
import uuid
from collections.abc import AsyncIterator, Awaitable, Callable

from django.http import HttpRequest, StreamingHttpResponse

from dynamikos.core.figures import digits
from dynamikos.web.streams.broker import broker
from dynamikos.web.streams.models import Message
from dynamikos.web.ui.release_connection import briefly

PERMISSION_S, IDLE_S = 30.0, 10.0


def event_stream(
    request: HttpRequest, subject: uuid.UUID, may: Callable[[], Awaitable[bool]]
) -> StreamingHttpResponse:
    """The stream of `subject` from Last-Event-ID (or ?after=) on; ends when `may` says no."""
    given = request.headers.get("Last-Event-ID", "") or request.GET.get("after", "")
    last = given.rpartition(".")[2]
    number = digits(last)
    after = -1 if number is None else number
    return StreamingHttpResponse(
        _events(subject, after, may),
        content_type="text/event-stream",
        headers={"Cache-Control": "no-cache", "X-Accel-Buffering": "no"},
    )


@briefly
def _news(subject: uuid.UUID, after: int) -> list[Message]:
    return list(
        Message.objects.filter(subject=subject, sequence__gt=after).order_by("sequence")[:1000]
    )


async def _events(
    subject: uuid.UUID, after: int, may: Callable[[], Awaitable[bool]]
) -> AsyncIterator[str]:
    asked = time.monotonic()
    yield ": welcome\n\n"
    async with broker.hints(subject) as hints:
        while True:
            for message in await _news(subject, after):
                after = message.sequence
                lines = "".join(f"data: {line}\n" for line in message.body.split("\n"))
                yield f"id: {subject}.{message.sequence}\nevent: {message.event}\n{lines}\n"
                if message.event == "end":
                    return
            if time.monotonic() - asked > PERMISSION_S:
                asked = time.monotonic()
                if not await may():
                    return
            try:
                await asyncio.wait_for(hints.get(), IDLE_S)
                while not hints.empty():
                    hints.get_nowait()
            except TimeoutError:
                yield ": still here\n\n"
