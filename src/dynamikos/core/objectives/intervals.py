"""An objective judged interval by interval, and what its marks come to."""

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from dynamikos.core.objectives.judge import MUCH_FAILED, Judgement, Mark, Slice, Word
from dynamikos.core.objectives.model import Objective


def intervals_of(
    objective: Objective, measured_s: tuple[float, float]
) -> Iterator[tuple[int, int]]:
    """(from, to) in whole seconds of the run of each interval: all of it in the measured part, one
    after the other from its begin (or that of the run) and the end of grace.
    """
    assert objective.every_s is not None
    begin = int(-(-(objective.grace_s + (0.0 if objective.from_start else measured_s[0])) // 1))
    while begin + objective.every_s <= measured_s[1]:
        yield begin, begin + objective.every_s
        begin += objective.every_s


def mark(
    objective: Objective, begin: int, end: int, found: Slice, older: int, *, whole: bool
) -> Mark:
    """The mark of one interval. `older` counts what is under way at its end and older than the
    limit: that is over it already, whatever it will take, so that a server that answers nothing
    misses an objective and is not “without data”. With a shard missing (not `whole`) it is not
    judged.
    """
    word: Word = "not judged"
    value, at_least = None, False
    if whole:
        value = value_of(objective, found)
        word, at_least = _judged(objective, found, older, value)
    if found.timed + older == 0 and word == "not judged":
        value = None
    return Mark(from_s=begin, to_s=end, word=word, value=value, at_least=at_least)


def _judged(
    objective: Objective, found: Slice, older: int, value: float | None
) -> tuple[Word, bool]:
    """(word, whether the value is a lower bound since something was cut off)."""
    if not objective.is_spread:
        return _met(objective, value) if value is not None else "not judged", False
    if found.failed and 100.0 * found.failed / (found.passed.n + found.failed) > MUCH_FAILED:
        return "missed", False
    if found.timed + older == 0:
        return "not judged", False
    is_cut = older > 0 or found.timed > found.passed.n
    if objective.percent is not None and not objective.at_least:
        return _by_counts(objective, objective.percent, found, older), is_cut
    if value is None or (older and objective.measure == "max"):
        return "met" if objective.at_least else "missed", True
    word = _met(objective, value)
    if word == "missed" and not objective.at_least and _is_own_doing(objective, found):
        word = "not judged"
    return word, is_cut


def _met(objective: Objective, value: float) -> Word:
    kept = value >= objective.limit if objective.at_least else value <= objective.limit
    return "met" if kept else "missed"


def _by_counts(objective: Objective, percent: float, found: Slice, older: int) -> Word:
    """Of a percentile: by how many are over the limit, in thousandths of a percent, which is exact
    where a percentile of few is not.
    """
    limit_us, n = objective.limit * 1000, found.timed
    allowed = round((100 - percent) * 1000) * (n + older)
    cut_over = found.cut.over(limit_us)
    over = found.passed.over(limit_us) + cut_over + older
    if over * 100_000 > allowed:
        own = found.undelayed
        is_own = own is not None and own.over(limit_us) + older <= allowed // 100_000
        return "not judged" if is_own else "missed"
    could_be = over + found.cut.n - cut_over
    return "met" if could_be * 100_000 <= allowed else "not judged"


def _is_own_doing(objective: Objective, found: Slice) -> bool:
    """Whether it would be within the limit without what the generator may have added."""
    if found.undelayed is None:
        return False
    is_mean = objective.measure == "mean"
    least_us = found.undelayed.mean_us if is_mean else found.undelayed.max_us
    return least_us is not None and least_us <= objective.limit * 1000


def value_of(objective: Objective, found: Slice) -> float | None:
    """The measure over an interval, of what ended or was cut off in it; None without samples."""
    if objective.measure == "throughput":
        return found.n / found.seconds if found.seconds else None
    if objective.measure == "checks":
        return 100.0 * found.checks_passed / found.checks if found.checks else None
    every = found.n + found.failed + (found.left if objective.measure == "left" else 0)
    if objective.measure in ("failure-rate", "left"):
        return (
            100.0 * (found.failed if objective.measure == "failure-rate" else found.left) / every
            if every
            else None
        )
    if not found.timed:
        return None
    if objective.measure == "mean":
        mean_us = found.mean_us()[0]
        return mean_us / 1000 if mean_us is not None else None
    if objective.measure == "max":
        return (found.spread.max_us() or 0) / 1000
    return (found.spread.low_us(objective.percent or 0) or 0) / 1000


def tripped(objective: Objective, marks: Sequence[Mark]) -> bool:
    """Whether so many intervals in a row were missed that the run is to be stopped; what was not
    judged neither counts nor ends a row.
    """
    count = 0
    for each in marks:
        count = count + 1 if each.word == "missed" else count if each.word == "not judged" else 0
        if objective.stops and count >= objective.in_a_row:
            return True
    return False


def by_interval(objective: Objective, over_all: Judgement, marks: Sequence[Mark]) -> Judgement:
    """What the marks of an objective come to: missed where more of them are than allowed, or so
    many in a row; not judged where fewer than half of them are.
    """
    judged = [each for each in marks if each.word != "not judged"]
    missed = [each for each in judged if each.word == "missed"]
    share = 100.0 * len(missed) / len(judged) if judged else None
    word: Word = "met"
    reason = ""
    if tripped(objective, marks):
        word, reason = "missed", f"{objective.in_a_row} missed one after the other"
    elif not marks:
        word = "not judged"
        reason = f"no interval of {objective.every_s} s lies wholly in what was measured"
    elif 2 * len(judged) < len(marks) or share is None:
        word, reason = "not judged", f"only {len(judged)} of {len(marks)} intervals could be judged"
    elif share > objective.missed_allowed:
        word = "missed"
    if share is not None and not reason:
        reason = f"{len(missed)} of {len(judged)} intervals missed"
        if objective.missed_allowed:
            reason += f", {objective.missed_allowed:g} % allowed"
    excesses = _excesses(objective, missed)
    return replace(
        over_all,
        word=word,
        reason=reason,
        marks=tuple(marks),
        missed_percent=share,
        excess=sum(excesses) / len(excesses) if excesses else None,
    )


def _excesses(objective: Objective, missed: Sequence[Mark]) -> list[float]:
    """By how much those that missed are over the limit, as parts of it. What ended may be within
    it where what did not is what missed it.
    """
    sign, limit = -1 if objective.at_least else 1, objective.limit or 1.0
    over = [sign * (e.value - objective.limit) / limit for e in missed if e.value is not None]
    return [each for each in over if each > 0]
