"""./dynamikos stop"""

import click

from dynamikos.cli.state import State


@click.command()
def command() -> None:
    """Stop the processes this clone has started (by id, start time and command), and nothing
    else.
    """
    ended = State.open().stop_all()
    click.echo("stopped " + ", ".join(ended) if ended else "nothing of this clone is running")
