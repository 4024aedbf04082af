"""The verdict of a run from its totals: objectives, and whether the measurement itself is valid."""

import math
import re
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import Any

import msgspec
from msgspec.structs import replace

from dynamikos.core.failure_kinds import Leaving, kind_of, leaving_of
from dynamikos.core.forms import VersionedCodec
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.changing import said
from dynamikos.core.objectives import Judgement, Mark, Readings
from dynamikos.core.profiles.changing import Change
from dynamikos.core.reports import Ledger, Row
from dynamikos.core.reports.by_value import Failing, failing
from dynamikos.core.reports.ledger import SeriesTotal
from dynamikos.core.statistics.chance import BySecond
from dynamikos.core.verdicts.bursts import is_over, not_for_bursts
from dynamikos.core.verdicts.ending import FINISHED, Ending, of_words
from dynamikos.core.verdicts.objectives import judgements_of, turned_away
from dynamikos.core.verdicts.own import OwnDelay, own_delay_of
from dynamikos.core.verdicts.states import (
    COULD_NOT_RUN,
    MET,
    MISSED,
    NOT_JUDGED,
    STOPPED,
    WORDS,
    State,
    code_of,
)

MOST_FAILING = 100
LOAD_SHARE = 0.98  # of what was planned: with less it is another load


def statement_of(judgement: Judgement) -> str:
    """Its sentence, with the share that failed where it is more than 1 %, and how many intervals
    were missed.
    """
    said = judgement.sentence
    if judgement.marks:
        missed = sum(each.word == "missed" for each in judgement.marks)
        said += (
            f" ({missed} of {sum(each.word != 'not judged' for each in judgement.marks)} intervals "
            "missed)"
        )
    return said + (
        f" ({judgement.failed_percent:.3g} % failed)" if judgement.failed_percent else ""
    )


class RowFigures(msgspec.Struct, frozen=True, kw_only=True):
    """What became of one row of a crowd in the measured part. `users`: there on average; `rounds`:
    ended; shares in % of its crowd, of what the plan's shares are of (visits, or users); the
    achieved one None where nothing came.
    """

    row: str
    name: str = ""
    crowd: str = ""
    journey: str = ""
    users: float = 0.0
    rounds: int = 0
    rounds_failed: int = 0
    share_planned: float = 0.0
    share_achieved: float | None = None


class ArrivalFigures(msgspec.Struct, frozen=True, kw_only=True):
    """Arrivals, or rounds at a held rate, of the whole run: all that were planned, and what became
    of them.
    """

    planned: int = 0
    started: int = 0
    turned_away: int = 0
    not_started: int = 0


