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

    def of(word: Word, value: float | None = None, *, at_least: bool = False) -> Mark:
        return Mark(from_s=begin, to_s=end, word=word, value=value, at_least=at_least)

    if not whole:
        return of("not judged")
    value = value_of(objective, found)
    if not objective.is_spread:
        if value is None:
            return of("not judged")
        kept = value >= objective.limit if objective.at_least else value <= objective.limit
        return of("met" if kept else "missed", value)
    n = found.timed
    if found.failed and 100.0 * found.failed / (found.passed.n + found.failed) > MUCH_FAILED:
        return of("missed", value)
    if n + older == 0:
        return of("not judged")
    is_cut = older > 0 or n > found.passed.n
    if objective.percent is not None and not objective.at_least:
        limit_us, allowed = (
            objective.limit * 1000,
            round((100 - objective.percent) * 1000) * (n + older),
        )
        cut_over = found.cut.over(limit_us)
        over = found.passed.over(limit_us) + cut_over + older
        if over * 100_000 > allowed:
            if (
                found.undelayed is not None
                and found.undelayed.over(limit_us) + older <= allowed // 100_000
            ):
                return of("not judged", value, at_least=is_cut)
            return of("missed", value, at_least=is_cut)
        could_be = over + found.cut.n - cut_over
        return of("met" if could_be * 100_000 <= allowed else "not judged", value, at_least=is_cut)
    if value is None or (older and objective.measure == "max"):
        return of("met" if objective.at_least else "missed", value, at_least=True)
    kept = value >= objective.limit if objective.at_least else value <= objective.limit
    if not kept and not objective.at_least and found.undelayed is not None:
        least_us = (
            found.undelayed.mean_us if objective.measure == "mean" else found.undelayed.max_us
        )
        if least_us is not None and least_us <= objective.limit * 1000:
            return of("not judged", value, at_least=is_cut)
    return of("met" if kept else "missed", value, at_least=is_cut)


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
    sign = -1 if objective.at_least else 1
    over = [
        sign * (each.value - objective.limit) / (objective.limit or 1.0)
        for each in missed
        if each.value is not None
    ]
    excesses = [
        each for each in over if each > 0
    ]  # what ended may be within it where what did not is what missed it
    word: Word = "met"
    reason = ""
    if tripped(objective, marks):
        word, reason = "missed", f"{objective.in_a_row} missed one after the other"
    elif not marks:
        word, reason = (
            "not judged",
            f"no interval of {objective.every_s} s lies wholly in what was measured",
        )
    elif 2 * len(judged) < len(marks) or share is None:
        word, reason = "not judged", f"only {len(judged)} of {len(marks)} intervals could be judged"
    elif share > objective.missed_allowed:
        word = "missed"
    if share is not None and not reason:
        reason = f"{len(missed)} of {len(judged)} intervals missed"
        if objective.missed_allowed:
            reason += f", {objective.missed_allowed:g} % allowed"
    return replace(
        over_all,
        word=word,
        reason=reason,
        marks=tuple(marks),
        missed_percent=share,
        excess=sum(excesses) / len(excesses) if excesses else None,
    )
