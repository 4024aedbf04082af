"""./dynamikos compare"""

import sys
from pathlib import Path

import click
import orjson

from dynamikos.cli.refusing import refuse
from dynamikos.core.comparison import Comparison, Difference
from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits, short, signed


@click.command()
@click.argument("a")
@click.argument("b")
@click.option(
    "--tolerate", type=click.FloatRange(0.1, 1000), metavar="PERCENT",
    help="A worsening that is still taken for none; 30 for one run against one, 10 for sets of "
         "three and more.",
)  # fmt: skip
@click.option(
    "--project",
    help="For runs' numbers: the project they belong to, needed only if there are several.",
)
@click.option("--json", "as_json", is_flag=True, help="Print JSON (docs/run-command.md).")
def command(a: str, b: str, tolerate: float | None, project: str | None, as_json: bool) -> None:
    """Whether B is worse than A. Each is a folder of `run --keep`, the number of a project's run,
    or several of them joined by commas, which are a set. Exit code: 0 not worse than tolerated, 1
    worse, 2 could not compare, 3 inconclusive.
    """
    from dynamikos.core.comparison import compare
    from dynamikos.core.frozen.differing import differing

    try:
        sides = [sides_of(each, project) for each in (a, b)]
    except (DynamikosError, OSError) as problem:
        refuse("could not compare", problem)
        sys.exit(2)
    found = compare(
        [run for run, _ in sides[0]],
        [run for run, _ in sides[1]],
        tolerate / 100 if tolerate else None,
    )
    changed = differing(sides[0][0][1], sides[1][0][1])
    if as_json:
        click.echo(orjson.dumps(as_plain(found, changed), option=orjson.OPT_INDENT_2))
    else:
        for line in lines(found, changed):
            click.echo(line)
    sys.exit(found.exit_code)


def sides_of(text: str, project: str | None):  # type: ignore[no-untyped-def]
    """The runs of a side with what each was made of. Raises DynamikosError."""
    from dynamikos.cli import folder

    made = []
    for each in filter(None, (part.strip() for part in text.split(","))):
        if Path(each).is_dir():
            made.append(folder.one_run(Path(each)))
        elif (number := digits(each)) is not None:
            from dynamikos.cli.project_run import one_run

            made.append(one_run(number, project))
        else:
            raise DynamikosError(
                f"{each} is neither a folder of run --keep nor the number of a run"
            )
    if not made:
        raise DynamikosError(f"'{text}' names no run")
    return made


def lines(found: Comparison, changed: list[str]) -> list[str]:
    """As a person reads it."""
    runs = "sets of runs" if found.sets else "one run against one"
    made = [f"{runs}; a worsening of {100 * found.tolerated:g} % is tolerated"]
    if not found.sets:
        known = (
            f"of {found.history} earlier sets"
            if found.history
            else "no earlier set tells: 5 % is assumed"
        )
        made.append(f"what runs of one build differ by: {known}")
    if found.is_rough:
        made.append("a run has less than 300 s of measured time: intervals are rough")
    made += [f"the inputs differ: {each}" for each in changed]
    made += [f"left out {name}: {why}" for name, why in found.left_out]
    made += [f"doubted {name}: {why}" for name, why in found.doubts]
    made += [f"only in A: {each}" for each in found.only_a] + [
        f"only in B: {each}" for each in found.only_b
    ]
    for each in found.differences:
        made.append(f"  {each.word:17} {each.name[:40]:40} {each.wanted.measure:13} {said(each)}")
    return [*made, found.sentence]


def said(each: Difference) -> str:
    """Both values, and what lies between them."""
    share = each.wanted.is_share
    unit = "%" if share else "/s" if each.wanted.measure == "throughput" else "ms"
    times = 100 if share else 1
    values = " → ".join(
        "–" if value is None else f"{short(value * times, 4)} {unit}" for value in (each.a, each.b)
    )
    if each.change is None:
        return f"{values} ({each.reason})"
    points = "points" if share else "%"
    made = f"{values}  {signed(each.change, points)}"
    if each.low is None or each.high is None or each.smallest is None:
        return f"{made} ({each.reason})"
    made += f" ({signed(each.low, '')} to {signed(each.high, '')})"
    if not each.differs:
        made += f", smallest change that would be seen {short(100 * each.smallest)} {points}"
    if each.most is not None and each.word == "not worse" and each.wanted.is_time:
        made += f", at most {signed(each.most, points)}"
    if each.repetitions:
        made += f", about {each.repetitions} runs on each side would tell"
    return f"{made} ({each.reason})" if each.reason else made


def as_plain(found: Comparison, changed: list[str]) -> dict[str, object]:
    """As it is printed in JSON."""

    def plain(each: Difference) -> dict[str, object]:
        level, journey, step, request = each.wanted.key
        return {
            "level": level,
            "journey": journey,
            "step": step,
            "request": request,
            "measure": each.wanted.measure,
            "name": each.name,
            "a": each.a,
            "b": each.b,
            "change": each.change,
            "from": each.low,
            "to": each.high,
            "at_most": each.most,
            "p_within": each.p_within,
            "usual_between_runs": each.usual,
            "smallest_seen": each.smallest,
            "p": each.p,
            "word": each.word,
            "beyond_these_runs": each.is_real,
            "repetitions": each.repetitions,
            "reason": each.reason,
        }

    return {
        "form": 1, "verdict": found.sentence, "word": found.word, "exit_code": found.exit_code,
        "tolerated": found.tolerated, "inputs_differ": changed,
        "doubts": [{"run": name, "doubt": doubt} for name, doubt in found.doubts],
        "sets": found.sets, "rough": found.is_rough, "earlier_sets": found.history,
        "left_out": [{"run": name, "why": why} for name, why in found.left_out],
        "only_a": found.only_a, "only_b": found.only_b,
        "measures": [plain(each) for each in found.differences],
        "exploratory": [plain(each) for each in found.others],
    }  # fmt: skip
