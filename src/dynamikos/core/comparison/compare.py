"""Whether b is worse than a: Welch's test over sets of runs, intervals of single ones, Holm's correction over a family.

Welch (1947); Holm (1979). Times are compared by their logarithms, shares by p = (k + ½)/(n + 1), those of sets by
ln(p/(1 − p)).
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy.special import expit, logit, stdtr, stdtrit

from dynamikos.core.comparison.side import AnyLine, OneRun, Wanted, family_of
from dynamikos.core.statistics.intervals import Certain

Word = Literal["worse", "better", "not worse", "can't be said"]
ALPHA, POWER, OF_A_SET = 0.05, 0.8, 3
MIX = 2.0  # points by which the share of a row may differ in a set
MOST_RUNS = 1000  # repetitions that are worth naming
POINTS = 0.01  # by which a share may grow where times may by a tenth: one percentage point


@dataclass(frozen=True, slots=True)
class Difference:
    """Of one measure: both values (ms, per second, or parts), and by how much b is beyond a, with its interval and the
    smallest change that would be found: parts of a, for shares points (as parts). None where it can't be computed.
    `runs` are those of the larger side; `repetitions` on each side would say it, as far as these runs tell.
    """

    wanted: Wanted
    name: str
    a: float | None
    b: float | None
    change: float | None = None
    low: float | None = None
    high: float | None = None
    smallest: float | None = None
    p: float | None = None
    word: Word = "can't be said"
    is_real: bool = False  # whether it holds beyond these runs: sets on both sides
    is_family: bool = True
    runs: int = 1
    repetitions: int | None = None
    reason: str = ""

    @property
    def differs(self) -> bool:
        return self.word in ("worse", "better")


@dataclass(frozen=True, slots=True)
class Comparison:
    """`differences` of the family, the worst first; `others` are exploratory. `left_out` are runs that did not count
    and why; `only_a`, `only_b` name steps of one side alone.
    """

    differences: list[Difference]
    others: list[Difference]
    word: Word
    sets: bool  # whether both sides are sets of at least three runs
    left_out: list[tuple[str, str]]
    only_a: list[str]
    only_b: list[str]
    tolerated: float

    @property
    def exit_code(self) -> int:
        """0 not worse than tolerated, 1 worse, 2 could not compare, 3 can't be said."""
        if not self.differences:
            return 2
        return {"worse": 1, "better": 0, "not worse": 0, "can't be said": 3}[self.word]

    @property
    def sentence(self) -> str:
        between = "" if self.sets else " between these runs; whether it would be so again, only repetitions can tell"
        worse = [each for each in self.differences if each.word == "worse"]
        if not self.differences:
            return "Nothing could be compared: the two sides have no step with figures in common."
        if worse:
            named = ", ".join(dict.fromkeys(each.name for each in worse[:3]))
            more = f" and {len(worse) - 3} more" if len(worse) > 3 else ""
            return f"Worse: {named}{more} differ{'s' if len(worse) == 1 else ''}{between}."
        if self.word == "can't be said":
            open_ = [each for each in self.differences if each.word == "can't be said"]
            return (
                f"It can't be said whether {len(open_)} of {len(self.differences)} measures are worse by more than"
                f" {100 * self.tolerated:g} %: the runs vary too much, or are too short or too few."
            )
        return f"Not worse by more than {100 * self.tolerated:g} %, in all {len(self.differences)} measures compared."


@dataclass(frozen=True, slots=True)
class _Side:
    """A side's figure on its scale (logarithm of a time; a share itself, of sets its logit), its error and freedom."""

    shown: float
    value: float
    error: float | None
    freedom: float
    runs: int


def _scaled(wanted: Wanted, found: Certain, *, between: bool) -> _Side:
    if wanted.is_share and not between:
        return _Side(found.value, found.value, found.error, found.freedom, 1)
    if wanted.is_share:
        return _Side(found.value, float(logit(found.value)), None, 0, 1)
    error = None if found.error is None or found.value <= 0 else found.error / found.value
    return _Side(found.value, math.log(max(found.value, 1e-9)), error, found.freedom, 1)


