"""Whether b is worse than a: intervals within runs and what runs of one build differ by, Holm's
correction (1979) over a fixed family.

Times are compared by their logarithms, shares by their log odds. One run against one: the variance
between runs is that of earlier sets of the plan, or taken as 5 %. Sets of three and more: pooled
variances, moderated over the steps (Smyth 2004).
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.special import digamma, expit, polygamma, stdtr, stdtrit

from dynamikos.core.comparison.side import AnyLine, Key, OneRun, Wanted, family_of
from dynamikos.core.statistics.intervals import LEAST_N, LEAST_S, ROUGH_S, Estimate

Word = Literal["worse", "better", "not worse", "slower, tolerated", "inconclusive"]
ALPHA, POWER_Z, OF_A_SET = 0.05, 0.84, 3
MIX = 2.0  # points by which the share of a row may differ
MOST_RUNS = 1000  # repetitions that are worth naming
POINTS = 0.01  # by which a share may grow where times may by a tenth: one percentage point
TOLERATED_ONE, TOLERATED_SETS = 0.3, 0.1
BETWEEN, LEAST_BETWEEN, WEIGHT, BETWEEN_SHARES = (
    0.05,
    0.02,
    4.0,
    0.10,
)  # what runs of one build differ by
PRIOR_TIMES = 1.5  # the moderated variance is a little more than the steps' usual one
CODES: dict[Word, int] = {
    "worse": 1,
    "better": 0,
    "not worse": 0,
    "slower, tolerated": 0,
    "inconclusive": 3,
}


@dataclass(frozen=True, slots=True)
class History:
    """An earlier set of runs of one build: the variance of a logarithm between `runs`, and its mean
    error² within.
    """

    between: float
    within: float
    runs: int


@dataclass(frozen=True, slots=True)
class Difference:
    """Of one measure: both values (ms, per second, or parts), and by how much b is beyond a, with
    its interval and the smallest change that would be found: parts of a, for shares points (as
    parts). None where it can't be computed. `most` is the one-sided end of 95 % to the worse side.
    `usual` is what runs of one build differ by, where that was taken as given. `runs` are those of
    the larger side; `repetitions` on each side would say it, as far as these tell.
    """

    wanted: Wanted
    name: str
    a: float | None
    b: float | None
    change: float | None = None
    low: float | None = None
    high: float | None = None
    most: float | None = None
    smallest: float | None = None
    p: float | None = None
    p_within: float | None = None  # chance within these runs alone
    usual: float | None = None
    word: Word = "inconclusive"
    is_real: bool = False  # whether it holds beyond these runs: sets on both sides
    is_family: bool = True
    runs: int = 1
    repetitions: int | None = None
    reason: str = ""

    @property
    def differs(self) -> bool:
        return self.word in ("worse", "better", "slower, tolerated")


@dataclass(frozen=True, slots=True)
class Comparison:
    """`differences` of the family, the worst first; `others` are exploratory. `left_out` are runs
    that can't be compared, `doubts` what is doubted of those that are, each with its run; `only_a`,
    `only_b` name steps of one side alone. `history`: how many earlier sets tell what runs of one
    build differ by.
    """

    differences: list[Difference]
    others: list[Difference]
    word: Word
    sets: bool  # whether both sides are sets of at least three runs
    left_out: list[tuple[str, str]]
    doubts: list[tuple[str, str]]
    only_a: list[str]
    only_b: list[str]
    tolerated: float
    is_rough: bool = False  # whether a run is so short that its intervals are rough
    history: int = 0

    @property
    def exit_code(self) -> int:
        """0 not worse than tolerated, 1 worse, 3 inconclusive."""
        return CODES[self.word]

    @property
    def sentence(self) -> str:
        allowed = f"{100 * self.tolerated:g} %"
        worse = [each for each in self.differences if each.word == "worse"]
        if not self.differences:
            why = "; ".join(f"{name}: {why}" for name, why in self.left_out)
            return (
                "Inconclusive: the two sides have no step with figures in "
                f"common{f' ({why})' if why else ''}."
            )
        if worse:
            named = ", ".join(
                dict.fromkeys(f"{each.name} ({each.wanted.measure})" for each in worse[:3])
            )
            more = f" and {len(worse) - 3} more" if len(worse) > 3 else ""
            return f"Worse: {named}{more}. {allowed} would be tolerated."
        if self.word == "inconclusive":
            open_ = sum(each.word == "inconclusive" for each in self.differences)
            return (
                f"Inconclusive: of {open_} of {len(self.differences)} measures these runs can't "
                "tell whether they are"
                f" worse by more than the {allowed} that are tolerated."
            )
        if self.word == "slower, tolerated":
            slower = [each for each in self.differences if each.word == "slower, tolerated"]
            named = ", ".join(dict.fromkeys(each.name for each in slower[:3]))
            return f"Slower, but within the {allowed} that are tolerated: {named}."
        return (
            f"Not worse by more than the tolerated {allowed}, in all {len(self.differences)} "
            "measures compared."
        )


def between_runs(history: Sequence[History] = ()) -> float:
    """The variance of a logarithm between runs of one build: of earlier sets, drawn to (5 %)² by
    the weight of four.
    """
    squares = WEIGHT * BETWEEN**2 + sum(
        (each.runs - 1) * max(0.0, each.between - each.within) for each in history
    )
    return max(LEAST_BETWEEN**2, squares / (WEIGHT + sum(each.runs - 1 for each in history)))


# one against one ----------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _Side:
    """A side's figure on its scale, its error within runs, its freedom, and how many runs it is of.
    `shown` is the figure as it is read, `undelayed` (on the scale) what it would be without the
    generators' own delay.
    """

    shown: float
    value: float
    error: float | None
    freedom: float
    runs: int
    undelayed: float
    each: tuple[float, ...]


def _scale(wanted: Wanted, found: Estimate) -> float:
    if not wanted.is_share:
        return math.log(max(found.value, 1e-9))
    m = found.n_eff or float(found.n)
    return math.log((found.value * m + 0.5) / ((1 - found.value) * m + 0.5))


def _side(wanted: Wanted, lines: Sequence[AnyLine]) -> _Side | None:
    """Of all runs of a side that have it."""
    found = [
        (line, figure)
        for line in lines
        if (figure := line.figure(wanted.measure)) is not None
        and (wanted.is_share or figure.value > 0)
    ]
    if not found:
        return None
    values = [_scale(wanted, figure) for _, figure in found]
    value = float(np.mean(values))
    shown = (
        float(np.mean([figure.value for _, figure in found]))
        if wanted.is_share
        else math.exp(value)
    )
    errors = [figure.error for _, figure in found]
    error = None
    if all(each is not None for each in errors):
        error = math.sqrt(sum((each or 0.0) ** 2 for each in errors)) / len(found)
    less = [0.0 if wanted.is_share else line.own_delay(wanted.measure) for line, _ in found]
    undelayed = value + float(np.mean([math.log(max(1 - each, 1e-6)) for each in less]))
    freedom = float(sum(figure.freedom for _, figure in found))
    return _Side(shown, value, error, freedom, len(found), undelayed, tuple(values))


def _back(wanted: Wanted, one: _Side, step: float) -> float:
    """A step of the scale as a change: parts of a, of a share its points."""
    if not wanted.is_share:
        return math.expm1(step)
    return float(expit(one.value + step) - expit(one.value))


@dataclass(frozen=True, slots=True)
class _Tested:
    """A step of the scale with its standard error and freedom, and what is known of it."""

    step: float
    error: float
    freedom: float
    p: float
    p_within: float | None = None


def _one_on_one(one: _Side, other: _Side, tau2: float) -> _Tested:
    """With what runs of one build differ by; Welch and Satterthwaite for the part within runs."""
    assert one.error is not None and other.error is not None
    step, within = other.value - one.value, one.error**2 + other.error**2
    parts = sum(side.error**4 / max(1.0, side.freedom) for side in (one, other) if side.error)
    freedom_in = within**2 / parts if parts > 0 else 200.0
    whole = within + tau2 * (1 / one.runs + 1 / other.runs)
    freedom = min(200.0, whole**2 / (within**2 / freedom_in + 1e-300)) if within > 0 else 200.0
    p = float(2 * stdtr(freedom, -abs(step) / math.sqrt(whole)))
    p_within = float(2 * stdtr(freedom_in, -abs(step) / math.sqrt(within))) if within > 0 else p
    return _Tested(step, math.sqrt(whole), freedom, p, p_within)


# sets ---------------------------------------------------------------------------------------------


def moderated(a: NDArray[np.float64], b: NDArray[np.float64]) -> list[_Tested]:
    """Each step tested; a, b: logarithms, shape (runs, steps). Pooled variances, shrunk over the
    steps, the prior's freedom bounded by how many steps vary independently.
    """
    d, m = len(a) + len(b) - 2, a.shape[1]
    rest = np.concatenate([a - a.mean(axis=0), b - b.mean(axis=0)])
    squares = np.maximum((rest**2).sum(axis=0) / d, 1e-12)
    logs = np.log(squares) - digamma(d / 2) + math.log(d / 2)
    extra = float(logs.var(ddof=1)) - float(polygamma(1, d / 2)) if m > 2 else math.inf
    d0 = 0.0
    if extra < math.inf:
        alike = rest / np.sqrt(np.maximum((rest**2).sum(axis=0), 1e-300))
        correlation = alike.T @ alike
        rho2 = max(0.0, (((correlation**2).sum() - m) / (m * (m - 1)) - 1 / d) / (1 - 1 / d))
        most = d * max(0.0, m / (1 + (m - 1) * rho2) - 1)
        d0 = min(most, 2 * _trigamma_inverse(extra)) if extra > 0 else most
    if d0 <= 0.5:
        d0, prior = 0.0, 0.0
    else:
        prior = math.exp(float(logs.mean()) + float(digamma(d0 / 2)) - math.log(d0 / 2))
    variance = (d0 * PRIOR_TIMES * prior + d * squares) / (d0 + d)
    errors = np.sqrt(variance * (1 / len(a) + 1 / len(b)))
    steps = b.mean(axis=0) - a.mean(axis=0)
    ps = 2 * stdtr(d0 + d, -np.abs(steps) / errors)
    return [
        _Tested(float(step), float(error), d0 + d, float(p))
        for step, error, p in zip(steps, errors, ps, strict=True)
    ]


def _trigamma_inverse(x: float) -> float:
    y = 0.5 + 1 / x
    for _ in range(20):
        tri = float(polygamma(1, y))
        y += tri * (1 - tri / x) / float(polygamma(2, y))
    return y


# the family ---------------------------------------------------------------------------------------


def _tests(
    wanted: Sequence[Wanted], sides: Mapping[Wanted, tuple[_Side | None, _Side | None]], tau2: float
) -> dict[Wanted, _Tested]:
    """Of all that can be tested: sets of one measure together, the rest one by one."""
    made: dict[Wanted, _Tested] = {}
    groups: dict[tuple[str, int, int], list[Wanted]] = {}
    for each in wanted:
        one, other = sides[each]
        if one is None or other is None:
            continue
        if min(one.runs, other.runs) >= OF_A_SET:
            groups.setdefault((each.measure, one.runs, other.runs), []).append(each)
        elif one.error is not None and other.error is not None:
            made[each] = _one_on_one(one, other, BETWEEN_SHARES**2 if each.is_share else tau2)
    for group in groups.values():
        a, b = (np.array([sides[each][at].each for each in group]).T for at in (0, 1))  # type: ignore[union-attr]
        made |= dict(zip(group, moderated(a, b), strict=True))
    return made


def _enough_s(wanted: Wanted, runs: Sequence[OneRun]) -> float:
    """How long each run would have to be measured for an interval of a measure, at the pace of the
    slowest.
    """
    lines = [(run.lines[wanted.key].n, run.seconds) for run in runs if wanted.key in run.lines]
    return max([LEAST_S, *(seconds * LEAST_N / n for n, seconds in lines if n)])


def _difference(
    wanted: Wanted,
    name: str,
    sides: tuple[_Side | None, _Side | None],
    tested: _Tested | None,
    tests: int,
    tau2: float,
    enough_s: float,
) -> Difference:
    one, other = sides
    made = Difference(wanted, name, one.shown if one else None, other.shown if other else None)
    if one is None or other is None:
        few = f", or too few values for {wanted.measure}" if wanted.measure.startswith("p") else ""
        return replace(made, reason=f"one side has nothing of it{few}")
    step = other.value - one.value
    change = other.shown - one.shown if wanted.is_share else math.expm1(step)
    if tested is None:
        why = (
            f"too short: about {math.ceil(enough_s):,} s of measured time in each run would be "
            "enough"
        )
        return replace(made, change=change, reason=why)
    if tested.error <= 0:
        return replace(
            made, change=change, reason="the values don't vary, so nothing can be said of chance"
        )
    reach = float(stdtrit(tested.freedom, 1 - ALPHA / 2)) * tested.error
    one_sided = float(stdtrit(tested.freedom, 1 - ALPHA)) * tested.error
    found = (float(stdtrit(tested.freedom, 1 - ALPHA / 2 / tests)) + POWER_Z) * tested.error
    is_real = min(one.runs, other.runs) >= OF_A_SET
    between = BETWEEN_SHARES if wanted.is_share else math.sqrt(tau2)
    worst = step + one_sided if wanted.more_is_worse else step - one_sided
    return replace(
        made,
        change=change,
        low=_back(wanted, one, step - reach),
        high=_back(wanted, one, step + reach),
        most=_back(wanted, one, worst),
        smallest=_back(wanted, one, found),
        p=tested.p,
        p_within=tested.p_within,
        usual=None if is_real else abs(_back(wanted, one, 1.96 * math.sqrt(2) * between)),
        is_real=is_real,
        runs=max(one.runs, other.runs),
    )


def _judged(
    each: Difference, tolerated: float, points: float, *, is_rejected: bool, is_within: bool
) -> Difference:
    """Its word, once it is known whether Holm's correction calls it different (`is_within`: within
    these runs).
    """
    if each.most is None or each.change is None or each.smallest is None:
        return each
    sign = 1 if each.wanted.more_is_worse else -1
    allowed = points if each.wanted.is_share else tolerated
    if sign < 0:
        allowed = tolerated / (1 + tolerated)
    word = _word(each, sign * each.change, sign * each.most, allowed, is_rejected=is_rejected)
    reason = each.reason
    if not reason and not is_rejected and is_within and each.usual is not None:
        unit = "points" if each.wanted.is_share else "%"
        reason = (
            "the two differ by more than chance inside them, but runs of one build usually differ "
            f"by up to {100 * each.usual:.2g} {unit}, so it may be no change"
        )
    needed = math.ceil(each.runs * (each.smallest / allowed) ** 2) if allowed > 0 else None
    is_named = word == "inconclusive" and needed is not None and 1 < needed <= MOST_RUNS
    repetitions = max(OF_A_SET, needed or 0) if is_named else None
    return replace(each, word=word, reason=reason, repetitions=repetitions)


def _word(
    each: Difference, worsening: float, most: float, allowed: float, *, is_rejected: bool
) -> Word:
    """`worsening` is the change, `most` the most that it can be: positive where it is worse."""
    if is_rejected and worsening < 0:
        return "better"
    if most <= allowed:
        is_slower = is_rejected and worsening > 0 and each.wanted.is_time
        return "slower, tolerated" if is_slower else "not worse"
    return "worse" if is_rejected and worsening > allowed else "inconclusive"


def rejected(ps: Sequence[float | None]) -> set[int]:
    """Which of a family differ, by Holm's step-down; one without a p counts in the family and is
    never rejected.
    """
    order = sorted((at for at, p in enumerate(ps) if p is not None), key=lambda at: ps[at] or 0.0)
    made = set()
    for place, at in enumerate(order):
        if (ps[at] or 0.0) > ALPHA / (len(ps) - place):
            break
        made.add(at)
    return made


WORST: tuple[Word, ...] = ("worse", "inconclusive", "slower, tolerated", "not worse", "better")


def counted(
    side: Sequence[OneRun], others: Sequence[OneRun] = ()
) -> tuple[list[OneRun], list[tuple[str, str]]]:
    """Those that can be compared, and (run, why) of those that can't: a lost generator's, empty
    ones, and those to which others came than to the rest of both sides (a row's share MIX points or
    more from the middle one).
    """
    out, rest = list[tuple[str, str]](), list[OneRun]()
    for run in side:
        if run.lost:
            out.append((run.name, run.lost))
        elif not any(line.n for line in run.lines.values()):
            out.append((run.name, "nothing was measured in it"))
        else:
            rest.append(run)
    every = [*rest, *(each for each in others if not each.lost)]
    made = []
    for run in rest:
        for row, share in run.mix.items():
            usual = float(np.median([each.mix.get(row, 0.0) for each in every]))
            if abs(share - usual) > MIX and len(every) > 2:
                out.append(
                    (run.name, f"the share of {row} was {share:.3g} %, in the others {usual:.3g} %")
                )
                break
        else:
            made.append(run)
    return made, out


def compare(
    a: Sequence[OneRun],
    b: Sequence[OneRun],
    tolerated: float | None = None,
    history: Sequence[History] = (),
) -> Comparison:
    """Whether `b` is worse than `a` by more than `tolerated` (a part; 0.3 one against one, 0.1 for
    sets where it is not said). Runs that can't be compared are left out, each named; doubted ones
    count, and are named as well. `history`: earlier sets of runs of one build.
    """
    (some_a, out_a), (some_b, out_b) = counted(a, b), counted(b, a)
    sets = min(len(some_a), len(some_b)) >= OF_A_SET
    allowed = tolerated if tolerated is not None else TOLERATED_SETS if sets else TOLERATED_ONE
    points = POINTS if tolerated is None else POINTS * tolerated / 0.1
    keys_a, keys_b = _keys(some_a), _keys(some_b)
    both = [key for key in keys_a if key in keys_b]
    family = [each for each in family_of([*some_a, *some_b]) if each.key in both]
    wanted = (Wanted(key, measure) for key in both for measure in MEASURES)
    others = [each for each in wanted if each not in family]
    comparing = _Comparing(some_a, some_b, between_runs(history))
    judged = _judged_together(comparing.differences(family, max(1, len(family))), allowed, points)
    seen = [_seen(each, allowed, points) for each in comparing.differences(others, 1)]
    word: Word = judged[0].word if judged else "inconclusive"
    if word == "better":
        word = "not worse"
    return Comparison(
        differences=judged,
        others=seen,
        word=word,
        sets=sets,
        left_out=[*out_a, *out_b],
        doubts=[(run.name, doubt) for run in (*some_a, *some_b) for doubt in run.doubts],
        only_a=_steps_only_in(some_a, keys_a, keys_b),
        only_b=_steps_only_in(some_b, keys_b, keys_a),
        tolerated=allowed,
        is_rough=any(run.seconds < ROUGH_S for run in (*some_a, *some_b)),
        history=len(history),
    )


def _judged_together(
    found: Sequence[Difference], tolerated: float, points: float
) -> list[Difference]:
    """The family, each by Holm's correction over all; the worst first."""
    different = rejected([each.p for each in found])
    within = rejected([each.p_within for each in found])
    judged = [
        _judged(each, tolerated, points, is_rejected=at in different, is_within=at in within)
        for at, each in enumerate(found)
    ]
    return sorted(judged, key=lambda each: (WORST.index(each.word), -abs(each.change or 0.0)))


