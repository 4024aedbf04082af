"""Evidence from the seconds that generators reported."""

from collections.abc import Iterable, Iterator, Mapping, Sequence

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Line, Measured
from dynamikos.core.frozen import FrozenRun, Series, every_series
from dynamikos.core.profiles.changing import Change
from dynamikos.core.reports import KeptExchange, Ledger, SeriesSecond, ShardSecond
from dynamikos.core.reports.by_value import failing
from dynamikos.core.reports.folding import Overall, folded
from dynamikos.core.statistics import Histogram

LEVELS = ("round", "step", "request")


def lines_of(
    series: Iterable[Series], parts: Mapping[int, Mapping[int, SeriesSecond]], seconds: int
) -> list[Line]:
    """Lines by second, of `parts` by series and second."""
    made = []
    for each in series:
        if each.level not in LEVELS:
            continue
        passed, failed = np.zeros(seconds), np.zeros(seconds)
        times: list[Histogram | None] = [None] * seconds
        for second, part in parts.get(each.no, {}).items():
            if second < seconds:
                passed[second], failed[second] = part.n, sum(part.failed.values())
                times[second] = Histogram.from_bytes(part.hist)
        made.append(Line(each, passed, failed, times))
    return made


def evidence_of(
    frozen: FrozenRun,
    messages: Sequence[ShardSecond],
    *,
    measures: Sequence[Measured] = (),
    kept: Sequence[KeptExchange] = (),
    changes: Sequence[Change] = (),
    silent: Sequence[tuple[str, int, str]] = (),
    places: Mapping[int, str] | None = None,
) -> Evidence:
    """Of a run whose messages are all at hand; `places` are those of its shards."""
    every = every_series(frozen)
    over = Overall.over(every)
    seconds = max((each.second for each in messages), default=-1) + 1
    by_second: dict[int, list[ShardSecond]] = {}
    for message in messages:
        by_second.setdefault(message.second, []).append(message)
    parts: dict[int, dict[int, SeriesSecond]] = {}
    users, rate, failures, late = (np.zeros(seconds) for _ in range(4))
    ledger, whole = Ledger(every), Ledger(every)
    begin, end = frozen.measured
    for second, here in by_second.items():
        for part in folded(here, over.of):
            parts.setdefault(part.no, {})[second] = part
        for message in here:
            users[second] += sum(message.users.values())
            rate[second] += message.answered + message.failed
            failures[second] += message.failed
            late[second] = max(late[second], message.health.is_late)
            whole.add(message, totals=False)
            ledger.add(message, totals=begin <= second < end)
            ledger.carry(message)
    shown = [each for each in every if each.no not in over.of] + list(over.series)
    steps = [each for each in every if each.level == "step" and each.no in over.of]
    return Evidence(
        frozen=frozen,
        seconds=seconds,
        users=users,
        planned=np.array(frozen.planned([second + 0.995 for second in range(seconds)]), float),
        rate=rate,
        failures=failures,
        late=late,
        lines=lines_of(shown, parts, seconds),
        by_row=lines_of(steps, parts, seconds),
        by_place=list(
            _by_place(
                messages,
                places or {},
                [each for each in shown if each.level == "step"],
                over,
                seconds,
            )
        ),
        ledger=ledger,
        whole=whole,
        measures=measures,
        kept=kept,
        changes=changes,
        silent=silent,
        failing=failing(whole.by_value.values(), {each.no: each for each in every}),
        names={row.row: row.name or row.row for row in frozen.places.rows},
    )


def _by_place(
    messages: Sequence[ShardSecond],
    places: Mapping[int, str],
    steps: Sequence[Series],
    over: Overall,
    seconds: int,
) -> Iterator[tuple[str, Line]]:
    if len(set(places.values())) < 2:
        return
    for place in dict.fromkeys(places.values()):
        parts: dict[int, dict[int, SeriesSecond]] = {}
        by_second: dict[int, list[ShardSecond]] = {}
        for message in messages:
            if places.get(message.shard) == place:
                by_second.setdefault(message.second, []).append(message)
        for second, here in by_second.items():
            for part in folded(here, over.of):
                parts.setdefault(part.no, {})[second] = part
        yield from ((place, line) for line in lines_of(steps, parts, seconds))
