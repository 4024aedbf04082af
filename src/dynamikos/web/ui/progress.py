"""Long work with progress that moves: lines of text while it runs, the last one says where to go or
what is wrong.
"""

import asyncio
import logging
from collections.abc import AsyncIterator, Callable

from asgiref.sync import sync_to_async
from django.db import DatabaseError
from django.http import StreamingHttpResponse

from dynamikos.core.errors import DynamikosError
from dynamikos.web.ui.release_connection import give_back, given_back

log = logging.getLogger(__name__)
Work = Callable[[Callable[[float], None]], str]


def streamed(work: Work) -> StreamingHttpResponse:
    """Runs `work(progress)` in a thread; lines "progress 0.42", then "done ADDRESS" or "error
    MESSAGE".

    When the reader goes away, `progress` raises, so that the work ends and what it changed is
    rolled back.
    """

    async def lines() -> AsyncIterator[str]:
        loop, told = asyncio.get_running_loop(), {"share": 0.0}
        gone = False

        def progress(share: float) -> None:
            if gone:
                raise DynamikosError("Stopped: nobody waits for it any more.")
            told["share"] = share

        task = loop.create_task(sync_to_async(given_back(work), thread_sensitive=False)(progress))
        last = -1.0
        try:
            while not task.done():
                await asyncio.wait({task}, timeout=0.2)
                if told["share"] != last:
                    last = told["share"]
                    yield f"progress {last:.3f}\n"
        # the person left or pressed Stop: the work ends at its next step
        except (asyncio.CancelledError, GeneratorExit):
            gone = True
            task.add_done_callback(lambda done: done.cancelled() or done.exception())
            raise
        try:
            yield f"done {task.result()}\n"
        except DynamikosError as problem:
            yield "error " + str(problem).replace("\n", " ") + "\n"
        except DatabaseError:
            log.exception("the database failed while something was worked at")
            yield (
                "error The database does not answer, so nothing of this was kept. Try it again in "
                "a moment.\n"
            )

    give_back()  # of the request, which lasts as long as the work does
    return StreamingHttpResponse(
        lines(), content_type="text/plain; charset=utf-8", headers={"X-Accel-Buffering": "no"}
    )
