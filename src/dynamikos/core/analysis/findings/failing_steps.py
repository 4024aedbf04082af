"""Steps that fail: how much, by what, since when, and for whom more than for all others."""

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.special import bdtrc

from dynamikos.core.analysis.evidence import Evidence, Found, Line, joined, name_of
from dynamikos.core.analysis.findings.from_the_first_on import NEVER, TRIES

SHARE, FEWEST, CHANCE = (
    0.01,
    10,
    0.01,
)  # from which share and count on; of the family of all that is tested (Holm)
LATE, TOGETHER, SHORT = (
    0.1,
    0.8,
    0.25,
)  # parts: of the measured part, of the failures, and of the time they stand in
TIMES = 3.0  # as often as others, from which on somebody is named


@dataclass(frozen=True, slots=True)
class _Group:
    """Somebody whose failures are held against all others': `of` them is what `what` says."""

    what: str
    name: str
    failed: int
    every: int
    part: float  # of the attempts

    @property
    def p(self) -> float:
        """That so many of the failures are its own by chance."""
        return float(bdtrc(self.failed - 1, self.every, self.part)) if self.failed else 1.0


def failing_steps(evidence: Evidence) -> Iterator[Found]:
    """Each step with more than 1 % failures (ten at least), each that misses a failure objective,
    and each whose ten or more failures are some rows', users', values' or places' beyond chance.
    """
    where = evidence.places(*evidence.measured)
    for line in evidence.steps():
        passed, failed = float(line.passed[where].sum()), float(line.failed[where].sum())
        count = passed + failed
        if not failed or (failed >= TRIES and passed <= NEVER * count):
            continue  # none, or failing from the first on, which is said by itself
        share = failed / count
        is_missed, is_many = share > _allowed(evidence, line), failed >= FEWEST
        by = concentrated(list(_groups(evidence, line, int(failed)))) if is_many else []
        if is_missed or (is_many and (share > SHARE or by)):
            yield _found(evidence, line, failed, count, by, is_missed=is_missed)


def _found(
    evidence: Evidence,
    line: Line,
    failed: float,
    count: float,
    by: Sequence[_Group],
    *,
    is_missed: bool,
) -> Found:
    begin, end = evidence.measured
    kinds = _kinds(evidence, line)
    kind = max(kinds, key=lambda each: kinds[each], default="")
    first = next((each for each in _kept(evidence, line)), None)
    window = _when(line, evidence.places(begin, end), evidence.width)
    since = ""
    if window is not None:
        since = f", from second {window[0]}"
        since += f" to {window[1]}" if window[1] < end else " on"
    shown = {"missed": "its failure objective"} if is_missed else {}
    if first is not None:
        shown["first kept"] = f"second {first[0]}, user {first[1]}"
    most = sorted(kinds.items(), key=lambda row: -row[1])[:3]
    together = "It is concentrated there: tested against all others."
    return Found(
        rule="failing-steps",
        about="target",
        sentence=f"{name_of(line.series)} failed in {failed:,.0f} of {count:,.0f} "
        f"({100 * failed / count:.3g} %){f', mostly by {kind}' if kind else ''}"
        f"{since}{_concentrated(by)}.",
        means=together if by else "It is not some visitors' alone.",
        try_="Open the first exchange that was kept of it beside its recording.",
        evidence={**shown, **{each: f"{n:,}" for each, n in most}},
        window=window or (begin, end),
        journey=line.series.journey,
        step=line.series.step,
        impact=failed / count,
    )


def _concentrated(by: Sequence[_Group]) -> str:
    """Whose the failures are, as the end of a sentence."""
    more = ""
    for what in dict.fromkeys(each.what for each in by):
        mine = [each for each in by if each.what == what]
        own, names = sum(each.failed for each in mine), joined(each.name for each in mine)
        more += f", {own:,} of {mine[0].every:,} of them {what} {names}"
    return more


def concentrated(groups: list[_Group]) -> list[_Group]:
    """Those that fail more than all others beyond chance (Holm 1979), and by TIMES."""
    order = sorted(groups, key=lambda each: each.p)
    made = []
    for place, each in enumerate(order):
        if each.p > CHANCE / (len(order) - place):
            break
        if (
            each.failed >= TIMES * each.part * each.every
            or each.failed > 0.9 * each.every > each.part * each.every * 1.1
        ):
            made.append(each)
    return made


