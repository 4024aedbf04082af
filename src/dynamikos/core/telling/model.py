"""What a report says, in the order in which it is read."""

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import msgspec
import numpy as np
from numpy.typing import NDArray

from dynamikos.core.analysis.capacity import Capacity
from dynamikos.core.analysis.evidence import Found, Measured
from dynamikos.core.figures import milliseconds, short
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.differing import written
from dynamikos.core.objectives import Judgement, Objective, worst_first
from dynamikos.core.plans.crowds import Crowd
from dynamikos.core.plans.saying import curve_says
from dynamikos.core.reports import Row
from dynamikos.core.reports.by_value import Failing
from dynamikos.core.statistics import Histogram
from dynamikos.core.verdicts import Outcome
from dynamikos.core.verdicts.states import WORDS

Trace = NDArray[np.float64]
POINTS, LINES, SERVERS, MOST_FAILING, OWN = 400, 6, 4, 10, 3
WORST_FIRST = ("missed", "not decided", "close", "not judged", "met")
PARTS = (
    "verdict",
    "objectives",
    "tested",
    "changed",
    "lanes",
    "steps",
    "failures",
    "findings",
    "capacity",
    "limits",
    "inputs",
)
FIRST = ("utilization", "largest paint", "processor", "waiting", "memory")


@dataclass(frozen=True, slots=True)
class Lane:
    """Lines over the run's clock in one unit: each with its name and values by second (NaN:
    none).
    """

    title: str
    unit: str
    lines: Sequence[tuple[str, Trace]]
    limit: float | None = None


@dataclass(frozen=True, slots=True)
class Report:
    """`tested` are sentences; `limits` what the measurement can't say; `rows` the steps, the
    slowest first. `failed` are (request or step, kind, count) of the measured part, `failing` those
    that share a data value in the whole run, both the most first.
    """

    title: str
    run: str
    when: str
    sentence: str
    word: str
    objectives: Sequence[Judgement]
    tested: Sequence[str]
    changed: Sequence[str]
    against: str
    limits: Sequence[str]
    rows: Sequence[Row]
    lanes: Sequence[Lane]
    findings: Sequence[Found]
    capacity: Capacity | None
    inputs: Sequence[tuple[str, str]]
    measured: tuple[float, float]
    seconds: int
    remarks: Sequence[tuple[int, str]] = field(default_factory=tuple)
    failed: Sequence[tuple[str, str, int]] = ()
    failing: Sequence[Failing] = ()
    opening: Sequence[
        str
    ] = ()  # after the answer: the likely cause, what it means for visitors, what to do next


def report_of(
    frozen: FrozenRun,
    outcome: Outcome,
    lanes: Sequence[Lane],
    *,
    run: str,
    when: str,
    findings: Sequence[Found] = (),
    capacity: Capacity | None = None,
    changed: Sequence[str] = (),
    against: str = "",
    remarks: Sequence[tuple[int, str]] = (),
) -> Report:
    """A draft, made of what is known; `changed` since the run or baseline that `against` names."""
    seconds = max((len(values) for lane in lanes for _, values in lane.lines), default=0)
    steps = [each for each in outcome.rows if each.level in ("step", "repeat") and each.count]
    slowest = sorted(steps, key=lambda each: -(each.p95_ms or each.max_ms or 0.0))
    return Report(
        title=frozen.plan.name,
        run=run,
        when=when,
        sentence=outcome.sentence,
        word=WORDS.get(outcome.exit_code, ""),
        objectives=worst_first(outcome.judgements),
        tested=list(_tested(frozen, outcome, seconds)),
        changed=list(changed),
        against=against,
        limits=list(_limits(frozen, outcome)),
        rows=_told_apart(slowest),
        lanes=lanes,
        findings=findings,
        capacity=capacity,
        inputs=written(frozen),
        measured=(outcome.from_s, min(outcome.to_s, float(seconds))),
        seconds=seconds,
        remarks=remarks,
        failed=_failed(outcome),
        failing=[each for each in outcome.failing if not each.values and each.different > 1][
            :MOST_FAILING
        ],
        opening=[_cause(findings), _for_visitors(outcome, slowest), _next(outcome, findings)],
    )


def _told_apart(rows: Sequence[Row]) -> list[Row]:
    """Steps that are called the same have their journey with them, those of one journey in several
    rows their row.
    """
    names = Counter(each.name for each in rows)
    several = Counter((each.name, each.journey) for each in rows)
    made = []
    for each in rows:
        more = [each.journey] if names[each.name] > several[each.name, each.journey] else []
        more += [each.row] if several[each.name, each.journey] > 1 and each.row else []
        made.append(
            msgspec.structs.replace(each, name=f"{each.name} ({', '.join(more)})") if more else each
        )
    return made