class Outcome(msgspec.Struct, frozen=True, kw_only=True):
    """`doubts` say what is not as it was meant to be; `exit_code` as in docs/run-command.md.
    `load_share`: the load that was achieved, in parts of what was planned for the measured part.

    Every field has a default: an outcome of an earlier day lacks some, and is shown all the same.
    """

    ending: Ending = FINISHED
    from_s: float = 0.0
    to_s: float = 0.0
    rows: list[Row] = []
    judgements: list[Judgement] = []
    doubts: list[str] = []
    sent: int = 0
    answered: int = 0
    failed: int = 0
    in_flight: int = 0
    # sent once more, on a new connection, since a kept one was closed without a byte: no exchange
    # of their own
    reopened: int = 0
    late_share: float = 0.0
    peak_users: int = 0
    planned_peak: int = 0
    exit_code: int = NOT_JUDGED
    late_by: dict[str, int] = {}  # measured seconds (of every shard) by why they were late
    rounds_passed: int = 0
    rounds_failed: int = 0
    rounds_in_all: tuple[int, int] | None = (
        None  # passed and failed of the whole run, not of the measured part alone
    )
    own_limits: int = 0
    bursts: list[
        int
    ] = []  # seconds after a stop of a generator in which it sent at once what was overdue
    abandoned: int = 0  # exchanges that users left without waiting for them
    arrivals: ArrivalFigures | None = None
    late_rounds: int = 0  # of the measured part, that began later than they were planned
    crowd: list[RowFigures] = []
    stopped_by: str = ""  # the objective that ended the run, as a statement
    stopped_s: int = 0  # the second of the run that was its last
    trial: bool = False
    # users who did not wait for a step and left, and how often one was reloaded, in the whole run
    left: int = 0
    reloaded: int = 0
    changes: list[str] = []  # of the load while it ran, in words; such a run can be no baseline
    leavings: list[Leaving] = []  # users who left before their time
    failing: list[Failing] = []  # by values of dealt columns, the most failures first
    carries: int | None = (
        None  # users of this kind that one generator carries, as this run measured it
    )
    processor_share: float = 0.0  # that it used of one generator's core
    lost: list[str] = []  # generators
    load_share: float = 1.0
    own_delay: OwnDelay | None = None  # of the generators, where it may have changed a figure

    @property
    def ended(self) -> str:
        """How it ended, in words."""
        return self.ending.words

    @property
    def state(self) -> State:
        """One word of the table of states."""
        return WORDS.get(self.exit_code, "not judged")

    @property
    def is_doubted(self) -> bool:
        return bool(self.doubts)

    @property
    def sentence(self) -> str:
        """The verdict in one sentence."""
        if self.trial:
            said = f"Trial: {self.rounds_passed:,} rounds passed, {self.rounds_failed:,} failed."
            return f"{said} Objectives are shown, not judged."
        if self.exit_code == STOPPED:
            return f"The run was {self.ending.words} by hand, so it is not judged."
        made = [self._answer()]
        warned = [each for each in self.judgements if each.word == "missed" and each.then == "warn"]
        if warned:
            made.append(f"Warning: {'; '.join(map(statement_of, warned))}.")
        if self.doubts and self.exit_code != NOT_JUDGED:
            made.append(f"Doubted: {self.doubts[0]}")
        return " ".join(made)

    def _answer(self) -> str:
        """What the objectives come to."""
        every = self.judgements
        deciding = [each for each in every if each.decides]
        open_ = [each for each in deciding if each.word == "not decided"]
        missed = [each for each in deciding if each.word == "missed"]
        over = [each for each in open_ if each.side == "over"]
        if missed or self.stopped_by:
            return self._missed(missed)
        if self.exit_code == MISSED:
            which = "; ".join(map(statement_of, over or open_))
            return f"Not decided, and counted as missed: {which}."
        if self.exit_code == NOT_JUDGED:
            return self._not_judged()
        if not every:
            return "The run has no objectives, so there is nothing to meet or miss."
        if open_:
            return self._not_decided(open_, is_over=bool(over))
        if any(each.word == "missed" for each in every):
            met = sum(each.word != "missed" for each in every)
            return f"{met} of {len(every)} objectives met, and none missed that decides."
        return f"All {len(every)} objectives met." if len(every) > 1 else "The objective is met."

    def _not_decided(self, open_: Sequence[Judgement], *, is_over: bool) -> str:
        """Where that counts as met."""
        met = sum(each.word in ("met", "close") for each in self.judgements)
        within = "within its limit" if len(open_) == 1 else "within their limits"
        side = "on the side that counts as met" if is_over else within
        return (
            f"{met} of {len(self.judgements)} objectives met, {len(open_)} {side}, not decided: "
            f"{statement_of(open_[0])}."
        )

    def _missed(self, missed: Sequence[Judgement]) -> str:
        of = f"{len(missed)} of {len(self.judgements)} objectives missed"
        lower = " At a lower load than planned." if self.load_share < LOAD_SHARE else ""
        stopped = f" It stopped the run at second {self.stopped_s}." if self.stopped_by else ""
        return f"{of}: {'; '.join(map(statement_of, missed))}.{lower}{stopped}"

    def _not_judged(self) -> str:
        """With its first reason: a doubt, or of an objective why it is not judged."""
        doubt = self.doubts[0] if self.doubts else ""
        every = self.judgements
        why = next((each for each in every if each.word == "not judged" and each.decides), None)
        if self.load_share < LOAD_SHARE and why is None and every:
            return f"Not judged: met at a lower load than planned. {doubt}".strip()
        if not doubt and why is not None:
            doubt = f"{why.sentence}: {why.reason}."
        return f"Not judged. {doubt}".strip()


_EMPTY = re.compile(r"(measured seconds(?: \(|: ))(\)|\.)")


