"""./dynamikos generator"""

import os
from pathlib import Path

import click

LONGEST = 60  # signs of a place


def _place(context: click.Context, option: click.Parameter, value: str) -> str:
    """Raises click.BadParameter for none, and for one that is too long to be kept."""
    if not value.strip() or len(value) > LONGEST or not value.isprintable():
        raise click.BadParameter(f"a place is called by 1 to {LONGEST} signs in one line.")
    return value.strip()


@click.command()
@click.option(
    "--place",
    default="here",
    show_default=True,
    callback=_place,
    help="Where this generator stands.",
)
@click.option(
    "--distance-ms",
    default=0.0,
    type=click.FloatRange(0, 10_000),
    help="A simulated round trip that its users' exchanges take longer, as if it stood so far "
    "away.",
)
def command(place: str, distance_ms: float) -> None:
    """Run a generator, one process for one core, until Ctrl-C.

    It needs the database of a running demo, or the one that DATABASE_URL names.
    """
    import uvloop

    from dynamikos.cli import processes
    from dynamikos.cli.state import State
    from dynamikos.fleet.generator import serve

    state = State.open()
    url = os.environ.get("DYNAMIKOS_GENERATOR_URL")
    from dynamikos.fleet.settings import own_ports

    own = own_ports()
    if url is None:
        addresses, cluster = processes.database(state)
        if cluster is not None and cluster.process is not None:
            cluster.stop()
            raise SystemExit(
                "dynamikos: nothing is running that could give this generator work. Start "
                "./dynamikos demo first, or"
                " set DATABASE_URL."
            )
        url, own = addresses.generator, frozenset(addresses.own_ports)
    spool = Path(state.folder) / "spool"
    uvloop.run(
        serve(
            url, place, distance_s=distance_ms / 1000, own_ports=own, spool=spool, tell=click.echo
        )
    )