AS_MEASURED = frozenset(
    (
        "standstill",
        "failing-steps",
        "failing-from-the-first",
        "own-limits",
        "late-generators",
        "open-at-the-end",
    )
)
ASIDE = frozenset(
    ("too-few-samples", "never-asked", "unverified")
)  # nothing that explains a figure


def _cause(findings: Sequence[Found]) -> str:
    """The first finding, and how sure it is: what was counted, or what a rule concludes."""
    first = next((each for each in findings if each.rule not in ASIDE), None)
    if first is None:
        return "No cause stands out: nothing was noticed beyond the figures."
    sure = "as measured" if first.rule in AS_MEASURED else "likely, by the rules of the findings"
    return f"Most likely cause ({sure}): {first.sentence}"


def _for_visitors(outcome: Outcome, slowest: Sequence[Row]) -> str:
    every = outcome.rounds_passed + outcome.rounds_failed
    if not every:
        return "For visitors: no round was finished in the measured part."
    failed = f"{100 * outcome.rounds_failed / every:.3g} % of {every:,} rounds failed"
    timed = next((each for each in slowest if each.p95_ms is not None), None)
    if timed is None or timed.p95_ms is None:
        return f"For visitors: {failed}."
    at_least = "at least " if "p95_ms" in timed.at_least else ""
    return (
        f"For visitors: {failed}, and one in twenty waited longer than "
        f"{at_least}{milliseconds(timed.p95_ms)} for"
        f" {timed.name}."
    )


def _next(outcome: Outcome, findings: Sequence[Found]) -> str:
    first = next((each for each in findings if each.rule not in ASIDE and each.try_), None)
    if first is not None:
        return f"Next: {first.try_}"
    if outcome.state == "met":
        return "Next: accept the run as the baseline that later ones are compared with."
    if outcome.state == "not judged":
        return "Next: repeat the run once its doubts are dealt with."
    return (
        "Next: take a closer look at the slowest step, and repeat the run to see how much it "
        "varies."
    )


def _failed(outcome: Outcome) -> Sequence[tuple[str, str, int]]:
    """Of requests and what else fails by itself; of steps only what none of them has."""
    steps = {_place(each): each for each in outcome.rows if each.level == "step"}
    own = [each for each in outcome.rows if each.level not in ("step", "round")]
    of_own = {(*_place(each), kind) for each in own for kind in each.kinds}
    made: Counter[tuple[str, str]] = Counter()  # of all rows of the crowd
    for each in own:
        step = steps[_place(each)].name if _place(each) in steps else each.step
        for kind, count in each.kinds.items():
            made[f"{step}: {each.request or each.name}", kind] += count
    for place, each in steps.items():
        for kind, count in each.kinds.items():
            if (*place, kind) not in of_own:
                made[each.name, kind] += count
    return sorted(
        ((name, kind, count) for (name, kind), count in made.items()),
        key=lambda each: (-each[2], each),
    )


def _place(each: Row) -> tuple[str, str, str]:
    return each.row, each.journey, each.step


def _tested(frozen: FrozenRun, outcome: Outcome, seconds: int) -> Iterator[str]:
    yield from (_visitors(frozen, crowd) for crowd in frozen.crowds)
    arrivals = outcome.arrivals
    if arrivals is not None and arrivals.planned:
        turned = f" {arrivals.turned_away:,} were turned away." if arrivals.turned_away else ""
        yield f"{arrivals.started:,} of {arrivals.planned:,} that were planned came.{turned}"
    planned = f" of {outcome.planned_peak:,} planned" if outcome.planned_peak else ""
    yield (
        f"At most {outcome.peak_users:,}{planned} users were there at once; the run took "
        f"{seconds:,} s, of which second {outcome.from_s:g} to {outcome.to_s:g} was measured."
    )
    steps = [each for each in outcome.rows if each.level == "step"]
    count, failed = sum(each.count for each in steps), sum(each.failures for each in steps)
    yield (
        f"{outcome.sent:,} requests were sent, {outcome.answered:,} of them answered."
        f" {failed:,} of {count:,} steps failed in the measured part."
        f" {outcome.rounds_passed:,} rounds passed and {outcome.rounds_failed:,} failed there."
    )
    targets = sorted({f"{each.scheme}://{each.host}:{each.port}" for each in frozen.agreed})
    where = f" ({', '.join(targets)})" if targets else ""
    yield f"Against the environment {frozen.plan.environment}{where}."
    for pile in frozen.data:
        yield f"Test data {pile.key}: {pile.rows:,} rows of {', '.join(pile.columns)}."
    if outcome.changes:
        yield f"Changed by hand while it ran: {'; '.join(outcome.changes)}."