def _with_values(plain: dict[str, Any]) -> dict[str, Any]:
    """Form 1 had how a run ended, and why users left, as sentences, and doubts about seconds that
    were late by causes that nobody knew any more.
    """
    ending, retired = of_words(plain.pop("ended", "")), plain.pop("retired", None) or {}
    return {
        **plain,
        "doubts": [
            _EMPTY.sub(r"\1their causes are not known\2", each)
            for each in plain.get("doubts") or []
        ],
        "ending": msgspec.to_builtins(ending),
        "leavings": [
            msgspec.to_builtins(leaving_of(words, count)) for words, count in retired.items()
        ],
    }


OUTCOME = VersionedCodec("outcome", Outcome, [_with_values])


def rows_of(frozen: FrozenRun, window: Ledger, seconds: float) -> list[RowFigures]:
    """Each row of each crowd over `seconds` of measured time."""
    places, made = frozen.places, list[RowFigures]()
    for no, crowd in enumerate(frozen.crowds):
        figures = []
        for at, row in enumerate(crowd.rows):
            total = window.all_of("round", row=row.row)
            users = (
                window.row_seconds.get(places.first_row[no] + at, 0) / seconds
                if seconds > 0
                else 0.0
            )
            ended = total.passed.n + total.failures + total.own + total.left
            figures.append((row, ended, total.failures + total.own, users))
        by_users = crowd.load.shares_of_users
        every = sum(users if by_users else rounds for _, rounds, _, users in figures)
        given = crowd.load.row_shares(crowd, frozen.measured)
        shares = sum(given)
        made.extend(
            RowFigures(
                row=row.row,
                name=row.name,
                crowd=crowd.crowd,
                journey=row.journey,
                users=round(users, 2),
                rounds=rounds,
                rounds_failed=failed,
                share_planned=100 * share / shares if shares else 0.0,
                share_achieved=100 * (users if by_users else rounds) / every if every else None,
            )
            for share, (row, rounds, failed, users) in zip(given, figures, strict=True)
        )
    return made


def conclude(
    frozen: FrozenRun,
    window: Ledger,
    whole: Ledger,
    *,
    ending: Ending,
    in_flight: int,
    peak_users: int,
    lost: Sequence[str] = (),
    marks: Mapping[int, Sequence[Mark]] | None = None,
    changes: Sequence[Change] = (),
    readings: Readings | None = None,
    chances: Mapping[int, BySecond] | None = None,
    bursts: Sequence[int] = (),
    calm: Callable[[Collection[int]], Ledger] | None = None,
) -> Outcome:
    """The outcome of a run.

    `window` holds the measured part, `whole` everything (for counters); `lost` names generators
    that were lost; `marks` are those of objectives that are judged by interval, and `chances` the
    seconds of the others, see Watching. `changes` of the load are in `frozen` already. `readings`:
    what probes told of the measures that objectives are about. `bursts` are the seconds in which
    generators sent at once what was overdue, and `calm` makes the window without them.
    """
    from_s, to_s = frozen.measured
    if changes:  # it may have been held until it was stopped
        to_s = min(to_s, max(from_s, float(whole.until_s)))
    seconds = max(0.0, min(to_s, float(whole.until_s)) - from_s)  # one that was ended: until then
    judgements = judgements_of(
        frozen, window, seconds, marks or {}, readings=readings, chances=chances
    )
    if bursts and calm is not None and any(map(is_over, judgements)):
        without = judgements_of(
            frozen, calm(bursts), seconds - len(bursts), marks or {}, readings=readings
        )
        judgements = not_for_bursts(judgements, without, len(bursts))
    figures = rows_of(frozen, window, seconds)
    share = load_share_of(frozen, window, seconds) if ending.is_whole or ending.objective else 1.0
    doubts = [*_lost(lost), *_own_doing(window, whole, ending)]
    if not frozen.trial:
        doubts += _lower(share, window)
        doubts += _of_little_use(window, whole, ending)
        doubts += _came_otherwise(frozen, window, whole, figures)
        if not window.seconds and ending.is_whole:
            doubts.append("Nothing was measured.")
    rounds = window.all_of("round")
    code = _code(frozen, judgements, rounds, doubts, ending)
    if frozen.trial:
        small = "a trial is too small to judge"
        judgements = [replace(each, word="not judged", reason=small) for each in judgements]
    rows = window.rows(seconds)
    series = {each.no: each for each in whole.series}
    return Outcome(
        ending=ending,
        from_s=from_s,
        to_s=to_s,
        rows=rows,
        judgements=judgements,
        doubts=doubts,
        sent=whole.sent,
        answered=whole.answered,
        failed=whole.failed,
        in_flight=in_flight,
        reopened=whole.reopened,
        late_share=window.late_seconds / window.seconds if window.seconds else 0.0,
        peak_users=peak_users,
        planned_peak=frozen.planned_peak,
        exit_code=code,
        late_by=dict(window.late_by),
        rounds_passed=rounds.passed.n,
        rounds_failed=rounds.failures + rounds.own,
        rounds_in_all=(whole.rounds[0], whole.rounds[1]),
        own_limits=sum(window.all_of(each).own for each in LEVELS),
        abandoned=whole.abandoned,
        arrivals=_arrivals(frozen, whole),
        late_rounds=window.late_rounds,
        crowd=figures,
        trial=frozen.trial,
        left=whole.left,
        reloaded=whole.reloaded,
        changes=[said(each) for each in changes],
        leavings=whole.leavings,
        failing=failing(whole.by_value.values(), series)[:MOST_FAILING],
        carries=whole.carries,
        processor_share=round(whole.processor_share, 4),
        stopped_by=ending.objective,
        stopped_s=whole.until_s if ending.objective else 0,
        lost=list(lost),
        load_share=round(share, 4),
        own_delay=own_delay_of(rows, window),
        bursts=list(bursts),
    )