MEASURES = ("mean", "p50", "p95", "p99", "throughput", "failure-rate")  # that are shown of a line


class _Comparing:
    """The runs of both sides, for what is wanted of them; `tau2`: how runs of one build vary."""

    def __init__(self, a: Sequence[OneRun], b: Sequence[OneRun], tau2: float) -> None:
        self._sides, self._tau2 = (a, b), tau2
        self._names: dict[Key, str] = {}

    def differences(self, wanted: Sequence[Wanted], tests: int) -> list[Difference]:
        """Of each; `tests` is how many are tested together."""
        sides = {each: self._sides_of(each) for each in wanted}
        tested = _tests(wanted, sides, self._tau2)
        made = []
        for each in wanted:
            enough_s = _enough_s(each, (*self._sides[0], *self._sides[1]))
            name, test = self._names.get(each.key, each.key[2]), tested.get(each)
            found = _difference(each, name, sides[each], test, tests, self._tau2, enough_s)
            made.append(_at_both_ends(found, each, sides[each], test))
        return made

    def _sides_of(self, wanted: Wanted) -> tuple[_Side | None, _Side | None]:
        made = []
        for side in self._sides:
            lines = [run.lines[wanted.key] for run in side if wanted.key in run.lines]
            if lines:
                self._names[wanted.key] = lines[0].name
            made.append(_side(wanted, lines))
        return made[0], made[1]