def _visitors(frozen: FrozenRun, crowd: Crowd) -> str:
    """Who came, by rows."""
    shares = crowd.load.row_shares(crowd)
    every = sum(shares)
    rows = []
    for row, share in zip(crowd.rows, shares, strict=True):
        journey, persona = frozen.journeys.get(row.journey), frozen.personas.get(row.persona)
        name = row.name or (journey.name if journey is not None else row.journey)
        called = f" as {persona.name or row.persona}" if persona is not None else ""
        rows.append(f"{short(100 * share / every if every else 0.0)} % {name}{called}")
    said = " ".join(filter(None, (crowd.load.says(), curve_says(crowd))))
    return f"{crowd.name or 'Visitors'}: {said} Of them: {', '.join(rows)}."


def _limits(frozen: FrozenRun, outcome: Outcome):  # type: ignore[no-untyped-def]
    yield from outcome.doubts
    few = [
        each.name
        for each in outcome.rows
        if each.level == "step" and each.count and each.p99_ms is None
    ]
    if few:
        names = ", ".join(dict.fromkeys(few))
        yield f"Too few samples for a 99th percentile: {names}."
    if not frozen.plan.probes:
        yield "No probe read the servers, so it can't be said what they were busy with."
    yield "It is one run: how much it would differ if it were repeated, only repetitions tell."


def limit_of(objectives: Iterable[Objective]) -> float | None:
    """The lowest limit that the response time's 95th percentile of every step has; None without
    one.
    """
    over_all = (
        each.limit
        for each in objectives
        if (each.measure, each.level, each.time, each.at_least)
        == ("p95", "step", "response", False)
        and (each.step, each.journey, each.row, each.probe) == (None, None, None, None)
    )
    return min(over_all, default=None)


def lanes_of_objectives(
    judged: Sequence[Judgement],
    objectives: Sequence[Objective],
    times: Callable[[Objective], Mapping[int, Histogram]],
    seconds: int,
) -> list[Lane]:
    """What objectives about one step or request are measured by, second by second, with their limits: at most OWN of
    them, those that were missed first. `times` are by second, and of all that an objective is about.
    """  # noqa: E501
    made = []
    words = {each.objective: (WORST_FIRST.index(each.word), each.sentence) for each in judged}
    about = [
        each for each in objectives if each.step and each.percent is not None and each.unit == "ms"
    ]
    for each in sorted(
        about, key=lambda each: words.get(each.objective, (len(WORST_FIRST), ""))[0]
    )[:OWN]:
        trace = np.full(seconds, np.nan)
        for second, told in times(each).items():
            value = told.percentile_us(each.percent or 0.0)
            if second < seconds and value is not None:
                trace[second] = value / 1000
        title = words.get(each.objective, (0, f"{each.measure} of {each.step}"))[1].partition(
            " ≤ "
        )[0]
        made.append(Lane(title, "ms", [(each.measure, trace)], each.limit))
    return made


def lanes_of(
    users: Trace,
    exchanges: Trace,
    failures: Trace,
    percentiles: Mapping[str, Trace],
    measures: Sequence[Measured],
    objectives: Iterable[Objective] = (),
    own: Sequence[Lane] = (),
    named: Collection[str] = (),
    *,
    all_of: bool = False,
) -> list[Lane]:
    """Of a report: users, exchanges that ended (answered or not), response times (ms), `own` of
    objectives (see `lanes_of_objectives`), failures (those of answers that were not as they should
    be, too) where there are any, and those of the servers that tell most: first the measures that
    are `named` as suspects. One that was nought all the time tells nothing, and is there only where
    `all_of` them are asked for.
    """
    made = [
        Lane("Users", "", [("there", users)]),
        Lane("Exchanges", "/s", [("ended", exchanges)]),
        Lane("Response time of steps", "ms", list(percentiles.items()), limit_of(objectives)),
        *own,
    ]
    if all_of or bool((np.nan_to_num(failures) > 0).any()):
        made.append(Lane("Failures", "/s", [("failed", failures)]))
    suspected = {each.name.partition("{")[0] for each in measures if each.name in named}
    groups: dict[tuple[str, str], list[tuple[str, Trace]]] = {}
    for each in measures:
        if not all_of and not (np.nan_to_num(each.trace) != 0).any():
            continue
        base, _, labels = each.name.partition("{")
        groups.setdefault((base, each.unit), []).append(
            (labels.rstrip("}").partition("=")[2].strip('"'), each.trace)
        )

    def place(title: str) -> int:
        if title in suspected:
            return -1
        return next((at for at, word in enumerate(FIRST) if word in title), len(FIRST))

    chosen = sorted(groups, key=lambda key: place(key[0]))[:SERVERS]
    made.extend(
        Lane(base.replace("_", " "), unit, groups[base, unit][:LINES]) for base, unit in chosen
    )
    return made
