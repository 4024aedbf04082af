"""A virtual user: performs opening, rounds and closing, and tells the recorder what happened."""

import asyncio
import logging
from collections.abc import Awaitable, Callable
from functools import partial
from typing import Literal

from dynamikos.core.checks import Then
from dynamikos.core.failure_kinds import LeavingCause
from dynamikos.core.frozen import stream
from dynamikos.core.values import Maker, Values
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.caching import Cache
from dynamikos.engine.reporting.recorder import pack_stretch
from dynamikos.engine.users.asking import Asker
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.dealing import Spec
from dynamikos.engine.users.judging import SEVERITY
from dynamikos.engine.users.kinds import Outcome, Stage, perform
from dynamikos.engine.users.manner import PLAIN, manner_of
from dynamikos.engine.users.proofs import Proofs
from dynamikos.engine.users.user_context import UserContext
from dynamikos.engine.users.user_state import UserState
from dynamikos.engine.users.walking import Walk
from dynamikos.engine.users.wire import Wire
from dynamikos.engine.users.witness import Witness

Gate = Callable[["User"], Awaitable[float | None]]  # when the next round begins; None: there is none
IDLE_ROUND_S = 0.1
LONGEST_PAUSE_S = 30.0  # after failed rounds
log = logging.getLogger(__name__)

# how a user's time ended: as planned; it did not wait; no rows; it was cut off; by an error of ours; a check said so
Parting = Literal["done", "left", "used up", "abandoned", "broke", "retired"]


