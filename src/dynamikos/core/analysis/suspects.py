"""What moved with a step's response time in a window (shared design, maths: *Suspects*).

Traces are arrays by second of the run, shape (T,), NaN where there is no value; a lag of −2 s says that the measure
moved two seconds before.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

Trace = NDArray[np.float64]
SHOWN_Z, SHORT_RUN_S, SHORT_Z = 6.0, 300, 8.0
TOGETHER_S, TOGETHER_RHO = 120, 0.5  # moving together is looked at from so long windows on
LONGEST_LAG_S, ALIKE, PLACEMENTS = 15, 0.95, 20
CAP = 99.0


@dataclass(frozen=True, slots=True)
class Suspect:
    """`score` is a robust z of the event (or a rank correlation, for `how` "together"); `sign` 1 where the measure
    rose, −1 where it fell; `folded` are others that moved as one with it. `p` None where there are too few placements.
    """

    measure: str
    score: float
    lag_s: int
    sign: int
    how: Literal["event", "together"]
    p: float | None = None
    folded: tuple[str, ...] = ()

    @property
    def words(self) -> str:
        """When it moved, in words."""
        if not self.lag_s:
            return "at the same time"
        return f"{abs(self.lag_s)} s {'before' if self.lag_s < 0 else 'after'}"


def window_means(trace: Trace, length: int) -> Trace:
    """Means of every window of `length` seconds, by its first second; NaN where less than half of it is known."""
    known = ~np.isnan(trace)
    sums = np.concatenate(([0.0], np.cumsum(np.where(known, trace, 0.0))))
    counts = np.concatenate(([0], np.cumsum(known)))
    total, n = sums[length:] - sums[:-length], counts[length:] - counts[:-length]
    share = known.mean() if len(trace) else 0.0  # a probe that is read every ten seconds knows a tenth of them
    return np.where(n >= np.maximum(1, 0.5 * share * length), total / np.maximum(n, 1), np.nan)


def event_scores(means: Trace) -> Trace:
    """Robust z of each window mean against all of the run: |mean − median| / (1.4826·MAD), at most CAP. A measure that
    hardly ever moves has no MAD: then a quarter of its standard deviation stands in for it.
    """
    known = means[~np.isnan(means)]
    if len(known) < 5:
        return np.full(len(means), np.nan)
    middle = np.median(known)
    scale = max(1.4826 * float(np.median(np.abs(known - middle))), 0.25 * float(known.std()))
    if scale <= 1e-12 * max(1.0, abs(float(middle))):
        return np.where(np.isnan(means), np.nan, 0.0)
    return np.minimum(np.abs(means - middle) / scale, CAP)


def lags_of(length: int) -> list[int]:
    """Those that are tried, the nearest first."""
    most = min(LONGEST_LAG_S, max(5, length))
    return sorted(range(-most, most + 1), key=lambda lag: (abs(lag), lag))


def _best(scores: Trace, at: int, lags: Sequence[int]) -> tuple[float, int]:
    """(score, lag): of those that come within 2 % of the best, the nearest."""
    found, which = _best_at(scores, [at], lags)
    return float(found[0]), lags[which[0]]


def _best_at(scores: Trace, places: Sequence[int], lags: Sequence[int]) -> tuple[Trace, NDArray[np.int64]]:
    """As `_best` of every place, with the number of the lag; 0 and the nearest where nothing is known. Shapes (P,)."""
    away = np.asarray(places)[:, None] + np.asarray(lags)[None, :]
    is_there = (away >= 0) & (away < len(scores))
    found = np.where(is_there, scores[np.clip(away, 0, len(scores) - 1)], np.nan)
    found = np.where(np.isnan(found), -np.inf, found)
    best = found.max(axis=1)
    which = np.argmax(found >= 0.98 * best[:, None], axis=1)
    taken = found[np.arange(len(found)), which]
    is_known = np.isfinite(taken)
    return np.where(is_known, taken, 0.0), np.where(is_known, which, 0)


def threshold_of(seconds: int) -> float:
    """From which score on an event is shown in a run of so many seconds."""
    return SHORT_Z if seconds < SHORT_RUN_S else SHOWN_Z


def suspects(
    step: Trace,
    window: tuple[int, int],
    candidates: Mapping[str, Trace],
    load: Trace | None = None,
    threshold: float | None = None,
) -> list[Suspect]:
    """The measures that moved with `step` in `window` (from, to), most first; `load` is users or arrivals, which what
    moves together is given. Nothing explains it where the list is empty.
    """
    begin, end = max(0, window[0]), min(len(step), window[1])
    length = end - begin
    if length < 1 or len(step) < 3 * length:
        return _together(step, (begin, end), candidates, load) if length >= TOGETHER_S else []
    shown = threshold_of(len(step)) if threshold is None else threshold
    lags = lags_of(length)
    scores: dict[str, Trace] = {}
    found: list[Suspect] = []
    for name, trace in candidates.items():
        means = window_means(trace, length)
        scores[name] = event_scores(means)
        score, lag = _best(scores[name], begin, lags)
        if score >= shown:
            middle = float(np.nanmedian(means))
            found.append(Suspect(name, score, lag, 1 if means[begin + lag] > middle else -1, "event"))
    calm = _calm(step, begin, length) if threshold is None else []  # whoever sets it wants to see them
    found = [each for each in found if not _moves_anyway(scores[each.measure], each.score, calm, lags)]
    p = _p_of(scores, begin, length, lags)
    found = [Suspect(e.measure, e.score, e.lag_s, e.sign, e.how, p(e.score)) for e in found]
    if length >= TOGETHER_S:
        known = {each.measure for each in found}
        found.extend(e for e in _together(step, (begin, end), candidates, load) if e.measure not in known)
    order = {"event": 0, "together": 1}
    # a score has no scale: what moved by a trifle has one, too. How closely it moved with the step weighs as much
    close = {each.measure: _closeness(step, candidates[each.measure], each.lag_s, begin, end) for each in found}
    found.sort(key=lambda each: (order[each.how], -round(each.score * close[each.measure], 6), abs(each.lag_s)))
    return _folded(found, candidates)


CALM_Z, ANYWAY = 3.0, 0.06


def _calm(step: Trace, begin: int, length: int) -> list[int]:
    """Windows elsewhere, not overlapping, in which the step did nothing out of the ordinary."""
    own = event_scores(window_means(step, length))
    places = _elsewhere(begin, length, len(own))
    return [at for at in places if not own[at] >= CALM_Z]


def _elsewhere(begin: int, length: int, seconds: int) -> list[int]:
    """Windows that don't overlap, so far away that no lag leads to the one that is looked at."""
    away = length + max(lags_of(length))
    return [at for at in range(begin % length, seconds, length) if abs(at - begin) >= away]