def _side(wanted: Wanted, lines: Sequence[AnyLine], *, between: bool) -> _Side | None:
    """Of all runs of a side that have it: between runs with at least three, else within them. `between`: so many are on
    both sides.
    """
    found = [figure for line in lines if (figure := line.figure(wanted.measure)) is not None]
    if not found:
        return None
    each = [_scaled(wanted, figure, between=between) for figure in found]
    values = np.array([one.value for one in each])
    value = float(values.mean())
    shown = math.exp(value)
    if wanted.is_share:  # as it was counted; what is compared is pulled a little towards the middle
        shown = float(np.mean([line.share for line in lines if line.n]))
    if len(each) >= OF_A_SET:
        error = float(values.std(ddof=1)) / math.sqrt(len(each))
        return _Side(shown, value, error, len(each) - 1, len(each))
    errors = [one.error for one in each]
    if any(error is None for error in errors):
        return _Side(shown, value, None, 0, len(each))
    within = math.sqrt(sum((error or 0.0) ** 2 for error in errors)) / len(each)
    return _Side(shown, value, within, sum(one.freedom for one in each), len(each))


def _difference(wanted: Wanted, a: Sequence[AnyLine], b: Sequence[AnyLine], tests: int) -> Difference:
    name = (a or b)[0].name
    between = min(sum(line.figure(wanted.measure) is not None for line in side) for side in (a, b)) >= OF_A_SET
    one, other = _side(wanted, a, between=between), _side(wanted, b, between=between)
    made = Difference(wanted, name, one.shown if one else None, other.shown if other else None)
    if one is None or other is None:
        few = f", or too few values for {wanted.measure}" if wanted.measure.startswith("p") else ""
        return replace(made, reason=f"one side has nothing of it{few}")
    step = other.value - one.value
    change = other.shown - one.shown if wanted.is_share else math.expm1(step)
    if one.error is None or other.error is None:
        return replace(made, change=change, reason="a run is too short to say how certain this is")
    error = math.hypot(one.error, other.error)
    if error <= 0:
        return replace(made, change=change, reason="the values don't vary, so nothing can be said of chance")
    freedom = error**4 / (one.error**4 / max(1, one.freedom) + other.error**4 / max(1, other.freedom))
    p = float(2 * stdtr(freedom, -abs(step) / error))
    reach = float(stdtrit(freedom, 1 - ALPHA / 2)) * error
    found = (float(stdtrit(freedom, 1 - ALPHA / 2 / tests)) + float(stdtrit(freedom, POWER))) * error

    def back(step: float) -> float:
        """A step of the scale as a change: parts of a, of a share its points."""
        if not wanted.is_share:
            return math.expm1(step)
        if between:
            return float(expit(one.value + step) - expit(one.value))
        return max(-1.0, min(1.0, step))  # no share changes by more than all

    low, high = back(step - reach), back(step + reach)
    return replace(
        made,
        change=change,
        low=low,
        high=high,
        smallest=back(found),
        p=p,
        is_real=min(one.runs, other.runs) >= OF_A_SET,
        runs=max(one.runs, other.runs),
    )


def _judged(each: Difference, tolerated: float, *, is_rejected: bool) -> Difference:
    """Its word, once it is known whether Holm's correction calls it different."""
    if each.low is None or each.high is None or each.change is None or each.smallest is None:
        return each
    is_worse_up = each.wanted.more_is_worse
    worst = each.high if is_worse_up else -each.low
    allowed = POINTS * tolerated / 0.1 if each.wanted.is_share else tolerated
    if not is_worse_up:
        allowed = tolerated / (1 + tolerated)
    worsening = each.change if is_worse_up else -each.change
    word: Word = "can't be said"
    if worst <= allowed:
        word = "better" if is_rejected and worsening < 0 else "not worse"
    elif is_rejected:
        word = "worse" if worsening > 0 else "better"
    needed = math.ceil(each.runs * (each.smallest / allowed) ** 2) if allowed > 0 else None
    is_named = word == "can't be said" and needed is not None and needed <= MOST_RUNS
    return replace(each, word=word, repetitions=needed if is_named else None)