def _allowed(evidence: Evidence, line: Line) -> float:
    """The least share of failures that an objective about the step allows; 1 where there is
    none.
    """
    limits = [
        each.limit / 100
        for each in evidence.frozen.plan.objectives
        if each.measure == "failure-rate" and not each.at_least and each.request is None
        and each.step in (None, line.series.step) and each.journey in (None, line.series.journey)
    ]  # fmt: skip
    return min(limits, default=1.0)


def _kinds(evidence: Evidence, line: Line) -> Counter[str]:
    """Of its requests, or of itself, in the measured part."""
    made: Counter[str] = Counter()
    for each in evidence.ledger.series:
        if (each.level, each.journey, each.step) == (
            "request",
            line.series.journey,
            line.series.step,
        ):
            made.update(evidence.ledger.totals[each.no].failed)
    if not made:
        made.update(
            evidence.ledger.all_of("step", line.series.step, journey=line.series.journey).failed
        )
    return made


def _kept(evidence: Evidence, line: Line) -> list[tuple[int, int]]:
    """(second, user) of the failing ones that were kept, in order."""
    return sorted(
        (each.second, each.user)
        for each in evidence.kept
        if each.step == line.series.step and each.failure and not each.resource
    )


def _groups(evidence: Evidence, line: Line, failed: int) -> Iterator[_Group]:
    begin, end = evidence.measured
    where = evidence.places(begin, end)
    names = evidence.names
    rows = [(names.get(each.series.row, each.series.row), each) for each in evidence.by_row]
    yield from _of_lines("of visitors", rows, line, where)
    yield from _of_lines("at", list(evidence.by_place), line, where)
    there = int(np.nanmax(evidence.users[begin:end])) if end > begin and len(evidence.users) else 0
    users = Counter(user for _, user in _kept(evidence, line))
    n = sum(users.values())
    # only where all of them were kept: the earliest of many tell of the earliest users alone
    if there > 1 and n == failed:
        quiet = max(0, there - len(users))
        counts = [*((str(user), count) for user, count in users.items()), *[("", 0)] * quiet]
        yield from (_Group("of user", name, count, n, 1 / there) for name, count in counts)
    for each in evidence.failing:
        is_here = each.asked[:2] == (line.series.journey, line.series.step)
        if is_here and each.value and each.dealt_in_all:
            said = f"{each.name} is “{each.value[:40]}”"
            yield _Group("where", said, each.failed, each.of, each.part_dealt)


def _of_lines(
    what: str, lines: Sequence[tuple[str, Line]], line: Line, where: slice
) -> Iterator[_Group]:
    """The same step of several rows or places; one alone tells nothing."""
    step = line.series.journey, line.series.step
    own = [(name, e) for name, e in lines if (e.series.journey, e.series.step) == step]
    counts = [
        (name, float(e.failed[where].sum()), float((e.failed + e.passed)[where].sum()))
        for name, e in own
    ]
    every, attempts = sum(f for _, f, _ in counts), sum(n for _, _, n in counts)
    if len(counts) > 1 and attempts:
        yield from (_Group(what, name, int(f), int(every), n / attempts) for name, f, n in counts)


def _when(line: Line, where: slice, width: int) -> tuple[int, int] | None:
    """(from, to) where most of the failures stand close together, or from where they begin late;
    None else.
    """
    fails = line.failed[where]
    seconds = np.flatnonzero(fails)
    if not len(seconds):
        return None
    total, sums = float(fails.sum()), np.concatenate(([0.0], fails.cumsum()))
    begin = where.start or 0
    length = max(1, int(SHORT * len(fails)))
    within = sums[length:] - sums[:-length]
    if total >= FEWEST and len(within) and within.max() >= TOGETHER * total:
        at = int(np.argmax(within))
        inside = np.flatnonzero(fails[at : at + length])
        return (begin + at + int(inside[0])) * width, (begin + at + int(inside[-1]) + 1) * width
    if seconds[0] > LATE * len(fails) and total >= FEWEST:
        return (begin + int(seconds[0])) * width, (begin + len(fails)) * width
    return None
