"""A virtual user: performs opening, rounds and closing, and tells the recorder what happened."""

import asyncio
import logging
from collections.abc import Awaitable, Callable
from typing import Literal

from dynamikos.core.checks import Then
from dynamikos.core.failure_kinds import LeavingCause
from dynamikos.core.frozen import stream
from dynamikos.core.values import Maker, Values
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.caching import Cache
from dynamikos.engine.reporting.cells import pack_stretch
from dynamikos.engine.users.asking import Asker
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.dealing import Spec
from dynamikos.engine.users.kinds import Outcome, Stage, perform
from dynamikos.engine.users.lifecycle import Leaving, Lifecycle, Phase
from dynamikos.engine.users.manner import PLAIN, manner_of
from dynamikos.engine.users.parallel import ParallelStep
from dynamikos.engine.users.patience import Patience
from dynamikos.engine.users.proofs import Proofs
from dynamikos.engine.users.spans import Spans
from dynamikos.engine.users.thinking import Thinking
from dynamikos.engine.users.user_context import UserContext
from dynamikos.engine.users.user_state import UserState
from dynamikos.engine.users.walking import Walk
from dynamikos.engine.users.wire import Wire
from dynamikos.engine.users.witness import Witness

Gate = Callable[
    ["User"], Awaitable[float | None]
]  # when the next round begins; None: there is none
IDLE_ROUND_S = 0.1
LONGEST_PAUSE_S = 30.0  # after failed rounds
log = logging.getLogger(__name__)

# how a user's time ended: as planned; it did not wait; no rows; it was cut off; by an error of
# ours; a check said so
Parting = Literal["done", "left", "used up", "abandoned", "broke", "retired"]


