"""./dynamikos reset"""

import shutil

import click

from dynamikos.cli.state import State


@click.command()
@click.option("--yes", is_flag=True, help="Do not ask.")
def command(yes: bool) -> None:
    """Stop, then delete this clone's state: database, keys, logs.

    What was imported, edited and measured is gone then.
    """
    state = State.open()
    if not yes:
        click.confirm(
            f"Delete {state.folder} with everything that was imported, edited and measured?",
            abort=True,
        )
    state.stop_all()
    shutil.rmtree(state.folder)
    click.echo(f"deleted {state.folder}")
