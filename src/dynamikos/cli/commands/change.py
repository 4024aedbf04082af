"""./dynamikos change"""

import sys
from pathlib import Path
from typing import IO

import click
import orjson

from dynamikos.cli.refusing import refuse
from dynamikos.cli.writing import write_over
from dynamikos.core.errors import DynamikosError


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.argument("changes", type=click.File("rb"))
@click.option(
    "--in-place", is_flag=True, help="Write the changed journey over FILE instead of printing it."
)
@click.option("--json", "as_json", is_flag=True, help="Say what is wrong as a JSON object.")
def command(file: Path, changes: IO[bytes], in_place: bool, as_json: bool) -> None:
    """Make CHANGES (a JSON file, or - for standard input) of the journey in FILE.

    CHANGES is one change or a list of them, such as {"change": "switch", "at": "sign-in"}: the same
    that the ladder makes. All are made, or none. Needs no database.
    """
    from dynamikos.core.journeys import parse_journey, write_journey
    from dynamikos.core.journeys.changes import read_change

    try:
        journey = parse_journey(file.read_text(encoding="utf-8"), file=file.name)
        try:
            given = orjson.loads(changes.read())
        except orjson.JSONDecodeError as problem:
            raise DynamikosError(f"The changes are not JSON: {problem}.") from problem
        for number, plain in enumerate(given if isinstance(given, list) else [given], 1):
            try:
                journey = read_change(plain).apply(journey, {}).journey
            except DynamikosError as problem:
                raise DynamikosError(f"change {number}: {problem}") from problem
        if in_place:
            write_over(file, write_journey(journey).encode())
        else:
            click.echo(write_journey(journey), nl=False)
    except (DynamikosError, OSError, UnicodeDecodeError) as problem:
        refuse("nothing was changed", problem, as_json=as_json)
        sys.exit(2)
