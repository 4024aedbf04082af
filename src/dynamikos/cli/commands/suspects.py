"""./dynamikos suspects"""

import sys
from pathlib import Path

import click
import orjson

from dynamikos.cli.refusing import refuse
from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits, odds


@click.command()
@click.argument("run")
@click.option(
    "--step",
    required=True,
    metavar="KEY",
    help="The step whose time is to be explained, by its key.",
)
@click.option(
    "--from",
    "from_s",
    type=int,
    required=True,
    metavar="S",
    help="Second of the run that it begins at.",
)
@click.option("--to", "to_s", type=int, required=True, metavar="S", help="And ends before.")
@click.option(
    "--score",
    type=float,
    metavar="Z",
    help="Show those from this score on, instead of the usual one.",
)
@click.option(
    "--project",
    help="For a run's number: the project it belongs to, needed only if there are several.",
)
@click.option("--json", "as_json", is_flag=True, help="Print a JSON array (docs/run-command.md).")
def command(
    run: str,
    step: str,
    from_s: int,
    to_s: int,
    score: float | None,
    project: str | None,
    as_json: bool,
) -> None:
    """What moved with a step's time in a window of RUN: a folder of `run --keep`, or the number of
    a project's run.
    """
    from dynamikos.cli import folder

    try:
        if to_s <= from_s or from_s < 0:
            raise DynamikosError("--from has to be a second before that of --to")
        if Path(run).is_dir():
            found = folder.suspects_in(Path(run), step, (from_s, to_s), score)
        elif (number := digits(run)) is not None:
            from dynamikos.cli.project_run import suspects_of_run

            found = suspects_of_run(number, project, step, (from_s, to_s), score)
        else:
            raise DynamikosError(f"{run} is neither a folder nor the number of a run")
    except (DynamikosError, OSError) as problem:
        refuse("could not look", problem)
        sys.exit(2)
    if as_json:
        click.echo(
            orjson.dumps(
                [folder.as_plain(each) for each in found.every], option=orjson.OPT_INDENT_2
            )
        )
    else:
        click.echo(found.sentence)
    for each in found.every if not as_json else ():
        moved = f"{'rose' if each.sign > 0 else 'fell'} {each.words}"
        chance = "" if each.p is None else f", by chance {odds(each.p)}"
        click.echo(f"{each.score:6.1f}  {each.measure}  {moved}{chance}")
        for other in each.folded:
            click.echo(f"        with it {other}")
    if found.followers and not as_json:
        click.echo(f"follow the load: {', '.join(found.followers)}")
