"""./dynamikos bench"""

import importlib
import os
import platform
import sys
import time

import click

from dynamikos.cli.figures_page import Figure, write
from dynamikos.cli.state import ROOT

NAMES = (
    "target",
    "truth",
    "engine",
    "realistic",
    "arrivals",
    "personas",
    "files",
    "data",
    "pages",
    "wide",
    "noticing",
    "curve",
    "comparing",
    "doubts",
    "idle",
    "suspects",
    "sets",
    "viewers",
    "weathers",
    "strands",
    "recorder",
    "ladder",
    "real",
)


@click.command()
@click.argument("names", nargs=-1)
@click.option(
    "--long",
    "is_long",
    is_flag=True,
    help="suspects: beside them eight real runs of half an hour, at once.",
)
@click.option(
    "--write",
    "is_written",
    is_flag=True,
    help="Keep the figures in bench/results, and make docs/benchmarks.md anew.",
)
def command(names: tuple[str, ...], is_long: bool, is_written: bool) -> None:
    """Run the benchmarks NAMES (all if none is named): target, truth, engine, realistic, arrivals,
    personas, files, data, pages, wide, noticing, curve, comparing, doubts, idle, suspects, sets,
    viewers, weathers, strands, recorder, ladder, real.

    Goals are ratios taken in one run; exit code 1 if one is not reached. Figures with their machine
    are in docs/benchmarks.md.
    """
    sys.path.insert(0, str(ROOT))
    if is_long:
        os.environ["DYNAMIKOS_LONG"] = "1"
    unknown = [name for name in names if name not in NAMES]
    if unknown:
        raise click.BadParameter(
            f"there is no benchmark {unknown[0]}; choose from {', '.join(NAMES)}"
        )
    click.echo(
        f"{time.strftime('%Y-%m-%d')}  {platform.platform()}  Python {platform.python_version()}"
    )
    wrong = 0
    figures: list[Figure] = []
    for name in names or NAMES:
        begun = time.monotonic()
        click.echo(f"\n{name}")
        for what, value, unit, goal, met in importlib.import_module(f"bench.{name}").run():
            wrong += not met
            figures.append(Figure(name, what, float(value), unit, goal, bool(met)))
            verdict = f"   goal {goal}: {'reached' if met else 'NOT REACHED'}" if goal else ""
            click.echo(f"  {what:64} {value:>12,.4g} {unit:4}{verdict}")
        click.echo(f"  ({time.monotonic() - begun:.0f} s)")
    if is_written:
        file = write(ROOT / "bench" / "results", ROOT / "docs" / "benchmarks.md", figures)
        click.echo(f"\nkept in {file.relative_to(ROOT)}; docs/benchmarks.md is made anew")
    sys.exit(1 if wrong else 0)
