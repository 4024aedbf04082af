"""How the stand-in is served."""

import uvicorn

from observatory import odd
from observatory.app import Observatory


def serve(app: Observatory, port: int) -> None:
    """On loopback, until it is stopped."""
    uvicorn.run(
        app,
        host="127.0.0.1",
        port=port,
        log_level="warning",
        access_log=False,
        loop="uvloop",
        http=odd.protocol(app.counts),
        timeout_keep_alive=75,
        timeout_graceful_shutdown=1,
        backlog=4096,
        server_header=False,
    )
