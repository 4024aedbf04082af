"""The web process (started by demo)."""

import click


@click.command(hidden=True)
@click.option("--port", type=int, required=True)
@click.option("--host", default="127.0.0.1")
@click.option("--fd", type=int, help="A socket that listens already, from the parent process.")
def command(port: int, host: str, fd: int | None) -> None:
    """Serve the web application."""
    import os
    import socket

    import uvicorn

    os.environ.setdefault("DYNAMIKOS_POOL", "16")
    config = uvicorn.Config(
        "dynamikos.web.asgi:application",
        host=host,
        port=port,
        log_level="warning",
        access_log=False,
        loop="uvloop",
        http="httptools",
        timeout_graceful_shutdown=1,
        lifespan="off",
        server_header=False,
    )
    uvicorn.Server(config).run(sockets=[socket.socket(fileno=fd)] if fd is not None else None)
