"""./dynamikos compile"""

import sys

import click

from dynamikos.machine import making
from dynamikos.machine.modules import PLACE


@click.command()
def command() -> None:
    """Make machine code of the engine's busiest modules, which takes about a minute; `demo` and
    `bench` do so by themselves. It lies in .venv/machine-code, or in the folder that
    DYNAMIKOS_MACHINE_CODE names.
    """
    code = making.main()
    if code == 0:
        click.echo(f"the engine's machine code is in {PLACE}")
    sys.exit(code)
