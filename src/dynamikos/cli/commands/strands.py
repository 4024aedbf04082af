"""./dynamikos strands"""

import json
import sys
from pathlib import Path

import click

from dynamikos.cli.refusing import refuse
from dynamikos.core.errors import DynamikosError


@click.command()
@click.argument(
    "files", nargs=-1, required=True, type=click.Path(exists=True, dir_okay=False, path_type=Path)
)
@click.option(
    "--rehearsal",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="A HAR file of a replay of the first recording.",
)
@click.option(
    "--hosts",
    default="",
    help="Origins to look at, separated by commas; the first page's own site if not given.",
)
@click.option(
    "--json",
    "as_json",
    is_flag=True,
    help="Print a JSON array of all candidates (docs/strands.md).",
)
def command(files: tuple[Path, ...], rehearsal: Path | None, hosts: str, as_json: bool) -> None:
    """Search the HAR FILES, recordings of one journey, for values that the server issues and the
    client sends back.

    Needs no database and sends nothing. With a second recording, or a rehearsal, what changes is
    known instead of guessed.
    """
    from dynamikos.core.captures import described
    from dynamikos.core.correlation import find_strands
    from dynamikos.core.correlation.model import as_document
    from dynamikos.core.exchanges import read_har

    def read(path: Path):  # type: ignore[no-untyped-def]
        try:
            return read_har(path.read_bytes()).exchanges
        except DynamikosError as problem:
            raise DynamikosError(f"{path.name}: {problem}") from problem

    try:
        found = find_strands(
            [read(path) for path in files],
            rehearsal=read(rehearsal) if rehearsal is not None else None,
            origins=[each.strip().rstrip("/") for each in hosts.split(",") if each.strip()] or None,
        )
    except DynamikosError as problem:
        refuse("could not search", problem, as_json=as_json)
        sys.exit(2)
    if as_json:
        click.echo(
            json.dumps([as_document(strand) for strand in found], ensure_ascii=False, indent=1)
        )
        return
    for strand in found:
        if strand.kind == "constant":
            continue
        mark = "proven" if strand.proven else ""
        click.echo(
            f"{strand.kind:12}{strand.score:5.2f}  {mark:7} {strand.name:24} {_short(strand.value)}"
        )
        for reason in strand.reasons:
            click.echo(f"{'':28}{reason}")
        if strand.capture is not None:
            click.echo(f"{'':28}capture by {': '.join(described(strand.capture))}")
        uses = ", ".join(f"entry {use.entry} ({use.place})" for use in strand.uses[:6])
        click.echo(f"{'':28}sent in {uses}{' …' if len(strand.uses) > 6 else ''}")
    constant = sum(strand.kind == "constant" for strand in found)
    click.echo(f"{constant} constant values are not shown; --json has them")


def _short(value: str) -> str:
    return value if len(value) <= 60 else value[:57] + "…"
