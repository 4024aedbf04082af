"""met, close, missed or not judged: of what was measured as a whole."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal

import msgspec

from dynamikos.core.figures import short
from dynamikos.core.objectives.model import Objective, Then, describe
from dynamikos.core.statistics import Histogram, Moments, Spread, Undelayed
from dynamikos.core.statistics.chance import BySecond, mean_within, share_within
from dynamikos.core.statistics.histogram import enough_for

Word = Literal["met", "close", "not decided", "missed", "not judged"]
MUCH_FAILED, SOME_FAILED = 50.0, 1.0  # per cent
Bounds = tuple[
    float | None, float | None
]  # of a value, in the unit of its limit: at least, at most (None: not known)


class Mark(msgspec.Struct, array_like=True, frozen=True, kw_only=True):
    """An interval of an objective, from second to second of the run: met, missed, or not judged."""

    from_s: int
    to_s: int
    word: Word
    value: float | None = None
    at_least: bool = False  # what was still under way makes it more


class Judgement(msgspec.Struct, frozen=True, kw_only=True):
    """`value` in the unit of the limit, over the measured part; None when there is none. `samples`
    are those the value comes from. `band`: what it is without the generators' own delay at least,
    and as measured, where they differ. `side` of the limit as measured; where it is not decided,
    about `needed_s` more of measured time would. By interval: `marks`, the share of them that was
    missed in %, and by how much on average in parts of the limit (in its unit at limit 0).
    """

    objective: str = ""
    word: Word = "not judged"
    value: float | None = None
    limit: float = 0.0
    unit: str = "ms"
    samples: int = 0
    sentence: str = ""
    reason: str = ""
    at_least: bool = False  # whether `value` is only a lower bound: something was still under way
    failed_percent: float = 0.0  # of a response time's slice, where it is more than 1 %
    then: Then = "fail"
    marks: tuple[Mark, ...] = ()
    missed_percent: float | None = None  # of the intervals with data
    excess: float | None = None
    band: tuple[float, float] | None = None
    side: Literal["", "within", "over"] = ""
    needed_s: float | None = None

    @property
    def decides(self) -> bool:
        """Whether missing it makes a run fail."""
        return self.then not in ("note", "warn")

    @property
    def seconds_over(self) -> int:
        """How long it was beyond its limit: the seconds of the intervals that were missed."""
        return sum(each.to_s - each.from_s for each in self.marks if each.word == "missed")

    @property
    def over(self) -> float:
        """By how much it is beyond its limit where it was missed, in parts of the limit (in its
        unit at limit 0).
        """
        if self.excess is not None:
            return self.excess
        return abs(self.value - self.limit) / (self.limit or 1.0) if self.value is not None else 0.0


WORST: tuple[Word, ...] = ("missed", "not judged", "not decided", "close", "met")


def worst_first(judgements: Iterable[Judgement]) -> list[Judgement]:
    """Those missed first, the longest beyond their limit before others, then by how far; those that
    decide nothing after those that do.
    """

    def place(each: Judgement) -> tuple[int, bool, int, float]:
        is_missed = each.word == "missed"
        return (
            WORST.index(each.word),
            not each.decides,
            -each.seconds_over,
            -each.over if is_missed else 0.0,
        )

    return sorted(judgements, key=place)


@dataclass(slots=True, kw_only=True)
class Slice:
    """What an objective is judged on: the spread of what passed (of first bytes, where those are
    meant) with its moments, how many failed, were left by their users; what was cut off, at its age
    (`cut`, with the sum of these ages and, of what passed after the measured part, its whole time
    in `later`), and the ages of what never ended, in µs; checks asked and passed; over so many
    seconds.
    """

    passed: Histogram
    moments: Moments
    failed: int = 0
    left: int = 0
    cut: Histogram = field(default_factory=Histogram)
    cut_sum_us: int = 0
    later: Histogram = field(default_factory=Histogram)
    open_us: list[int] = field(default_factory=list)
    checks: int = 0
    checks_passed: int = 0
    seconds: float = 0.0
    count: int | None = None  # of what passed, where the spread is of something else
    undelayed: Undelayed | None = (
        None  # times without the generators' own delay, where that is known
    )
    by_second: BySecond | None = None  # for chance; see chance_of

    @property
    def n(self) -> int:
        """How many passed."""
        return self.passed.n if self.count is None else self.count

    @property
    def timed(self) -> int:
        """How many times there are: of what passed and of what was cut off."""
        return self.passed.n + self.cut.n + len(self.open_us)

    @property
    def spread(self) -> Spread:
        return Spread(self.passed, self.cut, self.open_us, self.later)

    def mean_us(self) -> tuple[float | None, float | None]:
        """(what the mean is at least, at most): of what passed, and with what was cut off at its
        age, and at the time that is known since; (None, None) without samples.
        """
        n = self.timed
        if not n:
            return None, None
        passed = self.moments.sum_us / self.moments.n if self.moments.n else 0.0
        low = max(passed, (self.moments.sum_us + self.cut_sum_us + sum(self.open_us)) / n)
        if self.cut.n + len(self.open_us) > self.later.n:
            return low, None
        return low, max(low, (self.moments.sum_us + self.later.sum_us()) / n)


def judge(
    objective: Objective,
    found: Slice,
    *,
    step_name: str | None = None,
    until_name: str | None = None,
) -> Judgement:
    """Judges `objective` on all that was measured.

    A percentile is not judged with n·(100−p) < 100; a failure rate not without samples. What was
    cut off is taken at its age and as lasting for ever: missed when both are beyond the limit, met
    when both are within, else not judged. A response time of which more than half failed is missed
    whatever the rest took. One that is missed as measured, and not without the generators' own
    delay, is not judged. What is left is held against chance, where its seconds are known: met,
    missed, or not decided. "close" = met by less than 10 % of the limit, not defined at limit 0.
    """
    unit = objective.unit
    share = 100.0 * found.failed / (found.n + found.failed) if found.failed else 0.0
    (low, high), reason = _bounds(objective, found)
    word: Word = "not judged"
    if objective.is_spread and share > MUCH_FAILED:
        word, reason = "missed", f"{share:.3g} % failed, so what passed says little"
    elif low is not None and _within(objective, low, high) is not None:
        word = word_of(objective, low, high)
    elif low is not None and not reason:
        count = found.cut.n + len(found.open_us)
        reason = f"{count:,} cut off before the end could turn it"
    band = _band(objective, found, low)
    side: Literal["", "within", "over"] = (
        "" if word == "not judged" else "over" if word == "missed" else "within"
    )
    needed_s = None
    if share <= MUCH_FAILED or not objective.is_spread:
        if band is not None and _turns(objective, band):
            word = "not judged"
            reason = (
                f"the generators' own delay decides: without it at least {short(band[0])} {unit}"
            )
        elif side:
            word, needed_s = _beyond_chance(objective, found, word)
            if word == "not decided":
                reason = _undecided(side, needed_s)
    return Judgement(
        objective=objective.objective,
        word=word,
        value=low,
        limit=objective.limit,
        unit=unit,
        samples=_samples(objective, found),
        sentence=describe(objective, step_name, until_name),
        reason=reason,
        at_least=low is not None and low != high,
        failed_percent=share if objective.is_spread and share > SOME_FAILED else 0.0,
        then=objective.then,
        band=band,
        side=side,
        needed_s=needed_s,
    )


def _band(objective: Objective, found: Slice, value: float | None) -> tuple[float, float] | None:
    """(without the generators' own delay at least, as measured) in ms; None where that changes
    nothing that is seen.
    """
    if (
        found.undelayed is None
        or value is None
        or objective.unit != "ms"
        or not objective.is_spread
    ):
        return None
    if objective.measure == "mean":
        least_us = found.undelayed.mean_us
    elif objective.measure == "max":
        least_us = found.undelayed.max_us
    else:
        least_us = found.undelayed.percentile_us(objective.percent or 0.0)
    if least_us is None or value - least_us / 1000 <= 0.001 * value:
        return None
    return round(least_us / 1000, 3), value


def _turns(objective: Objective, band: tuple[float, float]) -> bool:
    """Whether the limit lies in a band."""
    least, as_measured = band
    if objective.at_least:
        return least < objective.limit <= as_measured
    return least <= objective.limit < as_measured


def _beyond_chance(objective: Objective, found: Slice, word: Word) -> tuple[Word, float | None]:
    """(the word beyond chance, for how many more seconds would have to be measured where it is not
    decided).
    """
    told = found.by_second
    if told is None or objective.at_least or not _knows_chance(objective):
        return word, None
    if objective.measure == "mean":
        decided = mean_within(told, objective.limit * 1000)
    elif objective.percent is not None:
        decided = share_within(told, 1 - objective.percent / 100)
    else:
        decided = share_within(told, objective.limit / 100)
    if decided.word == "not decided":
        more_s = None if decided.needed is None else max(0.0, decided.needed - 1) * len(told.counts)
        return "not decided", more_s
    if decided.word == "missed":
        return "missed", None
    return (word if word != "missed" else "not decided"), None


def _knows_chance(objective: Objective) -> bool:
    return objective.percent is not None or objective.measure in ("mean", "failure-rate", "left")


LONGEST_S = 30 * 86_400.0  # more than this is not named


def _undecided(side: str, more_s: float | None) -> str:
    said = "within the limit" if side == "within" else "over the limit"
    if more_s is None or more_s > LONGEST_S:
        return f"{said}, not decided: too close to the limit to tell from chance"
    more = f"{max(1, round(more_s)):,} s" if more_s < 90 else f"{short(more_s / 60)} min"
    return f"{said}, not decided; about {more} more would"


def _within(objective: Objective, low: float, high: float | None) -> bool | None:
    """Whether a value between `low` and `high` keeps the limit; None when that can't be said."""
    if objective.at_least:
        if low >= objective.limit:
            return True
        return False if high is not None and high < objective.limit else None
    if low > objective.limit:
        return False
    return True if high is not None and high <= objective.limit else None


def word_of(objective: Objective, low: float, high: float | None) -> Word:
    """Of a value between `low` and `high` (None: not known): missed, close to the limit, or met."""
    if not _within(objective, low, high):
        return "missed"
    if objective.limit <= 0:
        return "met"
    is_close = (
        low < 1.1 * objective.limit if objective.at_least else (high or 0.0) > 0.9 * objective.limit
    )
    return "close" if is_close else "met"


def _samples(objective: Objective, found: Slice) -> int:
    if objective.measure == "checks":
        return found.checks
    if objective.is_spread:
        return found.timed
    return found.n + found.failed + (found.left if objective.measure == "left" else 0)


def _bounds(objective: Objective, found: Slice) -> tuple[Bounds, str]:
    """(what the measure is at least and at most, why there is none)."""
    nothing: tuple[Bounds, str] = (None, None), "nothing was measured"
    count = len(found.open_us)
    if objective.measure == "throughput":
        value = found.n / found.seconds if found.seconds > 0 else None
        return ((value, value), "") if value is not None else nothing
    if objective.measure == "checks":
        value = 100.0 * found.checks_passed / found.checks if found.checks else None
        return ((value, value), "") if value is not None else nothing
    if objective.measure == "left":
        n = found.n + found.failed + found.left
        return ((100.0 * found.left / n, 100.0 * found.left / n), "") if n else nothing
    if objective.measure == "failure-rate":
        n = found.n + found.failed
        if not n + count:
            return nothing
        return (
            100.0 * found.failed / n if n else 0.0,
            100.0 * (found.failed + count) / (n + count),
        ), ""
    return _of_spread(objective, found)


def _of_spread(objective: Objective, found: Slice) -> tuple[Bounds, str]:
    n = found.timed
    if n == 0:
        return (
            None,
            None,
        ), "nothing passed in the measured part" if found.failed else "nothing was measured"
    spread = found.spread
    if objective.measure == "mean":
        low, high = found.mean_us()
        return ((low or 0.0) / 1000, None if high is None else high / 1000), ""
    if objective.measure == "max":
        least = spread.max_us() or 0
        endless = found.cut.n + len(found.open_us) > found.later.n
        return (least / 1000, None if endless else max(least, found.later.max_us() or 0) / 1000), ""
    percent = objective.percent
    assert percent is not None
    if enough_for(percent, n) == "no":
        needed = -(-100 // (100 - percent))
        return (
            None,
            None,
        ), f"{n} samples are too few for {objective.measure}; {needed:.0f} are needed"
    most = spread.high_us(percent)
    return ((spread.low_us(percent) or 0) / 1000, None if most is None else most / 1000), ""
