"""The verdict of a run from its totals: objectives, and whether the measurement itself is valid."""

import math
from collections.abc import Iterator, Mapping, Sequence

import msgspec
from msgspec.structs import replace

from dynamikos.core.forms import Stored
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.changing import said
from dynamikos.core.objectives import Judgement, Mark, Readings
from dynamikos.core.profiles import Arrivals, Held, Users
from dynamikos.core.profiles.changing import Change
from dynamikos.core.reports import Ledger, Row
from dynamikos.core.reports.by_value import Failing, failing
from dynamikos.core.verdicts.objectives import BY_OBJECTIVE, judgements_of, turned_away

MET, MISSED, COULD_NOT_RUN, NOT_VALID, STOPPED = 0, 1, 2, 3, 4
WORDS = {MET: "met", MISSED: "missed", COULD_NOT_RUN: "could not run", NOT_VALID: "not valid", STOPPED: "stopped"}
WORST = (COULD_NOT_RUN, MISSED, NOT_VALID, STOPPED, MET)  # of the runs of a set
LATE_SHARE, MOST_FAILING = 0.02, 100


def told(judgement: Judgement) -> str:
    """Its sentence, with the share that failed where it is more than 1 %, and how many intervals were missed."""
    said = judgement.sentence
    if judgement.marks:
        missed = sum(each.word == "missed" for each in judgement.marks)
        said += f" ({missed} of {sum(each.word != 'not judged' for each in judgement.marks)} intervals missed)"
    return said + (f" ({judgement.failed_percent:.3g} % failed)" if judgement.failed_percent else "")


