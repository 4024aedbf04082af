"""./dynamikos shell"""

import sys

import click


@click.command(context_settings={"ignore_unknown_options": True, "allow_extra_args": True})
@click.pass_context
def command(ctx: click.Context) -> None:
    """Django's shell on this clone's database; other words are given to manage.py, e.g. `shell
    createsuperuser`.
    """
    from dynamikos.cli import processes
    from dynamikos.cli.state import State

    state = State.open()
    addresses, cluster = processes.database(state)
    try:
        processes.use_django(state, addresses)
        processes.migrate(addresses)
        from django.core.management import execute_from_command_line

        execute_from_command_line([sys.argv[0], *(ctx.args or ["shell"])])
    finally:
        if cluster is not None:
            cluster.stop()
