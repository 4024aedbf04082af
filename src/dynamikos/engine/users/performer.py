"""A virtual user: performs opening, rounds and closing, and tells the recorder what happened."""

import asyncio
import logging
from functools import partial

from dynamikos.core.checks import Then
from dynamikos.core.frozen import stream
from dynamikos.core.values import Maker, Values
from dynamikos.engine.failures import Failure
from dynamikos.engine.reporting.recorder import pack_stretch
from dynamikos.engine.users.asking import Asker
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.dealing import Spec
from dynamikos.engine.users.holdings import Holdings
from dynamikos.engine.users.judging import SEVERITY
from dynamikos.engine.users.kinds import Outcome, Stage, perform
from dynamikos.engine.users.proofs import Proofs
from dynamikos.engine.users.surroundings import Surroundings
from dynamikos.engine.users.walking import Walk
from dynamikos.engine.users.wire import Wire
from dynamikos.engine.users.witness import Witness

IDLE_ROUND_S = 0.1
LONGEST_PAUSE_S = 30.0  # after failed rounds
log = logging.getLogger(__name__)


class User:
    """One virtual user. `perform` returns the reason why it ended.

    Requests that follow each other are performed by its Walk; the coroutine here wakes for what else there is.
    """

    def __init__(self, number: int, around: Surroundings, *, rounds: int | None = None) -> None:
        self.number, self.around, self._rounds_left = number, around, rounds
        maker = Maker(
            lambda: stream(around.seed, "values", "", number),
            around.wall_us,
            run_count=around.run_count,
            known=around.known,
        )
        values = Values({"user.number": str(number), "round.number": "0"}, maker)  # see Holdings.shown
        self.own = Holdings(number, values)
        self._equip()
        self.leaving = False
        self.begun = 0.0  # the round at hand
        self._stretches = around.recorder.stretches
        self._retired = ""  # why a check made it leave
        self._thinking: asyncio.Future[None] | None = None
        self._due = 0.0  # when its think time is over
        self._state = ""
        self._thought_in = ""  # the state to go back to after a think time
        self._opens: list[tuple[int, float]] = []  # steps and requests of a step at once: series, due
        self._rowless = False  # whether there are no rows for another round
        self._failing = 0  # rounds that failed at their first request, one after the other

    def _equip(self) -> None:
        own, around = self.own, self.around
        self._wire = Wire(own, around)
        self._witness = Witness(own, around)
        self._proofs = Proofs(own, around, self._wire, self._witness)
        self._walk = walk = Walk(self, around.clock, around.recorder)
        walk.asker = Asker(own, around, self._wire, self._witness, self._proofs, walk.go, walk.broke)
        self._stage = Stage(own, around, self._witness, self)

    def leave(self) -> None:
        """Gently: the step at hand is finished, think time cut short, closing performed."""
        self.leaving = True
        if self._thinking is not None and not self._thinking.done():
            self._thinking.set_result(None)

    def retire(self, why: str) -> None:
        """A check makes it leave at once."""
        self._retired = why

    async def perform(self) -> str:
        """Opening, rounds, closing."""
        around = self.around
        try:
            self._enter("opening")
            if not await self._dealt(around.dealer.first()):
                return self._used_up()
            if await self.part(around.script.opening) == "round":
                reason = self._retired or self.own.rows_over or "opening failed"
                around.recorder.retired(around.clock.now(), reason)
                return reason if self._retired or not self.own.rows_over else "used up"
            await self._rounds()
            if self._retired:
                around.recorder.retired(around.clock.now(), self._retired)
                return self._retired
            self._enter("closing")
            await self.part(around.script.closing, leaving=True)
            return self._used_up() if self.own.rows_over else "done"
        except Exception as problem:  # ours: said as such, counted, and nobody else is ended by it
            self._broke(problem)
            return "broke"
        finally:
            self._enter("")
            self._wire.close()

    async def clean_up(self) -> None:
        """Each step of the clean-up, also when one before it failed, over connections of its own."""
        self._equip()
        try:
            for step in self.around.script.cleanup:
                await self.part([step], leaving=True)
        finally:
            self._wire.close()

    def _broke(self, problem: Exception) -> None:
        log.error("user %s broke", self.number, exc_info=problem)
        recorder, now = self.around.recorder, self.around.clock.now()
        kind = f"engine-error: {type(problem).__name__}"
        recorder.missed(0, now, 0, kind)
        recorder.retired(now, f"broke: {type(problem).__name__}: {problem}"[:120])

    def open_now(self) -> list[tuple[int, float]]:
        """(series, due) of the round, steps and requests that are under way."""
        found = [*self._opens, *self._walk.open_now()]
        if self.own.round and self._state in ("in a round", "thinking"):
            found.append((0, self.begun))
        return found

    def _enter(self, state: str) -> None:
        if state == self._state:
            return
        self.around.recorder.move(self._state, state)
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

    def _used_up(self) -> str:
        self.around.recorder.retired(self.around.clock.now(), self.own.rows_over)
        return "used up"

    # rounds --------------------------------------------------------------------------------------------

    async def _rounds(self) -> None:
        around, recorder, now = self.around, self.around.recorder, self.around.clock.now
        walk, self.begun = self._walk, now()
        while not self.leaving and self._rounds_left != 0 and not self._retired:
            if self._rowless or (self.own.round and around.deals and not await self._dealt(around.dealer.each_round)):
                return
            self._begin_round()
            walk.asked = walk.went = False
            outcome = await self.part(around.script.rounds, over_rounds=self._rounds_left is None)
            if self.own.rows_over and outcome:
                self.leave()  # a request got no row
            passed, ended = not outcome, now()
            if self._rounds_left is not None:
                self._rounds_left -= 1
            elif self.leaving:
                return  # cut short: neither a passed nor a failed round
            if passed:
                recorder.passed(0, self.begun, ended)
            else:
                recorder.missed(0, ended, round((ended - self.begun) * 1e6), "a step failed")
            if outcome == "round" and self._rounds_left != 0:
                await self._after_failure(ended)
            if not walk.asked:  # a round that sends nothing must not keep all others waiting
                await self.wait(ended + IDLE_ROUND_S)
            self.begun = ended if passed and walk.asked else now()

    def _begin_round(self) -> None:
        own = self.own
        own.round += 1
        if self.around.script.counts_rounds:
            own.values["round.number"] = str(own.round)
        if self._state != "in a round":
            self._enter("in a round")

    def next_round(self, ended: float) -> bool:
        """See Guide: after a round that passed."""
        if self.leaving or not self._walk.asked:
            return False
        around, own = self.around, self.own
        if around.deals:
            due = around.dealer.each_round
            if not around.dealer.ready(due):
                return False
            if not around.dealer.deal(own, due):
                self._rowless = True
                return False
        self._stretches.append(pack_stretch(0, self.begun, ended))
        self.begun = ended
        own.round += 1
        if around.script.counts_rounds:
            own.values["round.number"] = str(own.round)
        if self._state != "in a round":
            self._enter("in a round")
        return True

    @property
    def cuts_short(self) -> bool:
        """See Guide."""
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

    async def part(self, steps: list[CompiledStep], *, leaving: bool = False, over_rounds: bool = False) -> Outcome:
        """Performs steps with their think times: "" when all passed, "step" when one failed, "round" when the rest was
        skipped.

        `over_rounds`: the part is the rounds' and its steps may go on into further ones, which are then noted already.
        """
        walk, index, failed = self._walk, 0, False
        while index < len(steps):
            step = steps[index]
            if self.cuts_short and not leaving:
                return ""
            if step.walks:
                await walk.begin(steps, index, leaving=leaving, over_rounds=over_rounds and not failed)
                index, failed = walk.index, failed or walk.missed
                if walk.kind:
                    return await self._skipping(steps, index, walk.kind, walk.asker.then)
                continue
            index += 1
            if step.item is not None:
                outcome = await perform(self._stage, step, leaving=leaving)
                failed = failed or bool(outcome)
                if outcome == "round":
                    return await self._skipping(steps, index, "", "round")
            elif step.requests:
                kind, then = await self._at_once(step)
                if kind and then != "step":
                    return await self._skipping(steps, index, kind, then)
                failed = failed or bool(kind)
            if step.thinks and not leaving:
                await self._think(step)
        return "step" if failed else ""

    async def _skipping(self, steps: list[CompiledStep], index: int, kind: str, then: Then) -> Outcome:
        """The step before `index` failed, and with it the rest of the part."""
        self.around.recorder.skipped(self.around.clock.now(), len(steps) - index)
        if then == "user":
            self.retire(f"check failed: {kind}")
        elif self._state == "in a round":
            await self._skip(steps[index - 1 :])
        return "round"

    async def _at_once(self, step: CompiledStep) -> tuple[str, Then]:
        """All requests of a step in parallel: (first kind of failure or "", its worst consequence)."""
        recorder, loop = self.around.recorder, asyncio.get_running_loop()
        due = self.around.clock.now()
        self._opens = [(step.series, due), *((request.series, due) for request in step.requests)]
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
        await asyncio.gather(*waits)
        self._opens = []
        self._walk.asked = True
        self._walk.went = self._walk.went or any(not asker.kind for asker in askers)
        last = max(asker.ended for asker in askers)
        failed = [asker for asker in askers if asker.kind]
        if not failed:
            recorder.passed(step.series, due, last)
            return "", "round"
        recorder.missed(step.series, last, round((last - due) * 1e6), failed[0].kind)
        return failed[0].kind, max((asker.then for asker in failed), key=lambda then: SEVERITY[then])

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

    async def wait(self, instant: float) -> None:
        """Until an instant, or until the user is told to leave."""
        clock = self.around.clock
        if self.leaving and self._state != "closing":
            return
        if instant <= clock.now():
            return
        state = self._state
        self._enter("thinking")
        self._thinking = clock.at(instant)
        try:
            await self._thinking
        finally:
            self._thinking = None
        self._enter(state)

    def _thinks(self, step: CompiledStep) -> float:
        """Seconds of think time after a step, drawn where it is drawn."""
        seconds = step.step.think_s
        if step.step.think == "even":
            seconds = self.own.values.maker.random.uniform(seconds, max(seconds, step.step.think_to_s))
        elif step.step.think == "log-normal" and seconds > 0:
            seconds *= self.own.values.maker.random.lognormvariate(0.0, step.step.sigma())
        return seconds * self.around.think_factor

    def pause_after(self, step: CompiledStep) -> "asyncio.Future[None] | None":
        """See Guide."""
        seconds = self._thinks(step)
        if seconds <= 0 or self.leaving:
            return None
        clock = self.around.clock
        self._thought_in = self._state
        self._enter("thinking")
        self._due = clock.now() + seconds
        self._thinking = clock.at(self._due)
        return self._thinking

    def thought(self) -> None:
        """See Guide."""
        if not self.leaving:
            self.around.health.late(self.around.clock.now() - self._due)
        self._thinking = None
        self._enter(self._thought_in)

    async def _think(self, step: CompiledStep) -> None:
        pause = self.pause_after(step)
        if pause is not None:
            await pause
            self.thought()
