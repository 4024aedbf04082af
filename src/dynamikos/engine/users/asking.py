"""Performs one request after the other, from due to judged, driven by the arriving bytes: what
`attempt` decides is done here. A coroutine only where something has to be waited for.
"""

from collections.abc import Callable
from functools import partial

from dynamikos.core.checks import Then
from dynamikos.core.errors import TemplateError
from dynamikos.engine import guard
from dynamikos.engine.failures import Failure
from dynamikos.engine.guard import OverBudget, bounded
from dynamikos.engine.http.caching import Entry, sent_fields
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.ports import Link
from dynamikos.engine.reporting.cells import pack_passed
from dynamikos.engine.reporting.recorder import BATCH
from dynamikos.engine.users.attempt import (
    Again,
    Attempt,
    Destination,
    Fail,
    Move,
    Redirect,
    over_budget,
)
from dynamikos.engine.users.compiled import CompiledRequest, CompiledStep
from dynamikos.engine.users.judging import PASSED, Done
from dynamikos.engine.users.proofs import Proofs
from dynamikos.engine.users.resources import fetch_embedded
from dynamikos.engine.users.user_context import UserContext
from dynamikos.engine.users.user_state import UserState
from dynamikos.engine.users.wire import Flight, Wire
from dynamikos.engine.users.witness import Witness


def nobody_hears() -> None:
    """Of the end of a request whose user has left."""


def nobody_minds(problem: Exception) -> None:
    """An error after its user has left."""