def _of_little_use(window: Ledger, whole: Ledger, ending: Ending) -> Iterator[str]:
    """Loads that were not the same everywhere, and runs in which nothing passed."""
    if whole.learned_late:
        yield (
            "A generator learned of a change of the load after its second, so it was not the same "
            "on all of them."
        )
    kinds = {kind for each in LEVELS for kind in window.all_of(each).failed}
    if kinds and not window.all_of("step").passed.n:
        one = f"every failure is “{next(iter(kinds))}”"
        told = one if len(kinds) == 1 else f"{len(kinds)} kinds of failures"
        yield (
            f"Nothing passed: {told}. This is the script, the address or the sign-in, not the "
            "server's speed; rehearse the journey."
        )


def _code(
    frozen: FrozenRun,
    judgements: Sequence[Judgement],
    rounds: SeriesTotal,
    doubts: Sequence[str],
    ending: Ending,
) -> int:
    """The exit code. Of a trial it says whether all parts work: objectives are not judged."""
    if ending.is_by_hand:
        return STOPPED
    if not ending.is_whole and not ending.is_own:
        return COULD_NOT_RUN
    if frozen.trial:
        is_clean = rounds.passed.n and not rounds.failures + rounds.own and not doubts
        return MET if is_clean else MISSED
    if ending.objective:
        return MISSED
    return code_of(judgements, frozen.plan.undecided, is_turned=bool(doubts))


def load_share_of(frozen: FrozenRun, window: Ledger, seconds: float) -> float:
    """The load that was achieved in parts of what was planned, of the crowd that has least of it:
    users and the time in which they were not stopped with their generator, arrivals and rounds of a
    held rate that were started.
    """
    places, shares = frozen.places, [1.0]
    begin = int(frozen.measured[0])
    at = [begin + second + 0.995 for second in range(int(seconds))]
    for no, crowd in enumerate(frozen.crowds):
        if not crowd.load.is_open and crowd.load.has_curve:
            planned = sum(crowd.planned(at)) if at else 0
            there = sum(
                window.row_seconds.get(places.first_row[no] + row, 0)
                for row in range(len(crowd.rows))
            )
            if planned and window.row_seconds:
                shares.append(there / planned * (1 - window.stopped_share))
    # one that was turned away is the ceiling's doing: it has its own sentence
    started, _, not_started = window.arrivals_measured
    if started + not_started:
        shares.append(started / (started + not_started))
    return min(shares)


def _lower(share: float, window: Ledger) -> Iterator[str]:
    if share < LOAD_SHARE:
        why = ""
        if window.stopped_share > 1 - LOAD_SHARE:
            why = (
                f": the generators' machine stopped them for {100 * window.stopped_share:.2g} % of "
                "the time"
            )
        yield f"The load was {100 * share:.3g} % of what was planned{why}."


SHARE_POINTS = 3.0  # a row's share may be off by so many points