def _moves_anyway(scores: Trace, score: float, calm: Sequence[int], lags: Sequence[int]) -> bool:
    """Whether a measure moves like that elsewhere, too, where the step does not mind; not known of a short run."""
    if len(calm) < PLACEMENTS:
        return False
    as_much = int((_best_at(scores, calm, lags)[0] >= score).sum())
    return (1 + as_much) / (1 + len(calm)) > ANYWAY


def _closeness(step: Trace, trace: Trace, lag: int, begin: int, end: int) -> float:
    """Correlation with the step around the window, as far on both sides as it is long."""
    length = end - begin
    low, high = max(0, begin - length), min(len(step), end + length)
    other = np.full(high - low, np.nan)
    begin_at, end_at = max(0, low + lag), min(len(trace), high + lag)
    other[begin_at - low - lag : end_at - low - lag] = trace[begin_at:end_at]
    return abs(correlation(step[low:high], other))


def correlation(one: Trace, other: Trace) -> float:
    """Pearson's, over what both have; 0 without variation."""
    both = ~(np.isnan(one) | np.isnan(other))
    if both.sum() < 5:
        return 0.0
    a, b = one[both] - one[both].mean(), other[both] - other[both].mean()
    scale = float(np.sqrt((a @ a) * (b @ b)))
    return float(a @ b) / scale if scale > 0 else 0.0


def _p_of(scores: Mapping[str, Trace], begin: int, length: int, lags: Sequence[int]):  # type: ignore[no-untyped-def]
    """How often a window elsewhere has a candidate with at least such a score; None where there are too few windows."""
    seconds = max((len(each) for each in scores.values()), default=0)
    places = _elsewhere(begin, length, seconds)
    if len(places) < PLACEMENTS:
        return lambda score: None
    most = np.max([_best_at(each, places, lags)[0] for each in scores.values()], axis=0)
    return lambda score: float((1 + (most >= score).sum()) / (1 + len(places)))


def ranks(values: Trace) -> Trace:
    """Average ranks from 1 (Spearman), NaN kept."""
    made = np.full(len(values), np.nan)
    known = np.flatnonzero(~np.isnan(values))
    if not len(known):
        return made
    order = known[np.argsort(values[known])]
    ordered = values[order]
    begins = np.flatnonzero(np.concatenate(([True], ordered[1:] != ordered[:-1])))
    counts = np.diff(np.append(begins, len(ordered)))
    made[order] = np.repeat(begins + (counts + 1) / 2, counts)
    return made


def partial(one: Trace, other: Trace, given: Trace | None) -> float:
    """Rank correlation of two traces, given a third (partial): what it explains is taken out of both."""
    both = ~(np.isnan(one) | np.isnan(other))
    if given is not None:
        both &= ~np.isnan(given)
    if both.sum() < 10:
        return 0.0
    a, b = ranks(one[both]), ranks(other[both])
    rho = correlation(a, b)
    if given is None:
        return rho
    c = ranks(given[both])
    with_a, with_b = correlation(a, c), correlation(b, c)
    rest = (1 - with_a**2) * (1 - with_b**2)
    return (rho - with_a * with_b) / float(np.sqrt(rest)) if rest > 1e-9 else 0.0


