"""An outcome and its progress as lines of text."""

from collections.abc import Iterator

from dynamikos.core.figures import milliseconds as written
from dynamikos.core.figures import short
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.reports import Frame
from dynamikos.core.reports.columns import shown_at
from dynamikos.core.verdicts import Outcome
from dynamikos.core.verdicts.outcome import statement_of

SHOWN = shown_at("shell")
WIDTH = {"count": 8, "failures": 8, "per_s": 8}  # of a column


def duration(milliseconds: float | None) -> str:
    """Three significant digits with their unit, as they stand on pages and in reports."""
    return "–" if milliseconds is None else written(milliseconds)


def clock(seconds: float) -> str:
    return f"{int(seconds) // 60:02d}:{int(seconds) % 60:02d}"


def load(frozen: FrozenRun) -> str:
    """How many come, in a few words."""
    return " and ".join(crowd.load.brief(crowd) for crowd in frozen.crowds)


def progress(frame: Frame, total_s: float) -> str:
    users = frame.users
    late = f"  generator late ({', '.join(frame.late_by)})" if frame.is_late else ""
    planned = f" of {frame.planned}" if frame.planned else ""
    oldest = f"  oldest open {duration(frame.oldest_ms)}" if frame.oldest_ms >= 1000 else ""
    return (
        f"{clock(frame.second + 1)} of {clock(total_s)}  {users}{planned} users "
        f" {frame.answered + frame.failed} exchanges/s  p95 {duration(frame.p95_ms)} "
        f" {frame.failed + frame.steps_failed} failed{oldest}{late}"
    )


def table(frozen: FrozenRun, outcome: Outcome) -> str:
    """The summary at the end."""
    parts = f"{clock(outcome.from_s)}–{clock(outcome.to_s)}"
    return "\n".join([
        "",
        f"{frozen.plan.name}: {outcome.ended}; measured part {parts}",
        *_figures(outcome),
        *_counts(outcome),
        "",
        *_judged(outcome),
        outcome.sentence,
    ])  # fmt: skip


def _figures(outcome: Outcome) -> Iterator[str]:
    """A line a row, requests only where they failed."""
    yield " " * 34 + "".join(f"{each.title:>{WIDTH.get(each.key, 10)}}" for each in SHOWN)
    many = len(outcome.crowd) > 1
    for row in outcome.rows:
        if row.level == "request" or (row.level in ("embedded", "item") and not row.count):
            continue
        cells = "".join(f"{each.text(row):>{WIDTH.get(each.key, 10)}}" for each in SHOWN)
        name = f"{row.row}: {row.name}" if many else row.name
        yield f"{name[:33]:34}{cells}"
    for row in outcome.rows:
        if row.level == "request":
            whose = f"{row.row}: " if many else ""
            for kind, count in sorted(row.kinds.items(), key=lambda kv: -kv[1])[:5]:
                yield f"  {whose}{row.step} / {row.request}: {count} × {kind}"


def _counts(outcome: Outcome) -> Iterator[str]:
    """Of rounds, requests, arrivals and visitors."""
    rounds = f"rounds: {outcome.rounds_passed:,} passed, {outcome.rounds_failed:,} failed"
    if outcome.rounds_in_all:
        passed, failed = outcome.rounds_in_all
        rounds += f" in the measured part; {passed:,} passed, {failed:,} failed in all"
    yield rounds
    abandoned = f" + abandoned {outcome.abandoned:,}" if outcome.abandoned else ""
    yield (
        f"sent {outcome.sent:,} = answered {outcome.answered:,} + failed {outcome.failed:,}"
        f"{abandoned} + in flight {outcome.in_flight:,}"
    )
    if outcome.own_delay is not None:
        yield outcome.own_delay.sentence
    came = outcome.arrivals
    if came is not None:
        yield (
            f"arrivals: {came.planned:,} planned = {came.started:,} started + {came.turned_away:,} "
            f"turned away + {came.not_started:,} not started"
        )
    for each in outcome.crowd if len(outcome.crowd) > 1 else ():
        achieved = "–" if each.share_achieved is None else f"{each.share_achieved:.3g} %"
        yield (
            f"  {each.name or each.row}: {each.rounds:,} rounds, {short(each.users)} users on "
            f"average, planned {each.share_planned:.3g} %, achieved {achieved}"
        )


def _judged(outcome: Outcome) -> Iterator[str]:
    """Objectives with their values, and doubts."""
    for each in outcome.judgements:
        value, more = each.reason, ""
        if each.value is not None:
            value = f"{'≥ ' if each.at_least else ''}{short(each.value, 4)} {each.unit}"
            more = f" ({each.reason})" if each.reason else ""
        yield f"  {each.word:12} {statement_of(each)}: {value}{more}"
    for doubt in outcome.doubts:
        yield f"  doubted      {doubt}"