class User:
    """One virtual user. `perform` returns the reason why it ended.

    Requests that follow each other are performed by its Walk; the coroutine here wakes for what
    else there is.
    """

    def __init__(
        self,
        number: int,
        context: UserContext,
        *,
        seat: int = 0,
        rounds: int | None = None,
        gate: "Gate | None" = None,
        planned: float | None = None,
    ) -> None:
        """`seat` is the place it takes, by which slices of data are dealt; `rounds` how many it
        performs, if that is said; `gate` says when each round begins; `planned` is the instant at
        which its first request is due.
        """
        self.number, self.context, self._gate = number, context, gate
        visit = context.persona.visit if context.persona is not None else None
        self.comes_once = visit is not None and visit.visit == "first"
        self._rounds_left = 1 if self.comes_once else rounds
        maker = Maker(
            lambda: stream(context.seed, "values", "", number),
            context.wall_us,
            run_count=context.run_count,
            known=context.known,
        )
        values = Values(
            {"user.number": str(number), "round.number": "0"}, maker
        )  # see UserState.shown
        manner = PLAIN
        if context.persona is not None:
            manner = manner_of(context.persona, stream(context.seed, "persona", "", number))
        self.own = UserState(number, values, seat=seat or number, manner=manner)
        self._life = Lifecycle(context.recorder, context.row)
        self._thinking = Thinking(self.own, context, self._life)
        self._patience = Patience(manner)
        self._spans = Spans(self.own, context.recorder, self._thinking)
        if visit is not None or context.cache != "none":
            self.own.cache = Cache(context.bodies, context.primed)
            for name, value in manner.cookies:
                for origin in context.script.origins:
                    self.own.jar.take(
                        f"{name}={value}", origin[1], "/", context.clock.wall(), from_secure=True
                    )
        self._equip()
        self._walk.planned = planned
        self._performing: asyncio.Task[object] | None = None
        self._begun = 0.0  # the round at hand
        self._late_s = 0.0  # own delay (see UserState) when the round at hand began
        self._cut = False  # whether the round at hand was left in the middle
        self._failing = 0  # rounds that failed at their first request, one after the other
        self._stretches = context.recorder.stretches
        self._retired: tuple[LeavingCause, str] | None = None  # why a check made it leave
        self._dropped: list[tuple[int, float]] | None = (
            None  # what it had under way when it was taken away at once
        )
        self._parallel: ParallelStep | None = (
            None  # the step at hand whose requests are sent at once
        )
        self._doing = ""  # the key of the step at hand that sends nothing itself

    def _equip(self) -> None:
        own, context = self.own, self.context
        self._wire = Wire(own, context)
        self._witness = Witness(own, context)
        self._proofs = Proofs(own, context, self._wire, self._witness)
        self._walk = Walk(
            context.clock,
            context.recorder,
            self._life,
            self._thinking,
            self._patience,
            self._spans,
            self.next_round,
            self._impatient,
        )
        self._walk.asker = self._asker(self._walk.go, self._walk.broke)
        self._stage = Stage(own, context, self._witness, self)

    def _asker(self, on_end: Callable[[], None], on_broke: Callable[[Exception], None]) -> Asker:
        return Asker(
            self.own, self.context, self._wire, self._witness, self._proofs, on_end, on_broke
        )

    # for those who watch --------------------------------------------------------------------------

    @property
    def state(self) -> str:
        """By what name it is counted; "" before it comes and after it left."""
        return self._life.counted

    @property
    def leaving(self) -> bool:
        """Whether it was asked to leave, and does after the step at hand."""
        return self._life.leaving

    def follow(self, *, on: bool) -> None:
        """From now on all that it exchanges is kept, or not."""
        if self.own.followed != on:
            self.own.followed = on
            self._walk.asker.follow()

    def step_now(self) -> str:
        """The key of the step at hand, or of the one after which it thinks; "" where there is
        none.
        """
        return self._walk.step_now(under_way=True) or self._doing or self._walk.step_now()

    def waits_s(self) -> float:
        """How long the step at hand has been under way."""
        dues = [due for _, due in self._steps_open()]
        return self.context.clock.now() - min(dues) if dues else 0.0

    def shown(self) -> dict[str, str]:
        """Its values, masked."""
        return self._witness.shown()

    # coming and going -----------------------------------------------------------------------------

    def leave(self) -> None:
        """Gently: the step at hand is finished, think time cut short, closing performed."""
        self._life.ask(Leaving.GENTLY)
        self._thinking.cut_short()

    def leave_after_round(self) -> None:
        """The round at hand is finished, closing performed."""
        self._life.ask(Leaving.AFTER_ROUND)
        if self.leaving:
            self._thinking.cut_short()

    def abandon(self) -> None:
        """At once, in the middle of what it does: its exchanges under way are abandoned, no closing
        is performed.
        """
        if self._performing is not None and self._dropped is None:
            self._dropped = self.open_now()
            self._performing.cancel()

    async def attend(self, ready: "asyncio.Future[None]") -> None:
        """Waits until something is `ready`, or it is told to leave."""
        if not self.leaving:
            await self._thinking.attend(ready)

    async def wait(self, instant: float, *, thinks: bool = True) -> None:
        """Until an instant, or until the user is told to leave; it `thinks` unless that is a part
        of what it does.
        """
        await self._thinking.until(instant, counts=thinks)

    def retire(self, cause: LeavingCause, detail: str) -> None:
        """A check makes it leave at once."""
        self._retired = cause, detail

    async def perform(self) -> Parting:
        """Opening, rounds, closing."""
        context = self.context
        self._performing = asyncio.current_task()
        try:
            self._life.enter(Phase.OPENING)
            if not await self._dealt(context.dealer.first()):
                return self._used_up()
            opened = await self.run_steps(context.script.opening)
            if self._patience.has_left:
                return "left"
            if opened == "round":
                if self._retired is None and self.own.rows_over:
                    return self._used_up()
                context.recorder.left_early(
                    context.clock.now(), *(self._retired or ("opening", ""))
                )
                return "retired"
            await self._rounds()
            if self._patience.has_left:
                return "left"
            if self._retired is not None:
                context.recorder.left_early(context.clock.now(), *self._retired)
                return "retired"
            self._life.enter(Phase.CLOSING)
            await self.run_steps(context.script.closing, leaving=True)
            return self._used_up() if self.own.rows_over else "done"
        except asyncio.CancelledError:
            if self._dropped is None:
                raise
            self._drop(self._dropped)
            return "abandoned"
        except Exception as problem:  # ours: said as such, counted, and nobody else is ended by it
            self._broke(problem)
            return "broke"
        finally:
            self._life.enter(Phase.OVER)
            self._wire.close()
            self._performing = None
            self._walk.let_go()
            self._stage.let_go()

    async def clean_up(self) -> None:
        """Each step of the clean-up, also when one before it failed, over connections of its
        own.
        """
        self._equip()
        try:
            for step in self.context.script.cleanup:
                await self.run_steps([step], leaving=True)
        finally:
            self._wire.close()

    def _drop(self, under_way: list[tuple[int, float]]) -> None:
        """What is under way is abandoned: neither answered nor failed."""
        self.context.recorder.abandoned(self._wire.spans(), self.context.clock.now(), under_way)
        task = asyncio.current_task()
        if task is not None:
            task.uncancel()

    def _broke(self, problem: Exception) -> None:
        log.error("user %s broke", self.number, exc_info=problem)
        recorder, now = self.context.recorder, self.context.clock.now()
        kind = f"engine-error: {type(problem).__name__}"
        recorder.missed(self.context.script.round_series, now, 0, kind)
        recorder.left_early(now, "broke", f"{type(problem).__name__}: {problem}"[:120])

    def open_now(self) -> list[tuple[int, float]]:
        """(series, due) of the round, steps and requests that are under way."""
        found = [*self._steps_open(), *self._spans.open_now()]
        if self._life.in_round:
            found.append((self.context.script.round_series, self._begun))
        return found

    def _steps_open(self) -> list[tuple[int, float]]:
        at_once = [] if self._parallel is None else self._parallel.open_now()
        return [*at_once, *self._walk.open_now()]

    async def _dealt(self, due: list[Spec]) -> bool:
        """Whether the user has its rows. Rows that can't be had for now (the database is away) make
        it leave, as used up ones do.
        """
        dealer = self.context.dealer
        try:
            await dealer.until_ready(due)
        except Failure as failure:
            self.own.rows_over = failure.detail
            return False
        return dealer.deal(self.own, due)

    def _used_up(self) -> Parting:
        self.context.recorder.left_early(self.context.clock.now(), "rows", self.own.rows_over)
        return "used up"

    # rounds ---------------------------------------------------------------------------------------

    async def _rounds(self) -> None:
        now, walk = self.context.clock.now, self._walk
        # that of an arrival at its planned instant, as its first step does, unless that was in the
        # opening
        self._begun = now() if walk.planned is None else min(walk.planned, now())
        self._life.enter(Phase.BETWEEN)
        while await self._may_begin():
            self._begin_round()
            endless = self._rounds_left is None and self._gate is None
            outcome = await self.run_steps(self.context.script.rounds, over_rounds=endless)
            self._life.enter(Phase.BETWEEN)
            if self._patience.has_left:
                return
            ended = now()
            if not self._counts(outcome, ended):
                return
            if outcome == "round" and self._rounds_left != 0:
                await self._after_failure(ended)
            if not self._walk.asked:  # a round that sends nothing must not keep all others waiting
                await self.wait(ended + IDLE_ROUND_S)
            self._begun = now() if outcome or not self._walk.asked else ended

    async def _may_begin(self) -> bool:
        """Whether another round begins now: waits for its turn, and takes its rows."""
        life, own, context = self._life, self.own, self.context
        if life.is_last_round or self._rounds_left == 0 or self._retired:
            return False
        if self._gate is not None:
            due = await self._gate(self)
            if due is None or life.is_last_round:
                return False
            self._begun = self._walk.planned = due
        if own.rows_over:
            return False
        return not own.round or not context.deals or await self._dealt(context.dealer.each_round)

    def _begin_round(self) -> None:
        self._number_round()
        self._life.enter(Phase.ROUND)
        self._walk.asked = self._walk.went = self._cut = False

    def _number_round(self) -> None:
        own = self.own
        own.round += 1
        if own.cache is not None and self.context.cache == "round":
            own.cache.clear()
        self._late_s = own.late_s
        self._spans.clear()
        if self.context.script.counts_rounds:
            own.values["round.number"] = str(own.round)

    def _counts(self, outcome: Outcome, ended: float) -> bool:
        """Counts a round that is over; false where it was cut short, which is neither a passed nor
        a failed one.
        """
        if self.own.rows_over and outcome:
            self.leave()  # a request got no row
        if self._rounds_left is not None:
            if self._cut:
                return False
            self._rounds_left -= 1
        elif self.leaving:
            return False
        recorder, series = self.context.recorder, self.context.script.round_series
        if outcome:
            recorder.missed(series, ended, round((ended - self._begun) * 1e6), "a step failed")
        else:
            recorder.passed(series, self._begun, ended, self.own.late_s - self._late_s)
        return True

    def next_round(self, ended: float) -> bool:
        """See Walk: after a round that passed."""
        if self._life.is_last_round or not self._walk.asked:
            return False
        context, own = self.context, self.own
        if context.deals:
            due = context.dealer.each_round
            if not context.dealer.ready(due) or not context.dealer.deal(own, due):
                return False
        self._stretches.append(
            pack_stretch(context.script.round_series, self._begun, ended, own.late_s - self._late_s)
        )
        self._begun = ended
        self._number_round()
        return True

    async def _after_failure(self, ended: float) -> None:
        """A pause after a failed round, so that a server that is down is not asked faster than one
        that works: at least the plan's, and twice as long each time while rounds fail at their
        first request, up to half a minute.
        """
        self._failing = 0 if self._walk.went else self._failing + 1
        pause = self.context.failed_pause_s
        await self.wait(
            ended
            + min(max(pause, LONGEST_PAUSE_S), pause * 2.0 ** min(30, max(0, self._failing - 1)))
        )

    async def _skip(self, steps: list[CompiledStep]) -> None:
        """The think times of what is skipped: a person who meets an error does not come back at
        once.
        """
        seconds = sum(self._thinking.seconds_after(step) for step in steps)
        if seconds > 0:
            await self.wait(self.context.clock.now() + seconds)

    # steps ----------------------------------------------------------------------------------------

    async def run_steps(
        self, steps: list[CompiledStep], *, leaving: bool = False, over_rounds: bool = False
    ) -> Outcome:
        """Performs steps with their think times: "" when all passed, "step" when one failed,
        "round" when the rest was skipped.

        `over_rounds`: the part is the rounds' and its steps may go on into further ones, which are
        then noted already.
        """
        index, failed = 0, False
        while index < len(steps):
            step = steps[index]
            if self._life.cuts_short and not leaving:
                self._cut = True
                return ""
            kind, thinks = "", step.thinks and not leaving
            then: Then = "step"
            index += 1
            if step.walks:
                walk, endless = self._walk, over_rounds and not failed
                await walk.begin(steps, index - 1, leaving=leaving, over_rounds=endless)
                index, failed, thinks = walk.index, failed or walk.missed, False
                kind, then = walk.kind, walk.asker.then
            elif step.item is not None:
                outcome = await self._item(step, leaving=leaving)
                failed = failed or bool(outcome)
                if outcome == "round":
                    return await self._skipping(steps, index, "", "round")
            elif step.requests:
                kind, then = await self._at_once(step)
                failed = failed or bool(kind)
            if self._patience.is_over:
                index -= not step.walks
                if self._again(steps[index]):
                    continue
                return "round"
            if kind and (step.walks or then != "step"):
                return await self._skipping(steps, index, kind, then)
            if thinks:
                await self._think(step)
        return "step" if failed else ""

    async def _item(self, step: CompiledStep, *, leaving: bool) -> Outcome:
        """A step that sends nothing itself."""
        if step.begins:
            self._spans.began(step, self.context.clock.now())
        self._doing, outer = step.step.step, self._doing
        outcome = await perform(self._stage, step, leaving=leaving)
        self._doing = outer
        if step.ends:
            kind = "a step failed" if outcome else ""
            self._spans.over(step, self.context.clock.now(), kind)
        return outcome

    def _impatient(self) -> None:
        """See Walk: what is under way is abandoned. Afterwards it has connections of its own again,
        and what it had before: values, cookies, TLS sessions.
        """
        wire, now = self._wire, self.context.clock.now()
        under_way = [
            each for each in self.open_now() if each[0] != self.context.script.round_series
        ]
        self.context.recorder.abandoned(wire.spans(), now, under_way)
        sessions, old = wire.pool.sessions, self._walk
        wire.close()
        self._patience.run_out()
        self._parallel = None
        old.interrupt()
        self._equip()
        self._wire.pool.sessions = sessions

    def _again(self, step: CompiledStep) -> bool:
        """Out of patience with a step: whether it is reloaded. Else the user leaves, and is told to
        have left.
        """
        recorder, now = self.context.recorder, self.context.clock.now()
        if self._patience.reloads(self.own.round, step.series):
            recorder.reloaded(now)
            return True
        series = [step.series, *(request.series for request in step.requests)]
        if self._life.in_round:
            series.append(self.context.script.round_series)
        recorder.left(now, series)
        return False

    async def _skipping(
        self, steps: list[CompiledStep], index: int, kind: str, then: Then
    ) -> Outcome:
        """The step before `index` failed, and with it the rest of the part."""
        now = self.context.clock.now()
        self.context.recorder.skipped(now, len(steps) - index)
        self._spans.fail(now, kind or "a step failed")
        if then == "user":
            self.retire("check", kind)
        elif self._life.in_round:
            await self._skip(steps[index - 1 :])
        return "round"

    async def _at_once(self, step: CompiledStep) -> tuple[str, Then]:
        """All requests of a step in parallel: (first kind of failure or "", its worst
        consequence).
        """
        recorder, clock = self.context.recorder, self.context.clock
        due, late_s = self._walk.first_due(clock.now()), self.own.late_s
        self._parallel = at_once = ParallelStep(step, due, clock, self._asker)
        self._spans.began(step, due)
        if not await at_once.perform(self._patience.seconds):
            self._impatient()
            return "", "round"
        self._parallel = None
        self._walk.asked = True
        self._walk.went = self._walk.went or at_once.went_well
        last, (kind, then) = at_once.ended, at_once.failure
        self._spans.over(step, last, kind)
        if kind:
            recorder.missed(step.series, last, round((last - due) * 1e6), kind)
        else:
            recorder.passed(step.series, due, last, self.own.late_s - late_s)
        return kind, then

    async def _think(self, step: CompiledStep) -> None:
        pause = self._thinking.begin(step)
        if pause is not None:
            await pause
            self._thinking.end()
