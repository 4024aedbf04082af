"""What moved with a step's response time in a window (docs/developing/computation.md, *Suspects*).

A matched filter: the step's own shape around the window is slid over each measure, and how well it
fits there is held against how well it fits elsewhere in the same measure, in units of that
measure's own tail (Hill 1975). One p for the whole family of measures: how often a place elsewhere
has any measure that fits so well. Ordinary measures (spikes, mostly zero, sawtooth, walks) are
named in 3 % of windows so, where scores of single measures named them in nearly all.

Traces are arrays by second of the run, shape (T,), NaN where there is no value; a lag of −2 s says
that the measure moved two seconds before. What moves only after the step is no suspect: a cause
does not come after its effect.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

Trace = NDArray[np.float64]
Traces = NDArray[Any]  # of floats, shape (M, T)
EARLIEST, LATEST = -10, 1  # lags of a cause, s: one second of probes' grain after
LEVEL, ENOUGH, LEAST_PLACES = (
    0.03,
    33,
    6,
)  # of the family; places from which on that can be said; from which on a score
GATE_RATIO, GATE_P = 1.10, 0.05
FAR, FEWEST_FAR = 4.0, 20  # standard deviations from the middle of so many windows elsewhere
FLANK_S = (10, 60)  # on either side of the window
SHARPENED = (
    0.0,
    0.8,
)  # as it is, and x(t) − 0.8·x(t − 1), which makes edges count and not wandering
MOST_OTHERS, FEWEST_OTHERS, PER_OTHER = (
    10,
    3,
    6,
)  # of a measure's own greatest places that make its tail
LEAST_XI, SELDOM, ONLY_HERE = 0.10, 0.05, 7.0
ALIKE, FOLLOWS, CLOSEST = 0.95, 0.5, 3


@dataclass(frozen=True, slots=True)
class Suspect:
    """`score` in units of the measure's own tail; `sign` 1 where the measure rose, −1 where it
    fell; `p`: in which part of places elsewhere any measure fits so well, None where there are too
    few of them; `folded` are others that move as one with it.
    """

    measure: str
    score: float
    lag_s: int
    sign: int
    p: float | None = None
    is_proven: bool = False
    folded: tuple[str, ...] = ()

    @property
    def words(self) -> str:
        """When it moved, in words."""
        if not self.lag_s:
            return "at the same time"
        return f"{abs(self.lag_s)} s {'before' if self.lag_s < 0 else 'after'}"


@dataclass(frozen=True, slots=True)
class Look:
    """`named` are suspects beyond chance, `closest` those that moved most alike and may be chance;
    `followers` follow the load, so what they did here is its doing. `places` elsewhere it was held
    against; `slower` is by how much the step was slower here than elsewhere (1: not at all).
    """

    named: Sequence[Suspect] = ()
    closest: Sequence[Suspect] = ()
    followers: Sequence[str] = ()
    places: int = 0
    slower: float = 1.0
    is_slower: bool = True

    @property
    def every(self) -> list[Suspect]:
        return [*self.named, *self.closest]

    @property
    def sentence(self) -> str:
        """What can be said of all of them."""
        if not self.is_slower:
            if self.slower < GATE_RATIO:
                return (
                    f"This step was not slower here: {self.slower:.2f} times as slow as in like "
                    "windows elsewhere."
                )
            return (
                f"This step was {self.slower:.2f} times as slow here as in the middle one of like "
                "windows elsewhere,"
                " and others were as slow: nothing sets this one apart."
            )
        if self.places < ENOUGH:
            return (
                "Too short to tell a cause from coincidence: there are too few windows of this "
                "length elsewhere." + (" Moved most alike, unproven:" if self.closest else "")
            )
        if self.named:
            one = len(self.named) == 1
            by_chance = max(each.p or 0.0 for each in self.named)
            return (
                f"{len(self.named)} measure{'' if one else 's'} moved with it; so closely by "
                "chance in"
                f" {'1 of ' + format(round(1 / by_chance), ',') if by_chance else 'none'} places."
            )
        return "Nothing stands out from chance." + (" Closest:" if self.closest else "")


def suspects(
    step: Trace,
    window: tuple[int, int],
    candidates: Mapping[str, Trace],
    load: Trace | None = None,
    *,
    least: float | None = None,
) -> Look:
    """What moved with `step` (times by second) in `window` (from, to); `load` is users or arrivals,
    what follows it is told apart. `least`: show all from this score on, even where the step was not
    slower.
    """
    begin, end = max(0, window[0]), min(len(step), window[1])
    if end - begin < 1 or not candidates or np.isnan(step).all():
        return Look()
    logs = np.log(np.maximum(filled(step), 1e-9))
    slower, is_slower = _gate(logs, begin, end)
    if least is None and not is_slower:
        return Look(slower=slower, is_slower=False)
    names = list(candidates)
    rows = np.array([filled(candidates[name]) for name in names])
    rows = rows - rows.mean(axis=1, keepdims=True)
    spread = rows.std(axis=1)
    left = _without(rows, load)
    followers = _followers(names, spread, left.std(axis=1)) if load is not None else []
    grains = np.array([_grain(candidates[name]) for name in names])
    found = _scored(_without((logs - logs.mean())[None], load)[0], left, begin, end, grains)
    moves = found.may & (spread > 0) & np.array([name not in followers for name in names])
    ranked = [
        found.suspect(names[at], at) for at in np.argsort(-found.score, kind="stable") if moves[at]
    ]
    folded = _folded(ranked, {name: left[at] for at, name in enumerate(names)})
    named, rest = _told_apart(folded, is_long=found.places >= ENOUGH)
    if least is not None:
        rest = [each for each in rest if each.score >= least]
    else:
        rest = [] if named else rest[:CLOSEST]
    return Look(named, rest, followers, found.places, slower, is_slower)


def _followers(names: Sequence[str], spread: Trace, rest: Trace) -> list[str]:
    """Those that follow the load: hardly anything of their spread is left without it."""
    return [
        name
        for name, own, left in zip(names, spread, rest, strict=True)
        if own > 0 and 1 - (left / own) ** 2 >= FOLLOWS
    ]


def _told_apart(folded: Sequence[Suspect], *, is_long: bool) -> tuple[list[Suspect], list[Suspect]]:
    """(proven, the rest): in a run with too few places to compare with, none is."""
    if not is_long:
        return [], [replace(each, p=None) for each in folded]
    beyond = (each for each in folded if each.p is not None and each.p <= LEVEL)
    named = [replace(each, is_proven=True) for each in beyond]
    measures = {each.measure for each in named}
    return named, [each for each in folded if each.measure not in measures]


def filled(values: Trace) -> Trace:
    """Gaps joined by straight lines, so that a probe that is read every ten seconds keeps its own
    grid.
    """
    known = ~np.isnan(values)
    if known.all():
        return np.asarray(values, float)
    return (
        np.interp(np.arange(len(values)), np.flatnonzero(known), values[known])
        if known.any()
        else np.zeros(len(values))
    )


def _grain(values: Trace) -> int:
    """Seconds from one value to the next, usually: what is read seldom seems to move so much
    later.
    """
    known = np.flatnonzero(~np.isnan(values))
    return int(np.median(np.diff(known))) if len(known) > 1 else 1


def _gate(logs: Trace, begin: int, end: int) -> tuple[float, bool]:
    """(how many times as slow as the middle one of like windows elsewhere, whether that is slower
    at all).
    """
    length = end - begin
    means = _sums(logs[None], length)[0] / length
    elsewhere = [
        at for at in range(begin % length, len(means), length) if abs(at - begin) >= length
    ]
    if not elsewhere:
        return 1.0, True  # nothing to hold it against: whoever looks decides
    other = means[elsewhere]
    ratio = float(np.exp(means[begin] - np.median(other)))
    p = (1 + int((other >= means[begin]).sum())) / (1 + len(elsewhere))
    # other incidents of the run are as slow and must not hide this one: far from the middle is
    # slower, too
    spread = 1.4826 * float(np.median(np.abs(other - np.median(other))))
    is_far = len(elsewhere) >= FEWEST_FAR and float(means[begin] - np.median(other)) >= FAR * spread
    return ratio, ratio >= GATE_RATIO and (p <= max(GATE_P, 1 / (1 + len(elsewhere))) or is_far)


def _without(rows: Traces, load: Trace | None) -> Traces:
    """Residuals of a linear regression on the load: now, and its mean of the last ten seconds."""
    if load is None:
        return rows
    now = filled(load)
    if now.std() <= 0:
        return rows
    slow = np.convolve(np.concatenate([np.full(9, now[0]), now]), np.ones(10) / 10, "valid")
    base = np.column_stack([np.ones(len(now)), now - now.mean(), slow - slow.mean()])
    q, _ = np.linalg.qr(base)
    made: Traces = rows - (rows @ q) @ q.T
    return made


def _sums(rows: Traces, length: int) -> Traces:
    sums = np.concatenate([np.zeros((len(rows), 1)), rows.cumsum(axis=1)], axis=1)
    made: Traces = sums[:, length:] - sums[:, :-length]
    return made


def _sharpened(rows: Traces, phi: float) -> Traces:
    made = rows[:, 1:] - phi * rows[:, :-1]
    made = np.concatenate([made[:, :1], made], axis=1)
    made = made - made.mean(axis=1, keepdims=True)
    scaled: Traces = made / np.maximum(made.std(axis=1, keepdims=True), 1e-12)
    return scaled


def _matched(step: Trace, rows: Traces, start: int, length: int) -> tuple[Traces, Traces]:
    """(projection, correlation) of the step's piece of `length` from `start` on, without its line,
    with every piece of each row; shape (M, T − length + 1).
    """
    seconds = rows.shape[1]
    line = np.arange(length) - (length - 1) / 2
    shape = step[start : start + length]
    shape = shape - shape.mean() - line * (line @ shape) / (line @ line)
    shape = shape / max(float(np.sqrt(shape @ shape)), 1e-12)
    size = 1 << int(np.ceil(np.log2(seconds + length)))
    spectra = np.fft.rfft(rows, size, axis=1)

    def slid(weights: Traces) -> Traces:
        product = spectra * np.conj(np.fft.rfft(weights, size))
        return np.asarray(np.fft.irfft(product, size, axis=1)[:, : seconds - length + 1])

    fits = slid(shape)
    sums = _sums(rows, length)
    rest = _sums(rows**2, length) - sums**2 / length - slid(line) ** 2 / (line @ line)
    return fits, fits / np.sqrt(
        np.maximum(rest, 1e-9 * length)
    )  # what hardly moves has no correlation


def _tail_scores(
    own: NDArray[np.float64], others: NDArray[np.float64], k: int
) -> NDArray[np.float64]:
    """ln(own / the k-th greatest of the others) in units of their mean logarithmic excess. Of a
    measure that is mostly zero there is no tail to judge by: ln(k / rank), or ONLY_HERE where it
    moved nowhere else. Others: shape (…, P).
    """
    top = -np.partition(-others, k - 1, axis=-1)[..., :k]
    low = np.maximum(top.min(axis=-1), 1e-12)
    xi = np.log(np.maximum(top, 1e-12) / low[..., None]).sum(axis=-1) / (k - 1)
    with_tail = np.log(np.maximum(own, 1e-12) / low) / np.maximum(xi, LEAST_XI)
    above = (others >= own[..., None]).sum(axis=-1)
    some = (others >= SELDOM * own[..., None]).sum(axis=-1)
    with_rank = np.where(
        (some == 0) & (own > 1e-6), ONLY_HERE, np.log(k / (1 + np.minimum(above, k)))
    )
    made: NDArray[np.float64] = np.where(
        low < SELDOM * np.maximum(top.max(axis=-1), own), with_rank, with_tail
    )
    return made


@dataclass(slots=True)
class _Scores:
    """By measure, shape (M,); `may`: whether it moved when a cause can; p None with too few
    places.
    """

    score: Trace
    lag: NDArray[np.int64]
    sign: NDArray[np.int64]
    may: NDArray[np.bool_]
    p: Trace | None
    places: int

    def suspect(self, name: str, at: int) -> Suspect:
        """Measure `at`, as it is shown."""
        p = None if self.p is None else float(self.p[at])
        return Suspect(name, float(self.score[at]), int(self.lag[at]), int(self.sign[at]), p)


def _scored(step: Trace, rows: Traces, begin: int, end: int, grains: NDArray[np.int64]) -> _Scores:
    seconds, length = len(step), end - begin
    flank = min(max(length, FLANK_S[0]), FLANK_S[1])
    start, stop = max(0, begin - flank), min(seconds, end + flank)
    piece = stop - start
    shifts = seconds - piece + 1
    latest = LATEST + min(int(grains.max()) - 1, length)
    width = max(latest - EARLIEST + 1, length // 4)  # so many shifts are a place elsewhere
    zone = (
        length + max(-EARLIEST, latest) + flank // 2
    )  # shifts at which the window's own event is seen
    near = np.arange(max(0, start - zone), min(shifts, start + zone + 1))
    begins = np.array(
        [
            at
            for at in range(0, shifts - width + 1, width)
            if at + width <= near[0] or at > near[-1]
        ],
        dtype=np.int64,
    )
    places = len(begins)
    k = int(max(FEWEST_OTHERS, min(MOST_OTHERS, places // PER_OTHER)))
    first, last = max(0, start + EARLIEST), min(shifts, start + latest + 1)
    is_early = (
        np.arange(first, last)[None, :]
        <= (start + LATEST + np.minimum(grains - 1, length))[:, None]
    )
    scores, nulls, seen = [], [], np.zeros((len(rows), shifts))
    raw = seen
    for phi in SHARPENED:
        fits, close = _matched(_sharpened(step[None], phi)[0], _sharpened(rows, phi), start, piece)
        fit = np.abs(fits) * np.abs(close)
        seen = seen + fit / np.maximum(fit[:, near].max(axis=1, keepdims=True), 1e-12)
        raw = fits if phi == SHARPENED[0] else raw
        own = np.where(is_early, fit[:, first:last], 0.0).max(axis=1)
        if places < LEAST_PLACES:
            scores.append(own)
            continue
        most = np.stack([fit[:, at : at + width].max(axis=1) for at in begins], axis=1)  # (M, P)
        scores.append(_tail_scores(own, most, k))
        # the same for every place elsewhere, without those near it
        some = min(places, k + 2 * (zone // width) + 1)
        which = np.argpartition(-most, some - 1, axis=1)[:, :some]
        is_far = np.abs(begins[which][:, None, :] - begins[None, :, None]) > zone  # (M, P, some)
        there = np.take_along_axis(most, which, 1)[:, None, :]
        nulls.append(_tail_scores(most, np.where(is_far, there, 0.0), k))
    best = first + np.argmax(np.where(is_early, seen[:, first:last], 0.0), axis=1)
    at = np.arange(len(rows))
    score = np.mean(scores, axis=0)
    p = None
    if nulls:
        greatest = np.mean(nulls, axis=0).max(axis=0)
        p = (1 + (greatest[None, :] >= score[:, None]).sum(axis=1)) / (1 + places)
    return _Scores(
        score=score, lag=best - start, sign=np.sign(raw[at, best]).astype(np.int64),
        may=seen[at, best] >= 0.999 * seen[:, near].max(axis=1), p=p, places=places,
    )  # fmt: skip


def _folded(found: Sequence[Suspect], rows: Mapping[str, Trace]) -> list[Suspect]:
    """Those that move as one stand in one row."""
    made: list[Suspect] = []
    for each in found:
        for place, first in enumerate(made):
            if abs(correlation(rows[first.measure], rows[each.measure])) >= ALIKE:
                made[place] = replace(first, folded=(*first.folded, each.measure))
                break
        else:
            made.append(each)
    return made


def correlation(one: Trace, other: Trace) -> float:
    """Pearson's, over what both have; 0 without variation."""
    both = ~(np.isnan(one) | np.isnan(other))
    if both.sum() < 5:
        return 0.0
    a, b = one[both] - one[both].mean(), other[both] - other[both].mean()
    scale = float(np.sqrt((a @ a) * (b @ b)))
    return float(a @ b) / scale if scale > 0 else 0.0


def worth_a_look(trace: Trace, at_least: int = 3) -> list[tuple[int, int]]:
    """(from, to) of stretches in which log of `trace` (ms) is above its median + 4·1.4826·MAD for
    so many seconds running.
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