def _arrivals(frozen: FrozenRun, whole: Ledger) -> ArrivalFigures | None:
    """None for a run to which nobody arrives."""
    if not any(crowd.unit_s for crowd in frozen.crowds):
        return None
    started, turned_away, not_started = whole.arrivals
    return ArrivalFigures(
        planned=sum(whole.arrivals),
        started=started,
        turned_away=turned_away,
        not_started=not_started,
    )


def _came_otherwise(
    frozen: FrozenRun, window: Ledger, whole: Ledger, figures: Sequence[RowFigures]
) -> Iterator[str]:
    """Arrivals and shares that are not as they were planned."""
    why = turned_away(frozen, window)
    if why:
        yield (
            f"{why[0].upper()}{why[1:]}; raise the ceiling, or allow it in the plan "
            "('turned_away_allowed')."
        )
    if whole.arrivals[2]:
        yield (
            f"{whole.arrivals[2]:,} arrivals could not be started within a second of their "
            "instant: the generators were"
            " too slow, so load is missing."
        )
    held = sum(window.arrivals_measured)
    if held and window.late_rounds > 0.02 * held:
        yield (
            f"{window.late_rounds:,} of {held:,} rounds began late: there were not enough free "
            "users for the rate;"
            " raise the ceiling."
        )
    for row in figures:
        if _leaves(frozen, row):
            continue  # who leaves ends fewer rounds than were begun
        if row.share_achieved is not None and abs(row.share_achieved - row.share_planned) > _points(
            frozen, row, figures
        ):
            yield (
                f"The row {row.name or row.row} was {row.share_achieved:.3g} % of its crowd, not"
                f" {row.share_planned:.3g} % as planned."
            )


def _leaves(frozen: FrozenRun, row: RowFigures) -> bool:
    """Whether visitors of a row may run out of patience."""
    crowd = next(each for each in frozen.crowds if each.crowd == row.crowd)
    personas = (frozen.personas.get(each.persona) for each in crowd.rows)
    return any(each is not None and each.patience is not None for each in personas)


def _points(frozen: FrozenRun, row: RowFigures, figures: Sequence[RowFigures]) -> float:
    """By how many points a row's share may be off. Rows of Poisson arrivals are drawn by lot: three
    standard errors, where that is more.
    """
    crowd = next(each for each in frozen.crowds if each.crowd == row.crowd)
    if not crowd.load.by_lot:
        return SHARE_POINTS
    part, n = (
        row.share_planned / 100,
        sum(each.rounds for each in figures if each.crowd == row.crowd),
    )
    return max(SHARE_POINTS, 300 * math.sqrt(part * (1 - part) / max(1, n)))


LEVELS = ("request", "embedded", "token", "item", "repeat")


def _lost(names: Sequence[str]) -> Iterator[str]:
    yield from (
        f"The generator {name} was lost, so its users and figures are missing from then on."
        for name in names
    )


def limits_of(window: Ledger) -> Counter[str]:
    """How often a generator reached a limit of its own machine, by which one."""
    made: Counter[str] = Counter()
    for level in LEVELS:
        for kind, count in window.all_of(level).failed.items():
            found = kind_of(kind)
            if found.is_limit:
                made[found.rest] += count
    return made


def _own_doing(window: Ledger, whole: Ledger, ending: Ending) -> Iterator[str]:
    """What the generators did themselves: rows used up, errors of ours, limits of the machine."""
    for each in whole.leavings:
        times = f"{each.count:,} time{'s' if each.count > 1 else ''}"
        if each.cause == "rows":
            yield (
                f"{times} a user left because {each.detail}; from then on there were fewer than "
                "planned."
            )
        elif each.cause == "broke":
            yield (
                f"{times} a user ended by an error of ours, not of the target ({each.detail}); "
                "log/generator.log, or"
                " what the command printed, has more. Please report it."
            )
    if ending.by == "disk":
        yield f"The run was ended because {ending.detail}. What it had reported until then holds."
    elif ending.is_own and not ending.objective:
        yield f"The run stopped by its own rules: {ending.detail}."
    limits = limits_of(window)
    if limits:
        said = ", ".join(f"{count:,} × {what}" for what, count in sorted(limits.items()))
        yield (
            f"The generators reached limits of their own machine ({said}): those requests are not "
            "the target's"
            " failures, and load is missing."
        )