def _keys(side: Sequence[OneRun]) -> dict[Key, None]:
    """Of the lines with samples, in their order."""
    return {key: None for run in side for key, line in run.lines.items() if line.n}


def _steps_only_in(
    side: Sequence[OneRun], keys: Mapping[Key, None], other: Mapping[Key, None]
) -> list[str]:
    steps = [key for key in keys if key[0] == "step" and key not in other]
    return [next(run.lines[key].name for run in side if key in run.lines) for key in steps]


def _seen(each: Difference, tolerated: float, points: float) -> Difference:
    """Judged for itself, for whoever looks at it: no part of the family that decides."""

    def is_less_than_chance(p: float | None) -> bool:
        return (p if p is not None else 1.0) <= ALPHA

    is_rejected, is_within = is_less_than_chance(each.p), is_less_than_chance(each.p_within)
    judged = _judged(each, tolerated, points, is_rejected=is_rejected, is_within=is_within)
    return replace(judged, is_family=False)


def _at_both_ends(
    found: Difference,
    wanted: Wanted,
    sides: tuple[_Side | None, _Side | None],
    tested: _Tested | None,
) -> Difference:
    """Where the generators' own delay may have made or hidden the difference, its p and its ends
    are those of whichever end of the bands says less: without the delay of one side, with that of
    the other.
    """
    one, other = sides
    if one is None or other is None or tested is None or tested.error <= 0 or found.most is None:
        return found
    lowest, highest = other.undelayed - one.value, other.value - one.undelayed
    if highest - lowest < 0.005:
        return found
    nearest = 0.0 if lowest <= 0 <= highest else min(abs(lowest), abs(highest))
    p = float(2 * stdtr(tested.freedom, -nearest / tested.error))
    one_sided = float(stdtrit(tested.freedom, 1 - ALPHA)) * tested.error
    worst = highest + one_sided if wanted.more_is_worse else lowest - one_sided
    reason = found.reason
    if p > ALPHA >= tested.p:
        reason = "the generators' own delay decides"
    return replace(found, p=max(p, tested.p), most=_back(wanted, one, worst), reason=reason)