def _together(
    step: Trace, window: tuple[int, int], candidates: Mapping[str, Trace], load: Trace | None
) -> list[Suspect]:
    begin, end = window
    made = []
    for name, trace in candidates.items():
        best, best_lag = 0.0, 0
        for lag in _worth_it(step, window, trace, load):
            low, high = max(0, begin + lag), min(len(trace), end + lag)
            if high - low < TOGETHER_S // 2:
                continue
            here = step[low - lag : high - lag]
            rho = partial(here, trace[low:high], None if load is None else load[low - lag : high - lag])
            if abs(rho) > abs(best) + 0.01:
                best, best_lag = rho, lag
        if abs(best) >= TOGETHER_RHO:
            made.append(Suspect(name, abs(best), best_lag, 1 if best > 0 else -1, "together"))
    return sorted(made, key=lambda each: -each.score)


ENOUGH = 100  # seconds of both, for ranks that are given once
ROUGHLY = 0.2  # that a rank correlation may be off when ranks are not given anew at each lag


def _worth_it(step: Trace, window: tuple[int, int], trace: Trace, load: Trace | None) -> list[int]:
    """The lags at which it may be that two traces move together, and as closely as at the best of them: by ranks given
    once, of all that any lag needs.
    """
    begin, end = window
    lags = lags_of(LONGEST_LAG_S)
    low, high = begin - LONGEST_LAG_S, end + LONGEST_LAG_S
    around = np.full(high - low, np.nan)
    first, last = max(0, low), min(len(trace), high)
    around[first - low : last - low] = trace[first:last]
    # row k is the trace from lag k − LONGEST_LAG_S on
    moved = np.lib.stride_tricks.sliding_window_view(ranks(around), end - begin)
    here = ranks(step[begin:end])
    rough = lagged(here, moved)
    # of few seconds the ranks differ at each lag, as they do where the load explains nearly everything
    known = (~np.isnan(moved)).astype(float) @ (~np.isnan(here)) >= ENOUGH
    if load is not None:
        given = ranks(load[begin:end])
        with_step, with_trace = correlation(here, given), lagged(given, moved)
        rest = np.sqrt(np.maximum((1 - with_step**2) * (1 - with_trace**2), 0.0))
        known &= rest > 0.05
        rough = np.divide(rough - with_step * with_trace, rest, out=np.zeros_like(rest), where=rest > 0.05)
    rough = np.abs(rough)
    most = float(rough.max())
    least = most - ROUGHLY if most >= TOGETHER_RHO - ROUGHLY else np.inf
    return [lag for lag in lags if rough[lag + LONGEST_LAG_S] >= least or not known[lag + LONGEST_LAG_S]]


def lagged(one: Trace, moved: NDArray[np.float64]) -> Trace:
    """Pearson's of `one`, shape (T,), with each row of `moved`, shape (L, T), over what both have; shape (L,)."""
    has_one, has = (~np.isnan(one)).astype(float), (~np.isnan(moved)).astype(float)
    a, b = np.where(has_one > 0, one, 0.0), np.where(has > 0, moved, 0.0)
    middle = (a.sum() / max(1.0, has_one.sum()), b.sum() / max(1.0, has.sum()))  # keeps the sums small
    a, b = (a - middle[0]) * has_one, (b - middle[1]) * has
    n, sum_a, sum_b = has @ has_one, has @ a, b @ has_one
    both, square_a, square_b = b @ a, has @ a**2, b**2 @ has_one
    n = np.maximum(n, 1.0)
    over = both - sum_a * sum_b / n
    scale = np.sqrt(np.maximum((square_a - sum_a**2 / n) * (square_b - sum_b**2 / n), 0.0))
    made: Trace = np.divide(over, scale, out=np.zeros(len(over)), where=scale > 1e-9)
    return made


def _folded(found: Sequence[Suspect], candidates: Mapping[str, Trace]) -> list[Suspect]:
    """Those that move as one stand in one row."""
    made: list[Suspect] = []
    for each in found:
        for place, first in enumerate(made):
            if abs(correlation(candidates[first.measure], candidates[each.measure])) >= ALIKE:
                made[place] = Suspect(
                    first.measure, first.score, first.lag_s, first.sign, first.how, first.p,
                    (*first.folded, each.measure),
                )  # fmt: skip
                break
        else:
            made.append(each)
    return made


def worth_a_look(trace: Trace, at_least: int = 3) -> list[tuple[int, int]]:
    """(from, to) of stretches in which log of `trace` (ms) is above its median + 4·1.4826·MAD for so many seconds
    running.
    """
    logs = np.log(np.where(trace > 0, trace, np.nan))
    known = logs[~np.isnan(logs)]
    if len(known) < 10:
        return []
    middle = float(np.median(known))
    limit = middle + 4 * 1.4826 * float(np.median(np.abs(known - middle)))
    made: list[tuple[int, int]] = []
    begun: int | None = None
    for at, value in enumerate([*logs, -np.inf]):
        if value > limit and begun is None:
            begun = at
        elif not value > limit and begun is not None:
            if at - begun >= at_least:
                made.append((begun, at))
            begun = None
    return made
