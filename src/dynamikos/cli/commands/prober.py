"""The prober process (started by demo)."""

import os
import signal
import threading

import click


@click.command(hidden=True)
def command() -> None:
    """Read the probes of runs."""
    import django

    django.setup()
    own = frozenset(int(port) for port in os.environ.get("DYNAMIKOS_OWN_PORTS", "").split(",") if port)
    from dynamikos.fleet.probing import serve

    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    serve(stop, own)