class RowFigures(msgspec.Struct, frozen=True, kw_only=True):
    """What became of one row of a crowd in the measured part. `users`: there on average; `rounds`: ended; shares in %
    of its crowd, of what the plan's shares are of (visits, or users); the achieved one None where nothing came.
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
    """Arrivals, or rounds at a held rate, of the whole run: all that were planned, and what became of them."""

    planned: int = 0
    started: int = 0
    turned_away: int = 0
    not_started: int = 0


class Outcome(msgspec.Struct, frozen=True, kw_only=True):
    """`doubts` say why the measurement is not valid; `exit_code` as in docs/run-command.md.

    Every field has a default: an outcome of an earlier day lacks some, and is shown all the same.
    """

    ended: str = ""
    from_s: float = 0.0
    to_s: float = 0.0
    rows: list[Row] = []
    judgements: list[Judgement] = []
    doubts: list[str] = []
    sent: int = 0
    answered: int = 0
    failed: int = 0
    in_flight: int = 0
    # sent once more, on a new connection, since a kept one was closed without a byte: no exchange of their own
    reopened: int = 0
    late_share: float = 0.0
    peak_users: int = 0
    planned_peak: int = 0
    exit_code: int = NOT_VALID
    late_by: dict[str, int] = {}  # measured seconds (of every shard) by why they were late
    rounds_passed: int = 0
    rounds_failed: int = 0
    rounds_in_all: tuple[int, int] | None = None  # passed and failed of the whole run, not of the measured part alone
    own_limits: int = 0
    abandoned: int = 0  # exchanges that users left without waiting for them
    arrivals: ArrivalFigures | None = None
    late_rounds: int = 0  # of the measured part, that began later than they were planned
    crowd: list[RowFigures] = []
    stopped_by: str = ""  # the objective that ended the run, as a statement
    stopped_s: int = 0  # the second of the run that was its last
    trial: bool = False
    left: int = 0  # users who did not wait for a step and left, and how often one was reloaded, in the whole run
    reloaded: int = 0
    changes: list[str] = []  # of the load while it ran, in words; such a run can be no baseline
    retired: dict[str, int] = {}  # users who left before their time, by why
    failing: list[Failing] = []  # by values of dealt columns, the most failures first
    carries: int | None = None  # users of this kind that one generator carries, as this run measured it
    processor_share: float = 0.0  # that it used of one generator's core

    @property
    def sentence(self) -> str:
        """The verdict in one sentence."""
        missed = [each for each in self.judgements if each.word == "missed" and each.decides]
        warned = [each for each in self.judgements if each.word == "missed" and each.then == "warn"]
        warning = f" Warning: {'; '.join(map(told, warned))}." if warned else ""
        if self.trial:
            said = f"Trial: {self.rounds_passed:,} rounds passed, {self.rounds_failed:,} failed."
            return f"{said} Objectives are shown, not judged."
        if self.exit_code == STOPPED:
            return f"The run was {self.ended} by hand, so it is not judged."
        if missed or self.stopped_by:
            also = " The measurement is not fully valid either." if self.doubts else ""
            said = f"{len(missed)} of {len(self.judgements)} objectives missed: {'; '.join(map(told, missed))}."
            stopped = f" It stopped the run at second {self.stopped_s}." if self.stopped_by else ""
            return f"{said}{stopped}{warning}{also}"
        if self.doubts:
            plural = "s" if len(self.doubts) > 1 else ""
            return f"The measurement is not valid, for {len(self.doubts)} reason{plural}.{warning}"
        if not self.judgements:
            return "The run has no objectives, so there is nothing to meet or miss."
        if any(each.word == "missed" for each in self.judgements):
            met = sum(each.word != "missed" for each in self.judgements)
            return f"{met} of {len(self.judgements)} objectives met, and none missed that decides.{warning}"
        return f"All {len(self.judgements)} objectives met."


OUTCOME = Stored("outcome", Outcome)


def rows_of(frozen: FrozenRun, window: Ledger, seconds: float) -> list[RowFigures]:
    """Each row of each crowd over `seconds` of measured time."""
    places, made = frozen.places, list[RowFigures]()
    for no, crowd in enumerate(frozen.crowds):
        figures = []
        for at, row in enumerate(crowd.rows):
            total = window.all_of("round", row=row.row)
            users = window.row_seconds.get(places.first_row[no] + at, 0) / seconds if seconds > 0 else 0.0
            ended = total.passed.n + total.failures + total.own + total.left
            figures.append((row, ended, total.failures + total.own, users))
        by_users = isinstance(crowd.load, Users) and crowd.load.shares == "users"
        every = sum(users if by_users else rounds for _, rounds, _, users in figures)
        shares = sum(row.share for row in crowd.rows)
        made.extend(
            RowFigures(
                row=row.row,
                name=row.name,
                crowd=crowd.crowd,
                journey=row.journey,
                users=round(users, 2),
                rounds=rounds,
                rounds_failed=failed,
                share_planned=100 * row.share / shares if shares else 0.0,
                share_achieved=100 * (users if by_users else rounds) / every if every else None,
            )
            for row, rounds, failed, users in figures
        )
    return made


def conclude(
    frozen: FrozenRun,
    window: Ledger,
    whole: Ledger,
    *,
    ended: str,
    in_flight: int,
    peak_users: int,
    lost: Sequence[str] = (),
    marks: Mapping[int, Sequence[Mark]] | None = None,
    changes: Sequence[Change] = (),
    readings: Readings | None = None,
) -> Outcome:
    """The outcome of a run.

    `window` holds the measured part, `whole` everything (for counters); `lost` names generators that were lost; `marks`
    are those of objectives that are judged by interval, see Watching. `changes` of the load are in `frozen` already.
    `readings`: what probes told of the measures that objectives are about.
    """
    from_s, to_s = frozen.measured
    if changes:
        to_s = min(to_s, max(from_s, float(whole.until_s)))  # it may have been held until it was stopped
    seconds = max(0.0, min(to_s, float(whole.until_s)) - from_s)  # a run that was ended is measured until then
    judgements = judgements_of(frozen, window, seconds, marks or {}, readings=readings)
    planned = frozen.planned_peak
    own = ended.startswith("stopped: ")
    by_objective = ended[9:].removeprefix(BY_OBJECTIVE) if ended[9:].startswith(BY_OBJECTIVE) else ""
    doubts = [*_lost(lost), *_own_doing(window, whole, ended[9:] if own and not by_objective else "")]
    doubts.extend(_under_way(window))
    if whole.learned_late:
        doubts.append(
            "A generator learned of a change of the load after its second, so it was not the same on all of them."
        )
    kinds = {kind for each in LEVELS for kind in window.all_of(each).failed}
    if kinds and not window.all_of("step").passed.n:
        one = f"every failure is “{next(iter(kinds))}”" if len(kinds) == 1 else f"{len(kinds)} kinds of failures"
        doubts.append(
            f"Nothing passed: {one}. This is the script, the address or the sign-in, not the server's speed; rehearse"
            " the journey."
        )
    late = window.late_seconds / window.seconds if window.seconds else 0.0
    doubts.extend(_late(window))
    figures = rows_of(frozen, window, seconds)
    doubts.extend(_came_otherwise(frozen, window, whole, figures))
    doubts.extend(
        f"Not judged: {each.sentence} ({each.reason})."
        for each in judgements
        if each.word == "not judged" and each.decides
    )
    if peak_users < planned and ended == "finished":
        doubts.append(f"Only {peak_users} of {planned} planned users were there at once.")
    if ended != "finished" and not own:
        code = STOPPED if ended.startswith("stopped") else COULD_NOT_RUN
    elif by_objective or any(each.word == "missed" and each.decides for each in judgements):
        code = MISSED
    elif doubts:
        code = NOT_VALID
    else:
        code = MET
    rounds = window.all_of("round")
    if frozen.trial:
        judgements = [replace(each, word="not judged", reason="a trial is too small to judge") for each in judgements]
        doubts = [*_lost(lost), *_own_doing(window, whole, ended[9:] if own else "")]
        passed, failed = rounds.passed.n, rounds.failures + rounds.own
        code = code if code in (STOPPED, COULD_NOT_RUN) else MET if passed and not failed and not doubts else MISSED
    return Outcome(
        ended=ended,
        from_s=from_s,
        to_s=to_s,
        rows=window.rows(seconds),
        judgements=judgements,
        doubts=doubts,
        sent=whole.sent,
        answered=whole.answered,
        failed=whole.failed,
        in_flight=in_flight,
        reopened=whole.reopened,
        late_share=late,
        peak_users=peak_users,
        planned_peak=planned,
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
        retired=dict(whole.retired),
        failing=failing(whole.by_value.values(), {each.no: each for each in whole.series})[:MOST_FAILING],
        carries=whole.carries,
        processor_share=round(whole.processor_share, 4),
        stopped_by=by_objective,
        stopped_s=whole.until_s if by_objective else 0,
    )


SHARE_POINTS = 3.0  # a row's share may be off by so many points


def _arrivals(frozen: FrozenRun, whole: Ledger) -> ArrivalFigures | None:
    """None for a run to which nobody arrives."""
    if not any(crowd.unit_s for crowd in frozen.crowds):
        return None
    started, turned_away, not_started = whole.arrivals
    return ArrivalFigures(
        planned=sum(whole.arrivals), started=started, turned_away=turned_away, not_started=not_started
    )


def _came_otherwise(frozen: FrozenRun, window: Ledger, whole: Ledger, figures: Sequence[RowFigures]) -> Iterator[str]:
    """Arrivals and shares that are not as they were planned."""
    why = turned_away(frozen, window)
    if why:
        yield f"{why[0].upper()}{why[1:]}; raise the ceiling, or allow it in the plan ('turned_away_allowed')."
    if whole.arrivals[2]:
        yield (
            f"{whole.arrivals[2]:,} arrivals could not be started within a second of their instant: the generators were"
            " too slow, so load is missing."
        )
    held = sum(window.arrivals_measured)
    if held and window.late_rounds > 0.02 * held:
        yield (
            f"{window.late_rounds:,} of {held:,} rounds began late: there were not enough free users for the rate;"
            " raise the ceiling."
        )
    for row in figures:
        if row.share_achieved is not None and abs(row.share_achieved - row.share_planned) > _points(
            frozen, row, figures
        ):
            yield (
                f"The row {row.name or row.row} was {row.share_achieved:.3g} % of its crowd, not"
                f" {row.share_planned:.3g} % as planned."
            )


def _points(frozen: FrozenRun, row: RowFigures, figures: Sequence[RowFigures]) -> float:
    """By how many points a row's share may be off. Rows of Poisson arrivals are drawn by lot: three standard errors,
    where that is more.
    """
    crowd = next(each for each in frozen.crowds if each.crowd == row.crowd)
    if not isinstance(crowd.load, Arrivals | Held) or crowd.load.spread == "even":
        return SHARE_POINTS
    part, n = row.share_planned / 100, sum(each.rounds for each in figures if each.crowd == row.crowd)
    return max(SHARE_POINTS, 300 * math.sqrt(part * (1 - part) / max(1, n)))


LEVELS = ("request", "embedded", "token", "item", "repeat")
REASONS = {
    "lateness": "planned instants were late", "stall": "their loop stalled", "processor": "their processor was full",
    "machine": "the machine gave them no time", "container limit": "the container's limit held them back",
}  # fmt: skip


def _lost(names: Sequence[str]) -> Iterator[str]:
    yield from (f"The generator {name} was lost, so its users and figures are missing from then on." for name in names)


def _own_doing(window: Ledger, whole: Ledger, rule: str) -> Iterator[str]:
    """What the generators did themselves: rows used up, errors of ours, limits of the machine."""
    for why, number in sorted(whole.retired.items()):
        if "used up" in why or "no rows" in why:
            yield (
                f"{number:,} time{'s' if number > 1 else ''} a user left because {why}; from then on there were fewer"
                " than planned."
            )
        elif why.startswith("broke"):
            yield (
                f"{number:,} time{'s' if number > 1 else ''} a user ended by an error of ours, not of the target"
                f" ({why[7:]}); please report it."
            )
    if rule:
        yield f"The run stopped by its own rules: {rule}."
    kinds = {
        kind: count
        for each in LEVELS
        for kind, count in window.all_of(each).failed.items()
        if kind.startswith("own-limit")
    }
    if kinds:
        said = ", ".join(f"{count:,} × {kind.removeprefix('own-limit-')}" for kind, count in sorted(kinds.items()))
        yield (
            f"The generators reached limits of their own machine ({said}): those requests are not the target's"
            " failures, and load is missing."
        )


def _under_way(window: Ledger) -> Iterator[str]:
    ages = window.all_of("request").open_us
    if ages:
        one = len(ages) == 1
        yield (
            f"{len(ages):,} request{' was' if one else 's were'} still under way when the run ended, the oldest for"
            f" {max(ages) / 1e6:.1f} s: {'it counts' if one else 'they count'} as at least that long."
        )


def _late(window: Ledger) -> Iterator[str]:
    """More than 2 % of the measured part's seconds, and more than one of them."""
    if window.late_seconds > max(1, LATE_SHARE * window.seconds):
        by = sorted(window.late_by.items(), key=lambda row: -row[1])
        said = "; ".join(f"{REASONS.get(reason, reason)} in {count:,}" for reason, count in by)
        yield (
            f"Generators were late in {window.late_seconds:,} of {window.seconds:,} measured seconds ({said}): they,"
            " not the target, may have set the figures."
        )