class Asker(Flight):
    """`kind`, `then` and `ended` are what the last request came to: the kind of failure or "", what
    that means, the instant of the last byte. `on_end` is called when a request ends after `ask`
    returned, `on_broke` for an error of ours.
    """

    def __init__(
        self,
        own: UserState,
        context: UserContext,
        wire: Wire,
        witness: Witness,
        proofs: Proofs,
        on_end: Callable[[], None],
        on_broke: Callable[[Exception], None],
    ) -> None:
        super().__init__(wire)
        self._own, self._context, self._witness, self._proofs = own, context, witness, proofs
        self._on_end, self._on_broke = on_end, on_broke
        self._recorder, self._choice = context.recorder, context.choice
        self._rows, self._floor = context.recorder.passed_requests, context.choice.floor.get
        self._now = context.clock.now
        self._everything = context.keep_everything or own.followed
        self.attempt = Attempt(own)
        self.kind, self.ended = "", 0.0
        self.then: Then = "round"
        self._sampled = False
        self._cache = own.cache
        self._entry: Entry | None = (
            None  # what the request at hand asks about, which the user has in its cache
        )
        self._late_s = 0.0  # the user's `late_s` when the request was due
        self._ready = 0.0  # since when the exchange at hand could be sent

    @property
    def late_s(self) -> float:
        """See UserState."""
        return self._own.late_s

    def follow(self) -> None:
        """Whether its user is followed was changed."""
        self._everything = self._sampled = self._context.keep_everything or self._own.followed
        if not self._everything:
            self.before = {}

    def let_go(self) -> None:
        """See Walk: nobody is told any more."""
        self._on_end, self._on_broke = nobody_hears, nobody_minds

    @property
    def place(self) -> Destination:
        return self.attempt.place

    @property
    def asked(self) -> tuple[int, float]:
        """(series, due) of the request at hand."""
        return self.attempt.compiled.series, self.attempt.due

    def ask(
        self, compiled: CompiledRequest, step: CompiledStep, due: float, *, drawn: bool = False
    ) -> bool:
        """Begins a request that is due at `due`; true when it is over already. `drawn`: it has its
        rows.
        """
        self._step, place = step, compiled.plain
        if compiled.draws and not drawn and not self._draws(compiled, due):
            return self.kind != ""
        if self._everything:
            self.before = self._own.shown()
        if place is None:
            try:
                values = self._own.values
                place = (
                    bounded(compiled.build, values)
                    if compiled.calculates
                    else compiled.build(values)
                )
            except TemplateError as problem:
                return self._unsent(compiled, due, Failure("value-missing", str(problem)))
            except OverBudget as problem:
                return self._unsent(compiled, due, Failure("over-budget", str(problem)))
            except Failure as failure:
                return self._unsent(compiled, due, failure)
        choice = self._choice
        if choice.until > 1:
            choice.until -= 1
        else:
            self._sampled = choice.sample()
        attempt = self.attempt
        attempt.compiled, attempt.place, attempt.due = compiled, place, due
        self._late_s, self._ready = self._own.late_s, due
        if attempt.began:
            attempt.fresh()
        self.keep = compiled.keeps_body or self._sampled
        if self._cache is not None and place[1].base.method == "GET":
            self.keep, self._entry = True, None
            over = self._from_cache(place)
            if over is not None:
                return over
        if compiled.prover is None:
            self.wire.send(self, place, self._now())
        else:
            self.wire.task(self._prove, self)
        return False

    def _from_cache(self, place: Destination) -> bool | None:
        """Uses what the user has in its cache: as it is while that is fresh (whether the request is
        over then), else by asking whether it has changed.
        """
        attempt, cache = self.attempt, self._cache
        assert cache is not None
        origin, head, body = place
        entry = cache.find(attempt.url, sent_fields(head.pairs()))
        if entry is None:
            return None
        if not entry.is_fresh(self._context.clock.wall()):
            self._entry = entry
            for name, value in entry.conditions():
                head = head.with_field(name, value)
            attempt.place = origin, head, body
            return None
        reply, now = Reply(), self._now()
        entry.put_into(reply)
        reply.sent_at = reply.first_at = reply.last_at = now
        self._recorder.cached(attempt.compiled.series, now)
        move = attempt.next(reply)
        self.ended = now
        if isinstance(move, Done) and move.kind:
            self.kind, self.then = move.kind, move.then
            self._recorder.missed(attempt.compiled.series, now, 0, move.kind, rows=self._own.rows)
            return True
        if attempt.compiled.embedded:
            self.wire.task(self._embed, self)
            return False
        return True

    def _kept_in_cache(self, reply: Reply) -> None:
        """After an answer: a 304 becomes what the user has; what may be kept is; what was changed
        is not any more.
        """
        attempt, cache = self.attempt, self._cache
        assert cache is not None
        _, head, _ = attempt.place
        url, wall, entry = attempt.url, self._context.clock.wall(), self._entry
        if head.base.method != "GET":
            cache.changed(url, head.base.method, reply.status)
        elif reply.status == 304 and entry is not None:
            cache.renew(url, entry, reply, wall, heuristic=False).put_into(reply)
        else:
            cache.keep(url, reply, sent_fields(head.pairs()), wall, heuristic=False)
        self._entry = None

    def _draws(self, compiled: CompiledRequest, due: float) -> bool:
        """Takes the request's rows; false when they have to be waited for, or there are none."""
        dealer, own = self._context.dealer, self._own
        specs = dealer.used(compiled.draws)
        if not dealer.ready(specs):
            self.attempt.compiled, self.attempt.due = compiled, due
            self.wire.task(partial(self._draw, compiled, due), self)
            return False
        if not dealer.deal(own, specs):
            self._unsent(compiled, due, Failure("rows", own.rows_over))
            return False
        return True

    async def _draw(self, compiled: CompiledRequest, due: float) -> None:
        """Waits for the rows that the request takes."""
        dealer, own = self._context.dealer, self._own
        specs = dealer.used(compiled.draws)
        try:
            await dealer.until_ready(specs)
        except Failure as failure:
            own.rows_over = failure.detail
            self._unsent(compiled, due, Failure("rows", failure.detail))
            self._on_end()
            return
        if not dealer.deal(own, specs):
            self._unsent(compiled, due, Failure("rows", own.rows_over))
            self._on_end()
        elif self.ask(compiled, self._step, due, drawn=True):
            self._on_end()

    async def _prove(self) -> None:
        """Puts in a proof of who sends it, which may need exchanges of its own."""
        attempt = self.attempt
        prover = attempt.compiled.prover
        assert prover is not None
        if attempt.wants_proof:
            try:
                origin, head, _ = attempt.place
                proof = await self._proofs.header(
                    prover, attempt.compiled, origin, head.base.method, head.base.target
                )
            except Failure as failure:
                self._fail(failure)
                return
            attempt.prove(proof)
            # the token's own exchange is counted as such, not as this request's time
            if not prover.is_digest and attempt.hop == 0:
                attempt.due = self._now()
            self._ready = self._now()
        self._send()

    def _send(self) -> None:
        self.wire.send(self, self.attempt.place, self._now())

    # what comes back ------------------------------------------------------------------------------

    def arrived(self, reply: Reply, link: Link) -> None:
        try:
            self.wire.landed(self, reply, link)
            if self.instant > self._ready:
                self._own.late_s += self.instant - self._ready
            self._ready = reply.last_at
            if self._cache is not None:
                self._kept_in_cache(reply)
            try:
                guard.begun = guard.tick  # as guard.bounded does, without the calls
                try:
                    move = self.attempt.next(reply)
                finally:
                    guard.begun = guard.NOTHING
            except OverBudget as problem:
                move = over_budget(str(problem))
            if self.opened and reply.opened_us is not None:
                series = self.attempt.compiled.series
                self._recorder.opened(series, reply.last_at, reply.opened_us, resumed=reply.resumed)
            if move.__class__ is Done:
                self._done(move, reply)
            else:
                self._go_on(move, reply)
        except Exception as problem:
            self.broke(problem)

    def lost(self, failure: Failure, link: Link) -> None:
        try:
            move = self.attempt.lost(failure)
            if move is Again.RETRY:
                self.wire.pool.forget(link)
                self.wire.again(self)
            else:
                self.wire.crashed(self, link)
                self._fail(failure)
        except Exception as problem:
            self.broke(problem)

    def unsent(self, failure: Failure) -> None:
        self._fail(failure)

    def broke(self, problem: Exception) -> None:
        self._on_broke(problem)

    def _go_on(self, move: Move, reply: Reply) -> None:
        """The answer is not the last one."""
        self._recorder.trips.append((self.instant, reply.last_at))
        if move is Again.PROVE:
            self.wire.task(partial(self._asked_again, reply), self)
        elif isinstance(move, Redirect):
            self._keep_hop(reply)
            self.attempt.follow(move, reply)
            if self.attempt.compiled.prover is None:
                self._send()
            else:
                self.wire.task(self._prove, self)
        elif isinstance(move, Fail):
            self._fail(move.failure, move.reply)

    async def _asked_again(self, reply: Reply) -> None:
        """After a 401 (RFC 9110 §11.6.1): once more with a better proof, if there is one."""
        attempt = self.attempt
        prover, refused = attempt.compiled.prover, attempt.proof
        assert prover is not None
        try:
            better = await self._proofs.asked_again(
                prover, attempt.compiled, attempt.place[0], reply, refused
            )
        except Failure as failure:
            self._fail(failure)
            return
        if better:
            self._keep_hop(reply)
            attempt.proof = ""
            attempt.once_more(reply)
            await self._prove()
            return
        move = attempt.next(reply)  # it has been asked for a proof: now it is an answer
        self._done(move if isinstance(move, Done) else PASSED, reply, noted=True)

    def _keep_hop(self, reply: Reply) -> None:
        if self._everything:
            took = round((reply.last_at - reply.sent_at) * 1e6)
            self._witness.exchange(
                self.attempt.compiled, self, "hop", took, self.attempt.hop, reply
            )

    def _done(self, done: Done, reply: Reply, *, noted: bool = False) -> None:
        """The answer is judged: counted, and kept where that is worth it. `noted`: its exchange is,
        already.
        """
        attempt = self.attempt
        compiled, due = attempt.compiled, attempt.due
        self.ended = ended = reply.last_at
        if done.kind:
            self._missed(done, reply, noted=noted)
            return
        for name, series in compiled.numbers:
            if name in done.captured:
                self._recorder.number(series, ended, done.captured[name])
        embedded, missed, rows = compiled.embedded, done.missed, self._rows
        rows.append(
            pack_passed(
                compiled.series,
                -1 if embedded else self._step.whole,
                due,
                -1 if noted else self.instant,
                reply.sent_at,
                reply.first_at,
                ended,
                attempt.bytes_out + reply.bytes_out,
                attempt.bytes_in + reply.bytes_in,
                0 if missed else compiled.count,
                self._own.late_s - self._late_s,
            )
        )
        if len(rows) >= BATCH:
            self._recorder.count()
        if self._sampled or missed or (ended - due) * 1e6 > self._floor(compiled.series, -1):
            self._kept(done, reply, round((ended - due) * 1e6))
        if embedded:
            self.wire.task(self._embed, self)
        else:
            self._on_end()

    def _kept(self, done: Done, reply: Reply, duration_us: int) -> None:
        """A passed request that may be worth keeping."""
        compiled, self.replaced = self.attempt.compiled, done.replaced
        if done.missed:
            self._recorder.checks(
                self.ended, compiled.first_check, len(compiled.checks), done.missed
            )
        if self._sampled:
            reason = self._why() if self._everything else "sample"
            self._sampled = self._everything
        else:
            reason = self._choice.slowest(compiled.series, duration_us)
        if reason:
            self._witness.exchange(
                compiled, self, reason, duration_us, self.attempt.hop, reply, done
            )

    def _why(self) -> str:
        """Why everything is kept."""
        return "kept" if self._context.keep_everything else "followed"

    def _missed(self, done: Done, reply: Reply, *, noted: bool) -> None:
        """A request whose answer is not right."""
        attempt, recorder = self.attempt, self._recorder
        compiled, self.replaced = attempt.compiled, done.replaced
        self.kind, self.then, self._sampled = done.kind, done.then, self._everything
        duration = round((self.ended - attempt.due) * 1e6)
        if not noted:
            recorder.trips.append((self.instant, self.ended))
        out, into = attempt.bytes_out + reply.bytes_out, attempt.bytes_in + reply.bytes_in
        recorder.missed(compiled.series, self.ended, duration, done.kind, out, into, self._own.rows)
        if done.asked:
            recorder.checks(self.ended, compiled.first_check, len(compiled.checks), done.missed)
        self._own.missed(done.kind, self.ended)
        if reason := self._choice.failed(compiled.series, done.kind) or (
            self._everything and self._why()
        ):
            self._witness.exchange(compiled, self, reason, duration, attempt.hop, reply, done)
        self._on_end()

    async def _embed(self) -> None:
        """The page's resources: the request ends with the last one."""
        step = self._step
        last = await fetch_embedded(
            self.attempt.compiled,
            step,
            self.url,
            self._own,
            self._context,
            self.wire,
            self._witness,
        )
        self.ended = max(self.ended, last)
        if step.whole >= 0:
            self._recorder.passed(
                step.whole, self.attempt.due, self.ended, self._own.late_s - self._late_s
            )
        self._on_end()

    def _unsent(self, compiled: CompiledRequest, due: float, failure: Failure) -> bool:
        """It could not even be built."""
        self.then = "round"
        self.kind, self.ended = self._witness.unsent(compiled, due, failure)
        return True

    def _fail(self, failure: Failure, reply: Reply | None = None) -> None:
        """There is no answer to judge."""
        attempt = self.attempt
        compiled, out, into = attempt.compiled, attempt.bytes_out, attempt.bytes_in
        if reply is not None:
            out, into = out + reply.bytes_out, into + reply.bytes_in
        ended = self._now() if reply is None else reply.last_at
        duration = round((ended - attempt.due) * 1e6)
        self._recorder.missed(
            compiled.series, ended, duration, failure.kind, out, into, self._own.rows
        )
        self._own.missed(failure.kind, ended)
        if reason := self._choice.failed(compiled.series, failure.kind) or (
            self._everything and self._why()
        ):
            self._witness.exchange(
                compiled, self, reason, duration, attempt.hop, reply, error=failure.detail
            )
        self.kind, self.then, self.ended, self._sampled = (
            failure.kind,
            "round",
            ended,
            self._everything,
        )
        self._on_end()