class User:
    """One virtual user. `perform` returns the reason why it ended.

    Requests that follow each other are performed by its Walk; the coroutine here wakes for what else there is.
    """

    def __init__(
        self,
        number: int,
        around: UserContext,
        *,
        seat: int = 0,
        rounds: int | None = None,
        gate: "Gate | None" = None,
        planned: float | None = None,
    ) -> None:
        """`seat` is the place it takes, by which slices of data are dealt; `rounds` how many it performs, if that is
        said; `gate` says when each round begins; `planned` is the instant at which its first request is due.
        """
        self.number, self.around, self._gate = number, around, gate
        visit = around.persona.visit if around.persona is not None else None
        self.comes_once = visit is not None and visit.visit == "first"
        self._rounds_left = 1 if self.comes_once else rounds
        maker = Maker(
            lambda: stream(around.seed, "values", "", number),
            around.wall_us,
            run_count=around.run_count,
            known=around.known,
        )
        values = Values({"user.number": str(number), "round.number": "0"}, maker)  # see UserState.shown
        manner = PLAIN
        if around.persona is not None:
            manner = manner_of(around.persona, stream(around.seed, "persona", "", number))
        self.own = UserState(number, values, seat=seat or number, manner=manner)
        if visit is not None:
            self.own.cache = Cache(around.bodies, around.primed)
            for name, value in manner.cookies:
                for origin in around.script.origins:
                    self.own.jar.take(f"{name}={value}", origin[1], "/", around.clock.wall(), from_secure=True)
        self.patience_s = manner.patience_s
        self._left = False  # whether it is out of patience with the step at hand
        self._reloads = 0  # of the step of that round, by its series
        self._reloading = (0, -1)
        self._equip()
        self._walk.planned = planned
        self.leaving = self._last_round = self._in_round = self._cut = False
        self._performing: asyncio.Task[object] | None = None
        self.begun = 0.0  # the round at hand
        self._stretches = around.recorder.stretches
        self._retired: tuple[LeavingCause, str] | None = None  # why a check made it leave
        self._gone = False  # whether it left since it waited too long
        self._dropped: list[tuple[int, float]] | None = None  # what it had under way when it was taken away at once
        self._thinking: asyncio.Future[None] | None = None
        self._due = 0.0  # when its think time is over
        self._state = ""
        self._thought_in = ""  # the state to go back to after a think time
        self._opens: list[tuple[int, float]] = []  # steps and requests of a step at once: series, due
        self._doing = ""  # the key of the step at hand that sends nothing itself
        self._rowless = False  # whether there are no rows for another round
        # those that are open: series → due, seconds thought by then, own delay by then
        self._spans: dict[int, tuple[float, float, float]] = {}
        self._late_s = 0.0  # own delay (see UserState) when the round at hand began
        self._thought_s = self._thinks_since = 0.0
        self._failing = 0  # rounds that failed at their first request, one after the other

    def _equip(self) -> None:
        own, around = self.own, self.around
        self._wire = Wire(own, around)
        self._witness = Witness(own, around)
        self._proofs = Proofs(own, around, self._wire, self._witness)
        walk: Walk = Walk(self, around.clock, around.recorder)
        self._walk: Walk = walk
        walk.asker = Asker(own, around, self._wire, self._witness, self._proofs, walk.go, walk.broke)
        self._stage = Stage(own, around, self._witness, self)

    # for those who watch ---------------------------------------------------------------------------------

    @property
    def state(self) -> str:
        return self._state

    def follow(self, *, on: bool) -> None:
        """From now on all that it exchanges is kept, or not."""
        if self.own.followed != on:
            self.own.followed = on
            self._walk.asker.follow()

    def step_now(self) -> str:
        """The key of the step at hand, or of the one after which it thinks; "" where there is none."""
        return self._walk.step_now(under_way=True) or self._doing or self._walk.step_now()

    def waits_s(self) -> float:
        """How long the step at hand has been under way."""
        dues = [due for _, due in (*self._opens, *self._walk.open_now())]
        return self.around.clock.now() - min(dues) if dues else 0.0

    def shown(self) -> dict[str, str]:
        """Its values, masked."""
        return self._witness.shown()

    # coming and going --------------------------------------------------------------------------------------

    def leave(self) -> None:
        """Gently: the step at hand is finished, think time cut short, closing performed."""
        self.leaving = True
        if self._thinking is not None and not self._thinking.done():
            self._thinking.set_result(None)

    def leave_after_round(self) -> None:
        """The round at hand is finished, closing performed."""
        self._last_round = True
        if not self._in_round:
            self.leave()

    def abandon(self) -> None:
        """At once, in the middle of what it does: its exchanges under way are abandoned, no closing is performed."""
        if self._performing is not None and self._dropped is None:
            self._dropped = self.open_now()
            self._performing.cancel()

    async def attend(self, ready: "asyncio.Future[None]") -> None:
        """Waits until something is `ready`, or it is told to leave."""
        if self.leaving:
            return
        state = self._state
        self._enter("thinking")
        self._thinking = ready
        try:
            await ready
        finally:
            self._thinking = None
        self._enter(state)

    def retire(self, cause: LeavingCause, detail: str) -> None:
        """A check makes it leave at once."""
        self._retired = cause, detail

    async def perform(self) -> Parting:
        """Opening, rounds, closing."""
        around = self.around
        self._performing = asyncio.current_task()
        try:
            self._enter("opening")
            if not await self._dealt(around.dealer.first()):
                return self._used_up()
            opened = await self.run_steps(around.script.opening)
            if self._gone:
                return "left"
            if opened == "round":
                if self._retired is None and self.own.rows_over:
                    return self._used_up()
                around.recorder.left_early(around.clock.now(), *(self._retired or ("opening", "")))
                return "retired"
            await self._rounds()
            if self._gone:
                return "left"
            if self._retired is not None:
                around.recorder.left_early(around.clock.now(), *self._retired)
                return "retired"
            self._enter("closing")
            await self.run_steps(around.script.closing, leaving=True)
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
            self._enter("")
            self._wire.close()
            self._performing = None
            self._walk.let_go()
            self._stage.let_go()

    async def clean_up(self) -> None:
        """Each step of the clean-up, also when one before it failed, over connections of its own."""
        self._equip()
        try:
            for step in self.around.script.cleanup:
                await self.run_steps([step], leaving=True)
        finally:
            self._wire.close()

    def _drop(self, under_way: list[tuple[int, float]]) -> None:
        """What is under way is abandoned: neither answered nor failed."""
        self.around.recorder.abandoned(self._wire.spans(), self.around.clock.now(), under_way)
        task = asyncio.current_task()
        if task is not None:
            task.uncancel()

    def _broke(self, problem: Exception) -> None:
        log.error("user %s broke", self.number, exc_info=problem)
        recorder, now = self.around.recorder, self.around.clock.now()
        kind = f"engine-error: {type(problem).__name__}"
        recorder.missed(self.around.script.round_series, now, 0, kind)
        recorder.left_early(now, "broke", f"{type(problem).__name__}: {problem}"[:120])

    def open_now(self) -> list[tuple[int, float]]:
        """(series, due) of the round, steps and requests that are under way."""
        found = [*self._opens, *self._walk.open_now()]
        found.extend((no, due + self._thought_s - thought) for no, (due, thought, _) in self._spans.items())
        if self.own.round and self._state in ("in a round", "thinking"):
            found.append((self.around.script.round_series, self.begun))
        return found

    def _enter(self, state: str) -> None:
        if state == self._state:
            return
        self.around.recorder.move(self._state, state, self.around.row)
        self._state = state

    async def _dealt(self, due: list[Spec]) -> bool:
        """Whether the user has its rows. Rows that can't be had for now (the database is away) make it leave, as used
        up ones do.
        """
        dealer = self.around.dealer
        try:
            await dealer.until_ready(due)
        except Failure as failure:
            self.own.rows_over = failure.detail
            return False
        return dealer.deal(self.own, due)

    def _used_up(self) -> Parting:
        self.around.recorder.left_early(self.around.clock.now(), "rows", self.own.rows_over)
        return "used up"

    # rounds --------------------------------------------------------------------------------------------

    async def _rounds(self) -> None:
        around, recorder, now = self.around, self.around.recorder, self.around.clock.now
        walk = self._walk
        # that of an arrival at its planned instant, as its first step does, unless that was in the opening
        self.begun = now() if walk.planned is None else min(walk.planned, now())
        series = around.script.round_series
        while not self.leaving and not self._last_round and self._rounds_left != 0 and not self._retired:
            if self._gate is not None:
                due = await self._gate(self)
                if due is None or self.leaving or self._last_round:
                    return
                self.begun = walk.planned = due
            if self._rowless or (self.own.round and around.deals and not await self._dealt(around.dealer.each_round)):
                return
            self._begin_round()
            walk.asked = walk.went = False
            self._cut = False
            endless = self._rounds_left is None and self._gate is None
            self._in_round = True
            outcome = await self.run_steps(around.script.rounds, over_rounds=endless)
            self._in_round = False
            if self._gone:
                return
            if self.own.rows_over and outcome:
                self.leave()  # a request got no row
            passed, ended = not outcome, now()
            if self._rounds_left is not None:
                if self._cut:
                    return
                self._rounds_left -= 1
            elif self.leaving:
                return  # cut short: neither a passed nor a failed round
            if passed:
                recorder.passed(series, self.begun, ended, self.own.late_s - self._late_s)
            else:
                recorder.missed(series, ended, round((ended - self.begun) * 1e6), "a step failed")
            if outcome == "round" and self._rounds_left != 0:
                await self._after_failure(ended)
            if not walk.asked:  # a round that sends nothing must not keep all others waiting
                await self.wait(ended + IDLE_ROUND_S)
            self.begun = ended if passed and walk.asked else now()

    def began(self, step: CompiledStep, due: float) -> None:
        """See Observer."""
        for no in step.begins:
            self._spans[no] = (due, self._thought_s, self.own.late_s)

    def over(self, step: CompiledStep, ended: float, kind: str) -> None:
        """See Observer. A span's time is without the think times in it."""
        for no in step.ends:
            self._over(no, ended, kind)

    def _over(self, no: int, ended: float, kind: str) -> None:
        due, thought, late_s = self._spans.pop(no, (-1.0, 0.0, 0.0))
        if due < 0:
            return
        took = ended - due - (self._thought_s - thought)
        if kind:
            self.around.recorder.missed(no, ended, round(took * 1e6), kind)
        else:
            self.around.recorder.passed(no, ended - took, ended, self.own.late_s - late_s)

    def _begin_round(self) -> None:
        own = self.own
        own.round += 1
        self._late_s = own.late_s
        self._spans.clear()
        if self.around.script.counts_rounds:
            own.values["round.number"] = str(own.round)
        if self._state != "in a round":
            self._enter("in a round")

    def next_round(self, ended: float) -> bool:
        """See Observer: after a round that passed."""
        if self.leaving or self._last_round or not self._walk.asked:
            return False
        around, own = self.around, self.own
        if around.deals:
            due = around.dealer.each_round
            if not around.dealer.ready(due):
                return False
            if not around.dealer.deal(own, due):
                self._rowless = True
                return False
        self._stretches.append(pack_stretch(around.script.round_series, self.begun, ended, own.late_s - self._late_s))
        self.begun, self._late_s = ended, own.late_s
        own.round += 1
        if self._spans:
            self._spans.clear()
        if around.script.counts_rounds:
            own.values["round.number"] = str(own.round)
        if self._state != "in a round":
            self._enter("in a round")
        return True

    @property
    def cuts_short(self) -> bool:
        """See Observer."""
        return self.leaving and self._state == "in a round"

    async def _after_failure(self, ended: float) -> None:
        """A pause after a failed round, so that a server that is down is not asked faster than one that works: at least
        the plan's, and twice as long each time while rounds fail at their first request, up to half a minute.
        """
        self._failing = 0 if self._walk.went else self._failing + 1
        pause = self.around.failed_pause_s
        await self.wait(ended + min(max(pause, LONGEST_PAUSE_S), pause * 2.0 ** min(30, max(0, self._failing - 1))))

    async def _skip(self, steps: list[CompiledStep]) -> None:
        """The think times of what is skipped: a person who meets an error does not come back at once."""
        seconds = sum(self._thinks(step) for step in steps)
        if seconds > 0:
            await self.wait(self.around.clock.now() + seconds)

    # steps ---------------------------------------------------------------------------------------------

    async def run_steps(
        self, steps: list[CompiledStep], *, leaving: bool = False, over_rounds: bool = False
    ) -> Outcome:
        """Performs steps with their think times: "" when all passed, "step" when one failed, "round" when the rest was
        skipped.

        `over_rounds`: the part is the rounds' and its steps may go on into further ones, which are then noted already.
        """
        walk, index, failed = self._walk, 0, False
        while index < len(steps):
            step = steps[index]
            if self.cuts_short and not leaving:
                self._cut = True
                return ""
            if step.walks:
                walk = self._walk
                await walk.begin(steps, index, leaving=leaving, over_rounds=over_rounds and not failed)
                index, failed = walk.index, failed or walk.missed
                if self._left:
                    if self._again(steps[index]):
                        continue
                    return "round"
                if walk.kind:
                    return await self._skipping(steps, index, walk.kind, walk.asker.then)
                continue
            index += 1
            if step.item is not None:
                if step.begins:
                    self.began(step, self.around.clock.now())
                self._doing, outer = step.step.step, self._doing
                outcome = await perform(self._stage, step, leaving=leaving)
                self._doing = outer
                if step.ends:
                    self.over(step, self.around.clock.now(), "a step failed" if outcome else "")
                failed = failed or bool(outcome)
                if outcome == "round":
                    return await self._skipping(steps, index, "", "round")
            elif step.requests:
                kind, then = await self._at_once(step)
                if self._left:
                    index -= 1
                    if self._again(step):
                        continue
                    return "round"
                if kind and then != "step":
                    return await self._skipping(steps, index, kind, then)
                failed = failed or bool(kind)
            if step.thinks and not leaving:
                await self._think(step)
        return "step" if failed else ""

    def impatient(self) -> None:
        """See Observer: what is under way is abandoned. Afterwards it has connections of its own again, and what it had
        before: values, cookies, TLS sessions.
        """
        wire, now = self._wire, self.around.clock.now()
        under_way = [each for each in self.open_now() if each[0] != self.around.script.round_series]
        self.around.recorder.abandoned(wire.spans(), now, under_way)
        sessions, old = wire.pool.sessions, self._walk
        wire.close()
        self._left, self._opens = True, []
        old.interrupt()
        self._equip()
        self._wire.pool.sessions = sessions

    def _again(self, step: CompiledStep) -> bool:
        """Out of patience with a step: whether it is reloaded. Else the user leaves, and is told to have left."""
        self._left = False
        recorder, now = self.around.recorder, self.around.clock.now()
        if self._reloading != (self.own.round, step.series):
            self._reloading, self._reloads = (self.own.round, step.series), 0
        if self._reloads < self.own.manner.reloads:
            self._reloads += 1
            recorder.reloaded(now)
            return True
        series = [step.series, *(request.series for request in step.requests)]
        if self._in_round:
            series.append(self.around.script.round_series)
        recorder.left(now, series)
        self._gone = True
        return False

    async def _skipping(self, steps: list[CompiledStep], index: int, kind: str, then: Then) -> Outcome:
        """The step before `index` failed, and with it the rest of the part."""
        now = self.around.clock.now()
        self.around.recorder.skipped(now, len(steps) - index)
        for no in list(self._spans):
            self._over(no, now, kind or "a step failed")
        if then == "user":
            self.retire("check", kind)
        elif self._state == "in a round":
            await self._skip(steps[index - 1 :])
        return "round"

    async def _at_once(self, step: CompiledStep) -> tuple[str, Then]:
        """All requests of a step in parallel: (first kind of failure or "", its worst consequence)."""
        recorder, loop = self.around.recorder, asyncio.get_running_loop()
        due, late_s = self._walk.first_due(self.around.clock.now()), self.own.late_s
        self._opens = [(step.series, due), *((request.series, due) for request in step.requests)]
        self.began(step, due)
        askers: list[Asker] = []
        waits: list[asyncio.Future[None]] = []
        for request in step.requests:
            over: asyncio.Future[None] = loop.create_future()
            ended = partial(self._one_over, over, (request.series, due))
            asker = Asker(
                self.own, self.around, self._wire, self._witness, self._proofs, ended, partial(self._one_broke, over)
            )
            askers.append(asker)
            waits.append(over)
            if asker.ask(request, step, due):
                ended()
        if not await self._all_over(waits, due):
            return "", "round"
        self._opens = []
        self._walk.asked = True
        self._walk.went = self._walk.went or any(not asker.kind for asker in askers)
        last = max(asker.ended for asker in askers)
        failed = [asker for asker in askers if asker.kind]
        self.over(step, last, failed[0].kind if failed else "")
        if not failed:
            recorder.passed(step.series, due, last, self.own.late_s - late_s)
            return "", "round"
        recorder.missed(step.series, last, round((last - due) * 1e6), failed[0].kind)
        return failed[0].kind, max((asker.then for asker in failed), key=lambda then: SEVERITY[then])

    async def _all_over(self, waits: "list[asyncio.Future[None]]", due: float) -> bool:
        """Whether all are over before the user is out of patience."""
        if self.patience_s <= 0:
            await asyncio.gather(*waits)
            return True
        limit = self.around.clock.at(due + self.patience_s)
        pending: set[asyncio.Future[None]] = set(waits)
        while pending and not limit.done():
            await asyncio.wait({*pending, limit}, return_when=asyncio.FIRST_COMPLETED)
            pending = {each for each in waits if not each.done()}
        if pending:
            self.impatient()
            return False
        limit.cancel()
        for each in waits:
            each.result()
        return True

    def _one_over(self, over: "asyncio.Future[None]", asked: tuple[int, float]) -> None:
        if asked in self._opens:
            self._opens.remove(asked)
        if not over.done():
            over.set_result(None)

    @staticmethod
    def _one_broke(over: "asyncio.Future[None]", problem: Exception) -> None:
        if not over.done():
            over.set_exception(problem)

    # waiting -------------------------------------------------------------------------------------------

    async def wait(self, instant: float, *, thinks: bool = True) -> None:
        """Until an instant, or until the user is told to leave; it `thinks` unless that is a part of what it does."""
        clock = self.around.clock
        if self.leaving and self._state != "closing":
            return
        if instant <= clock.now():
            return
        state = self._state
        self._enter("thinking")
        self._thinking, since = clock.at(instant), clock.now()
        try:
            await self._thinking
        finally:
            self._thinking = None
        self._thought_s += clock.now() - since if thinks else 0.0
        self._enter(state)

    def _thinks(self, step: CompiledStep) -> float:
        """Seconds of think time after a step, drawn where it is drawn."""
        seconds = step.step.think_s
        if step.step.think == "even":
            seconds = self.own.values.maker.random.uniform(seconds, max(seconds, step.step.think_to_s))
        elif step.step.think == "log-normal" and seconds > 0:
            seconds *= self.own.values.maker.random.lognormvariate(0.0, step.step.sigma())
        return seconds * self.around.think_factor * self.own.manner.pace

    def pause_after(self, step: CompiledStep) -> "asyncio.Future[None] | None":
        """See Observer."""
        seconds = self._thinks(step)
        if seconds <= 0 or self.leaving:
            return None
        clock = self.around.clock
        self._thought_in = self._state
        self._enter("thinking")
        self._thinks_since = clock.now()
        self._due = self._thinks_since + seconds
        self._thinking = clock.at(self._due)
        return self._thinking

    def thought(self) -> None:
        """See Observer."""
        now = self.around.clock.now()
        self._thought_s += now - self._thinks_since
        if not self.leaving:
            self.around.health.late(now - self._due)
            self.own.late_s += max(0.0, now - self._due)
        self._thinking = None
        self._enter(self._thought_in)

    async def _think(self, step: CompiledStep) -> None:
        pause = self.pause_after(step)
        if pause is not None:
            await pause
            self.thought()
