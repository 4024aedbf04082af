"""How the stand-in is served."""

import socket

import uvicorn

from observatory import odd
from observatory.app import Observatory


def serve(app: Observatory, port: int, fd: int | None = None) -> None:
    """On loopback, until it is stopped; on a socket that listens already, if its descriptor is
    given.
    """
    config = uvicorn.Config(
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
    uvicorn.Server(config).run(sockets=[socket.socket(fileno=fd)] if fd is not None else None)
