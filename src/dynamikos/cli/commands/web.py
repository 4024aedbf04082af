"""The web process (started by demo)."""

import click


@click.command(hidden=True)
@click.option("--port", type=int, required=True)
@click.option("--host", default="127.0.0.1")
def command(port: int, host: str) -> None:
    """Serve the web application."""
    import uvicorn

    uvicorn.run(
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
