"""Of comparisons and trends."""

from collections.abc import Mapping, Sequence

from django.http import QueryDict

from dynamikos.core.comparison import Comparison, Difference, compare
from dynamikos.core.comparison.trend import MEASURES
from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import milliseconds, short, signed
from dynamikos.core.telling.evidence import Evidence, Picture, Table
from dynamikos.web.casebook.pins.seen import Seen
from dynamikos.web.runs import baselines, comparing, drawings, overlays
from dynamikos.web.runs import trend as over_runs
from dynamikos.web.runs.models import Run


def _chosen(seen: Seen) -> tuple[QueryDict, list[tuple[Run, str]]]:
    """What the address of a comparison says, and the runs that it names."""
    given = QueryDict(seen.of.get("query", ""))
    chosen = comparing.chosen(Run.objects.filter(project=seen.project), given)
    if {side for _, side in chosen if side} != {"a", "b"}:
        raise DynamikosError("its runs were deleted.")
    return given, chosen


def _named(sides: Mapping[str, Sequence[Run]]) -> str:
    named = (
        f"{name.upper()}: {', '.join(f'run {run.number}' for run in runs)}"
        for name, runs in sides.items()
    )
    return " against ".join(named)


def _compared(seen: Seen) -> tuple[Comparison, str]:
    given, chosen = _chosen(seen)
    sides = {side: [run for run, its in chosen if its == side] for side in "ab"}
    every = [run for run, side in chosen if side]
    a, b = ([comparing.one_run(run, every) for run in sides[name]] for name in "ab")
    tolerated, history = comparing.tolerated(given), comparing.history(sides["a"][0].plan_id, every)
    return compare(a, b, tolerated / 100 if tolerated else None, history), _named(sides)


def _difference_cells(each: Difference) -> list[str]:
    share = each.wanted.is_share
    points = "points" if share else "%"

    def value(of: float | None) -> str:
        if of is None:
            return "–"
        if share:
            return f"{100 * of:.3g} %"
        return f"{short(of)} /s" if each.wanted.measure == "throughput" else milliseconds(of)

    def change(of: float | None) -> str:
        return "–" if of is None else signed(of, points).replace("-", "−")

    within = each.reason if each.low is None else f"{change(each.low)} to {change(each.high)}"
    word = f"{each.word} here" if each.differs and not each.is_real else each.word
    return [
        each.name,
        each.wanted.measure,
        value(each.a),
        value(each.b),
        change(each.change),
        within,
        word,
    ]


HEADS = ("step", "of", "A #", "B #", "change #", "within", "verdict")


def comparison(seen: Seen) -> Evidence:
    found, named = _compared(seen)
    table = Table(HEADS, [_difference_cells(each) for each in found.differences])
    return Evidence("Compared", named, [found.sentence], tables=[table])


def difference(seen: Seen) -> Evidence:
    found, named = _compared(seen)
    wanted = (
        seen.of.get("journey", ""),
        seen.of.get("step", ""),
        seen.of.get("request", ""),
        seen.of.get("measure", ""),
    )
    for each in (*found.differences, *found.others):
        if (*each.wanted.key[1:], each.wanted.measure) == wanted:
            return Evidence(
                f"{each.name}, compared", named, tables=[Table(HEADS, [_difference_cells(each)])]
            )
    raise DynamikosError("the two sides have nothing of it in common any more.")


def tapes(seen: Seen) -> Evidence:
    """Lanes of both sides on one run clock."""
    found = overlays.over(_chosen(seen)[1])
    return Evidence(
        "On one run clock",
        _named(found.runs),
        lanes=[each for each, _ in overlays.tapes(found.runs)],
    )


LOOKS = {"a": "line l0", "b": "line l1 dashed"}


def spreads(seen: Seen) -> Evidence:
    """The times of a step, laid over one another."""
    over = overlays.over(_chosen(seen)[1])
    key = overlays.step_named(over.steps, seen.of.get("key", ""))
    found = over.times(key) if key is not None else None
    if found is None:
        raise DynamikosError("the two sides have nothing of it in common any more.")
    grid = [("grid", f"M{x} 0V{drawings.SPREAD_HEIGHT}") for x, _ in found.marks]
    texts = [(x, drawings.SPREAD_HEIGHT + 14, "middle", text) for x, text in found.marks]

    def picture(title: str, lines: Sequence[tuple[str, str]]) -> Picture:
        paths = [*grid, *((LOOKS[side], path) for side, path in lines)]
        return Picture(title, 316, 178, paths, (), texts, left=-6, top=-6)

    heads = ("side", *(f"p{percent} #" for percent in overlays.PERCENTS))
    rows = [
        [side.upper(), *(text for of, _, _, text in found.percentiles if of == side)]
        for side in ("a", "b")
    ]
    return Evidence(
        f"How long {found.name} took",
        _named(over.runs),
        pictures=[
            picture("how often, each side on its own total: A solid, B dashed", found.outlines),
            picture("which part took no longer: A solid, B dashed", found.cumulative),
        ],
        tables=[Table(heads, rows)],
    )


def trend(seen: Seen) -> Evidence:
    given = QueryDict(seen.of.get("query", ""))
    measure = given.get("measure", "")
    measure = measure if measure in MEASURES else MEASURES[0]
    runs, _, whose, _ = over_runs.asked(Run.objects.filter(project=seen.project), given)
    baseline = baselines.current(whose)
    lines = over_runs.drawn(
        runs,
        measure,
        list(baseline.runs.all()) if baseline is not None else [],
        over_runs.goals(whose),
    )
    line = next((each for each in lines if each.name == seen.of.get("name")), None)
    if line is None:
        raise DynamikosError("no run there has it any more.")
    paths = [("grid", f"M{over_runs.LEFT} {y}H{over_runs.WIDTH}") for y, _ in line.rows]
    paths += [("limit", f"M{over_runs.LEFT} {y}H{over_runs.WIDTH}") for y, _ in line.limits]
    paths += [("line", each) for each in line.levels]
    paths += [
        ("line", f"M{each.x} {each.low}V{each.high}")
        for each in line.points
        if each.low is not None
    ]
    texts = [(x, 114.0, "middle", text) for x, text in line.columns]
    texts += [(over_runs.LEFT - 6, y + 3, "end", text) for y, text in line.rows]
    texts += [(over_runs.WIDTH, y - 3, "end", text) for y, text in line.limits]
    texts += [(each.x, 9.0, "middle", each.said) for each in line.changes]
    dots = [("" if each.is_counted else "doubted", each.x, each.y) for each in line.points]
    said = [f"{line.name} {each.said} since run {each.since.number}." for each in line.changes]
    picture = Picture(
        f"{measure}, {over_runs.UNITS.get(measure, 'ms')}, by run",
        over_runs.WIDTH,
        118,
        paths,
        dots,
        texts,
    )
    first, last = (line.points[at].run.number for at in (0, -1))
    return Evidence(
        f"{line.name} over runs",
        f"runs {first} to {last}",
        said or ["No change of level."],
        pictures=[picture],
    )
