"""The recorder process (started by demo)."""

import os
import signal
from pathlib import Path

import click


@click.command(hidden=True)
def command() -> None:
    """Open doorways and proxies for recordings."""
    import asyncio

    from dynamikos.fleet.recording import serve

    stop: list[int] = []
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.append(1))
    from dynamikos.fleet.settings import own_ports

    own = own_ports()
    folder = Path(os.environ["DYNAMIKOS_STATE_FOLDER"]) / "recorder"
    asyncio.run(serve(os.environ["DATABASE_URL"], folder, own, lambda: bool(stop)))
