"""How a command says that it could not do what it was asked."""

import click
import orjson

from dynamikos.core.errors import in_words, to_json


def refuse(what: str, problem: Exception, *, as_json: bool = False) -> None:
    """`what` ("could not search") and why, for a person; or, for a program, only the problem as
    JSON.
    """
    if as_json:
        click.echo(orjson.dumps(to_json(problem)))
    else:
        click.echo(f"{what}: {in_words(problem)}", err=True)