def _rejected(family: Sequence[Difference]) -> set[int]:
    """Which of them differ, by Holm's step-down."""
    order = sorted((at for at, each in enumerate(family) if each.p is not None), key=lambda at: family[at].p or 0.0)
    made = set()
    for place, at in enumerate(order):
        if (family[at].p or 0.0) > ALPHA / (len(family) - place):
            break
        made.add(at)
    return made


WORST: tuple[Word, ...] = ("worse", "can't be said", "not worse", "better")


def counted(side: Sequence[OneRun]) -> tuple[list[OneRun], list[tuple[str, str]]]:
    """Those that count, and (run, why) of those that don't: of several runs the ones with doubts, and those to which
    others came than to the rest (a row's share MIX points or more from the middle one).
    """
    if len(side) == 1:
        return list(side), []
    out = [(run.name, run.doubts[0]) for run in side if run.doubts]
    rest, made = [run for run in side if not run.doubts], list[OneRun]()
    for run in rest:
        for row, share in run.mix.items():
            usual = float(np.median([each.mix.get(row, 0.0) for each in rest]))
            if abs(share - usual) > MIX and len(rest) > 1:
                out.append((run.name, f"the share of {row} was {share:.3g} %, in the others {usual:.3g} %"))
                break
        else:
            made.append(run)
    return made, out


def compare(a: Sequence[OneRun], b: Sequence[OneRun], tolerated: float = 0.1) -> Comparison:
    """Whether `b` is worse than `a` by more than `tolerated` (a part). Of sides of several runs only those without
    doubts count.
    """
    (a, out_a), (b, out_b) = counted(a), counted(b)
    left_out = [*out_a, *out_b]
    keys_a, keys_b = ({key: None for run in side for key, line in run.lines.items() if line.n} for side in (a, b))
    both = [key for key in keys_a if key in keys_b]
    family = [each for each in family_of([*a, *b]) if each.key in both]
    others = [
        each
        for key in both
        for measure in ("mean", "p50", "p95", "p99", "throughput", "failure-rate")
        if (each := Wanted(key, measure)) not in family
    ]

    def lines(side: Sequence[OneRun], wanted: Wanted) -> list[AnyLine]:
        return [run.lines[wanted.key] for run in side if wanted.key in run.lines]

    tests = max(1, len(family))
    found = [_difference(each, lines(a, each), lines(b, each), tests) for each in family]
    rejected = _rejected(found)
    judged = [_judged(each, tolerated, is_rejected=at in rejected) for at, each in enumerate(found)]
    judged.sort(key=lambda each: (WORST.index(each.word), -abs(each.change or 0.0)))
    seen = [
        replace(_judged(each, tolerated, is_rejected=(each.p or 1.0) <= ALPHA), is_family=False)
        for each in (_difference(other, lines(a, other), lines(b, other), 1) for other in others)
    ]
    word = judged[0].word if judged else "can't be said"
    if judged and all(each.word in ("better", "not worse") for each in judged):
        word = "not worse"

    def names(side: Sequence[OneRun], keys: dict[tuple[str, str, str, str], None], other: object) -> list[str]:
        steps = [key for key in keys if key[0] == "step" and key not in other]  # type: ignore[operator]
        return [next(run.lines[key].name for run in side if key in run.lines) for key in steps]

    return Comparison(
        differences=judged,
        others=seen,
        word=word,
        sets=min(len(a), len(b)) >= OF_A_SET,
        left_out=left_out,
        only_a=names(a, keys_a, keys_b),
        only_b=names(b, keys_b, keys_a),
        tolerated=tolerated,
    )
