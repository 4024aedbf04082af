"""The coordinator process (started by demo)."""

import signal
import threading

import click


@click.command(hidden=True)
def command() -> None:
    """Watch over runs."""
    import django

    django.setup()
    from dynamikos.cli.starting import refuse_newer

    refuse_newer()
    from dynamikos.fleet.coordinator.loop import serve

    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    serve(stop)
