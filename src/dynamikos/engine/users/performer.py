"""A virtual user: performs opening, rounds and closing, and tells the recorder what happened."""

import asyncio
import logging
import time
from collections.abc import Awaitable, Callable
from pathlib import Path

from dynamikos.core.checks import Then, Verdict
from dynamikos.core.errors import TemplateError
from dynamikos.core.exchanges.model import REDIRECTS
from dynamikos.core.frozen import stream
from dynamikos.core.values import Maker, Values
from dynamikos.engine import guard
from dynamikos.engine.failures import Failure, Reopen
from dynamikos.engine.guard import OverBudget, bounded
from dynamikos.engine.http.cookies import CookieJar, keeps_secrets
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.ports import Link, Origin, Sessions
from dynamikos.engine.reporting.recorder import BATCH
from dynamikos.engine.users.chain import Chain
from dynamikos.engine.users.compiled import MAX_HOPS, CompiledRequest, CompiledStep, located, resolve, split_url
from dynamikos.engine.users.dealing import Hand
from dynamikos.engine.users.items import Items, Outcome
from dynamikos.engine.users.judging import SEVERITY, judged, redirected_head, with_cookie
from dynamikos.engine.users.proofs import Proofs
from dynamikos.engine.users.resources import fetch_embedded
from dynamikos.engine.users.surroundings import Surroundings
from dynamikos.engine.users.witness import Witness

IDEMPOTENT = frozenset(("GET", "HEAD", "OPTIONS", "PUT", "DELETE", "TRACE"))  # RFC 9110 §9.2.2
IDLE_ROUND_S = 0.1
LONGEST_PAUSE_S = 30.0  # after failed rounds
log = logging.getLogger(__name__)


class User:
    """One virtual user. `perform` returns the reason why it ended."""

    def __init__(self, number: int, around: Surroundings, *, rounds: int | None = None) -> None:
        self.number, self.around, self._rounds_left = number, around, rounds
        maker = Maker(
            lambda: stream(around.seed, "values", "", number),
            around.wall_us,
            run_count=around.run_count,
            known=around.known,
        )
        self.values = Values({"user.number": str(number), "round.number": "0"}, maker)
        self.jar = CookieJar()
        self.round = 0
        self._links: dict[Origin, list[Link]] = {}
        self.leaving = False
        self.begun = 0.0  # the round at hand
        self.retired = ""  # why a check made it leave
        self._thinking: asyncio.Future[None] | None = None
        self._state = ""
        self._chain = Chain(self)
        self.then: Then = "round"  # what the failure of the last request means
        self.witness, self._proofs, self._items = Witness(self), Proofs(self), Items(self)
        self.hand = Hand()  # which rows of the data it holds
        self.rows_over = ""  # why it gets none any more
        self.replaced: dict[str, str | None] = {}  # what the request at hand captured over: the values before
        self.before: dict[str, str] = {}  # its values before the request at hand, where everything is kept
        self._asked = False  # whether the round at hand got as far as sending a request
        self._cookies_taken: tuple[object, str, str] | None = None  # what the last answer set, from where
        self._cookie_line: tuple[Origin, str, str] | None = None  # what was sent to where, while the jar stays as it is
        self.cookie_sent = ""  # by the last exchange that went the long way
        self.sessions: Sessions = {}  # TLS sessions to resume, as a browser keeps them
        self._opens: list[tuple[int, float]] = []  # steps and requests under way: series, due
        self._went = False  # whether a request of the round at hand went well
        self._failing = 0  # rounds that failed at their first request, one after the other

    def leave(self) -> None:
        """Gently: the step at hand is finished, think time cut short, closing performed."""
        self.leaving = True
        if self._thinking is not None and not self._thinking.done():
            self._thinking.set_result(None)

    async def perform(self) -> str:
        try:
            self._enter("opening")
            if not await self._dealt(self.around.dealer.begin):
                return self._used_up()
            if await self.part(self.around.script.opening) == "round":
                reason = self.retired or "opening failed"
                self.around.recorder.retired(self.around.clock.now(), reason)
                return reason
            await self._rounds()
            if self.retired:
                self.around.recorder.retired(self.around.clock.now(), self.retired)
                return self.retired
            self._enter("closing")
            await self.part(self.around.script.closing, leaving=True)
            return self._used_up() if self.rows_over else "done"
        except Exception as problem:  # ours: said as such, counted, and nobody else is ended by it
            self._broke(problem)
            return "broke"
        finally:
            self._enter("")
            for links in self._links.values():
                for link in links:
                    link.close()

    async def clean_up(self) -> None:
        """Each step of the clean-up, also when one before it failed, over connections of its own."""
        self._links.clear()
        try:
            for step in self.around.script.cleanup:
                await self.part([step], leaving=True)
        finally:
            for links in self._links.values():
                for link in links:
                    link.close()

    def _broke(self, problem: Exception) -> None:
        log.exception("user %s broke", self.number)
        recorder, now = self.around.recorder, self.around.clock.now()
        kind = f"engine-error: {type(problem).__name__}"
        recorder.missed(0, now, 0, kind)
        recorder.retired(now, f"broke: {type(problem).__name__}: {problem}"[:120])

    def open_now(self) -> list[tuple[int, float]]:
        """(series, due) of the round, steps and requests that are under way."""
        found = [*self._opens, *self._chain.open_now()]
        if self.round and self._state in ("in a round", "thinking"):
            found.append((0, self.begun))
        return found

    def _consequence(self) -> Then:
        """What the failure of the last request means for its step, round and user."""
        return self.then

    def choose(self, count: int) -> int:
        """A number below `count`, from the user's own stream of the run's seed."""
        return self.values.maker.random.randrange(count)

    # parts ---------------------------------------------------------------------------------------------

    def _enter(self, state: str) -> None:
        if state == self._state:
            return
        self.around.recorder.move(self._state, state)
        self._state = state

    async def _dealt(self, deal: "Callable[[User], Awaitable[bool]]") -> bool:
        """Whether the user has its rows. Rows that can't be had for now (the database is away) make it leave, as used
        up ones do.
        """
        try:
            return await deal(self)
        except Failure as failure:
            self.rows_over = failure.detail
            return False

    def _used_up(self) -> str:
        self.around.recorder.retired(self.around.clock.now(), self.rows_over)
        return "used up"

    async def _rounds(self) -> None:
        around, recorder, now = self.around, self.around.recorder, self.around.clock.now
        self.begun = now()
        while not self.leaving and self._rounds_left != 0 and not self.retired:
            if self.round and around.deals and not await self._dealt(around.dealer.round):
                return
            self.round += 1
            self._asked = self._went = False
            self.values["round.number"] = str(self.round)
            if self._state != "in a round":
                self._enter("in a round")
            outcome = await self.part(around.script.rounds, over_rounds=self._rounds_left is None)
            passed, ended = not outcome, now()
            if self._rounds_left is not None:
                self._rounds_left -= 1
            elif self.leaving:
                return  # cut short: neither a passed nor a failed round
            if passed:
                recorder.stretches.append((0, self.begun, ended))
            else:
                recorder.missed(0, ended, round((ended - self.begun) * 1e6), "a step failed")
            if outcome == "round" and self._rounds_left != 0:
                await self._after_failure(ended)
            if not self._asked:  # a round that sends nothing must not keep all others waiting
                await self.wait(ended + IDLE_ROUND_S)
            self.begun = ended if passed and self._asked else now()

    async def _after_failure(self, ended: float) -> None:
        """A pause after a failed round, so that a server that is down is not asked faster than one that works: at least
        the plan's, and twice as long each time while rounds fail at their first request, up to half a minute.
        """
        self._failing = 0 if self._went else self._failing + 1
        pause = self.around.failed_pause_s
        await self.wait(ended + min(max(pause, LONGEST_PAUSE_S), pause * 2.0 ** min(30, max(0, self._failing - 1))))

    async def _skip(self, steps: list[CompiledStep]) -> None:
        """The think times of what is skipped: a person who meets an error does not come back at once."""
        seconds = sum(self._thinks(step) for step in steps)
        if seconds > 0:
            await self.wait(self.around.clock.now() + seconds)

    async def part(self, steps: list[CompiledStep], *, leaving: bool = False, over_rounds: bool = False) -> Outcome:
        """Performs steps with their think times: "" when all passed, "step" when one failed, "round" when the rest was
        skipped.

        `over_rounds`: the part is the rounds' and quick steps may go on into further ones, which are then noted
        already.
        """
        recorder, now, chain = self.around.recorder, self.around.clock.now, self._chain
        index, failed = 0, False
        while index < len(steps):
            step = steps[index]
            if self.leaving and not leaving and self._state == "in a round":
                return ""
            if step.item is not None:
                outcome = await self._items.perform(step, leaving=leaving)
                index += 1
                failed = failed or bool(outcome)
                if outcome == "round":
                    recorder.skipped(now(), len(steps) - index)
                    if self._state == "in a round":
                        await self._skip(steps[index - 1 :])
                    return "round"
                if step.thinks and not leaving:
                    await self._think(step)
                continue
            had: Reply | Failure | None = None
            self._asked = True
            if step.quick is not None and (link := self._ready(step.quick)) is not None:
                try:
                    had = await chain.begin(link, steps, index, step.quick, over_rounds=over_rounds and not failed)
                except Failure as failure:
                    had = failure
                except asyncio.CancelledError:  # stopped now: it stays in flight in the last report
                    link.close()
                    raise
                if link.alive:
                    self._links[step.quick.origin].append(link)
                if over_rounds:
                    self.values["round.number"] = str(self.round)
                self._went = self._went or chain.index > index
                index = chain.index
                if had is None:
                    if chain.pause is not None and not leaving:
                        await self._think(chain.pause)
                    continue
                step = chain.step
                if isinstance(had, Reply):
                    recorder.landed(chain.span, had.last_at, failed=False)
            begun = due = chain.due if had is not None else now()
            waited = 0.0  # the engine's own computing between exchanges is not the server's time
            kind, last = "", begun
            self.then = "round"
            under_way = (step.series, begun)
            self._opens.append(under_way)
            if step.step.at_once and len(step.requests) > 1:
                kind, last = await self._at_once(step, due)
            else:
                for request in step.requests:
                    if due != begun:
                        waited += due - last
                    asked = (request.series, due)
                    self._opens.append(asked)
                    kind, last = await self._request(request, step, due, had)
                    self._opens.remove(asked)
                    if kind:
                        break
                    self._went = True
                    due, had = now(), None
            self._opens.remove(under_way)
            index += 1
            if kind:
                recorder.missed(step.series, last, round((last - begun - waited) * 1e6), kind)
                if self._consequence() == "step":  # only this step has failed
                    failed = True
                    if step.thinks and not leaving:
                        await self._think(step)
                    continue
                recorder.skipped(now(), len(steps) - index)
                if self._consequence() == "user":
                    self.retired = f"check failed: {kind}"
                    return "round"
                if self._state == "in a round":
                    await self._skip(steps[index - 1 :])
                return "round"
            if step.requests:
                recorder.stretches.append((step.series, begun + waited, last))  # counted with the exchanges
            if step.thinks and not leaving:
                await self._think(step)
        return "step" if failed else ""

    async def _at_once(self, step: CompiledStep, due: float) -> tuple[str, float]:
        """All requests of a step in parallel: (first kind of failure, with the worst consequence; instant of the last
        byte).
        """
        worst: list[Then] = []

        async def one(request: CompiledRequest) -> tuple[str, float]:
            asked = (request.series, due)
            self._opens.append(asked)
            kind, ended = await self._request(request, step, due)
            self._opens.remove(asked)
            if kind:
                worst.append(self.then)
            return kind, ended

        found = await asyncio.gather(*(one(request) for request in step.requests))
        if worst:
            self.then = max(worst, key=lambda then: SEVERITY[then])
        return next((kind for kind, _ in found if kind), ""), max(ended for _, ended in found)

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
            seconds = self.values.maker.random.uniform(seconds, max(seconds, step.step.think_to_s))
        elif step.step.think == "log-normal" and seconds > 0:
            seconds *= self.values.maker.random.lognormvariate(0.0, step.step.sigma())
        return seconds * self.around.think_factor

    async def _think(self, step: CompiledStep) -> None:
        seconds = self._thinks(step)
        if seconds <= 0 or self.leaving:
            return
        clock = self.around.clock
        state = self._state
        self._enter("thinking")
        instant = clock.now() + seconds
        self._thinking = clock.at(instant)
        await self._thinking
        if not self.leaving:
            self.around.health.late(clock.now() - instant)
        self._thinking = None
        self._enter(state)

    # a request -----------------------------------------------------------------------------------------

    def _ready(self, compiled: CompiledRequest) -> Link | None:
        """A link that stands open for a request in which nothing varies; None where more is needed than that."""
        links = self._links.get(compiled.origin)
        if not links or self.around.choice.until <= 1 or self.jar.cookies or self.around.cap is not None:
            return None
        link = links.pop()
        return link if link.alive else None

    async def _request(
        self, compiled: CompiledRequest, step: CompiledStep, due: float, had: Reply | Failure | None = None
    ) -> tuple[str, float]:
        """Performs a request that is due now: (kind of failure or "", instant of the last byte).

        `had` is what a quick try ended with.
        """
        around = self.around
        clock, recorder = around.clock, around.recorder
        self.then, self.replaced = "round", {}
        if compiled.draws and not await self._dealt(lambda user: around.dealer.use(user, compiled.draws)):
            self.leave()
            return self.witness.unsent(compiled, due, Failure("rows", self.rows_over))
        if around.keep_everything:
            self.before = dict(self.values)
        try:
            origin, host, target, head, body = compiled.plain or (
                bounded(compiled.build, self.values) if compiled.calculates else compiled.build(self.values)
            )
        except TemplateError as problem:
            return self.witness.unsent(compiled, due, Failure("value-missing", str(problem)))
        except OverBudget as problem:
            return self.witness.unsent(compiled, due, Failure("over-budget", str(problem)))
        except Failure as failure:
            return self.witness.unsent(compiled, due, failure)
        choice = around.choice
        if choice.until > 1:
            choice.until -= 1
            sampled = False
        else:
            sampled = choice.sample()
        method, hop = compiled.method, 0
        bytes_out = bytes_in = 0
        trail: list[str] = []  # addresses the request was redirected from
        bare, first, proof, again = head, origin, "", compiled.prover is not None
        keeps_body, instant, span = compiled.keeps_body or sampled, due, self._chain.span
        while True:
            try:
                if isinstance(had, Reply):
                    reply, had = had, None
                    if reply.cookies is not None:
                        self._take_cookies(reply, origin, target)
                else:
                    if compiled.prover is not None and origin == first and not proof:
                        proof = await self._proofs.header(compiled.prover, compiled, origin, method, target)
                        head = bare + (f"Authorization: {proof}\r\n".encode() if proof else b"")
                        # the token's own exchange is counted as such, not as this request's time
                        if not compiled.prover.is_digest:
                            instant = clock.now()
                            due = instant if hop == 0 else due
                    span = self._chain.span if had is not None else next(around.spans)
                    if compiled.apart:
                        file = compiled.file if method == compiled.method else None
                        reply = await self.hop(
                            origin, target, method, head, body, span, keeps_body, instant, had, file, compiled.expects
                        )
                    else:
                        reply = await self.hop(origin, target, method, head, body, span, keeps_body, instant, had)
            except Failure as failure:
                self.then = "round"  # requests sent at once may have said otherwise meanwhile
                ended = clock.now()
                duration = round((ended - due) * 1e6)
                recorder.missed(compiled.series, ended, duration, failure.kind, bytes_out, bytes_in)
                self.witness.failure(
                    compiled,
                    failure.kind,
                    method,
                    f"{origin[0]}://{host}{target}",
                    head,
                    body,
                    duration,
                    span,
                    hop,
                    error=failure.detail,
                )
                return failure.kind, ended
            bytes_out += reply.bytes_out
            bytes_in += reply.bytes_in
            if reply.opened_us is not None:
                recorder.opened(compiled.series, reply.last_at, reply.opened_us, resumed=reply.resumed)
            if reply.status == 401 and again and origin == first and compiled.prover is not None:
                refused, again, proof = proof, False, ""
                try:
                    better = await self._proofs.asked_again(compiled.prover, compiled, origin, reply, refused)
                except Failure as failure:
                    return self.witness.unsent(compiled, due, failure)
                if better:
                    if around.keep_everything:
                        hop_us = round((reply.last_at - reply.sent_at) * 1e6)
                        self.witness.keep(
                            compiled,
                            "hop",
                            method,
                            f"{origin[0]}://{host}{target}",
                            head,
                            body,
                            hop_us,
                            span,
                            hop,
                            reply,
                        )
                    hop, instant, had = hop + 1, clock.now(), None
                    continue
            if reply.status not in REDIRECTS:
                break
            location = reply.header(b"location")
            if location is None:
                break
            if hop >= MAX_HOPS:
                ended = reply.last_at
                recorder.missed(
                    compiled.series, ended, round((ended - due) * 1e6), "redirect-loop", bytes_out, bytes_in
                )
                reason = choice.failed(compiled.series, "redirect-loop")
                if reason:
                    told = (
                        f"redirected more than {MAX_HOPS} times; the last address is {location.decode('latin-1')[:200]}"
                    )
                    url = f"{origin[0]}://{host}{target}"
                    self.witness.keep(
                        compiled,
                        reason,
                        method,
                        url,
                        head,
                        body,
                        round((ended - due) * 1e6),
                        span,
                        hop,
                        reply,
                        error=told,
                    )
                return "redirect-loop", ended
            url = f"{origin[0]}://{host}{target}"
            trail.append(url)
            if around.keep_everything:
                hop_us = round((reply.last_at - reply.sent_at) * 1e6)
                self.witness.keep(compiled, "hop", method, url, head, body, hop_us, span, hop, reply)
            hop, instant, had = hop + 1, clock.now(), None
            was = origin
            try:
                url = resolve(url, located(location))
                origin, host, target = split_url(url)
            except Failure as failure:
                return self.witness.unsent(compiled, due, failure)
            if reply.status == 303 or (reply.status in (301, 302) and method == "POST"):  # RFC 9110 §15.4
                method, body = ("HEAD" if method == "HEAD" else "GET"), b""
            head = bare = redirected_head(
                method,
                target,
                host,
                bare if compiled.prover is not None else head,
                body,
                same_origin=was == origin,
                private=compiled.private,
            )
            proof = ""
        ended = reply.last_at
        duration = round((ended - due) * 1e6)
        if compiled.captures or compiled.checks or reply.status >= 400 or reply.encoding:
            try:
                guard.begin()
                try:
                    kind, verdict, captured, view = judged(
                        self,
                        compiled,
                        reply,
                        [*trail, f"{origin[0]}://{host}{target}"] if compiled.reads_addresses else (),
                        duration,
                    )
                finally:
                    guard.end()
            except OverBudget as problem:
                kind, captured, view = "over-budget", {}, None
                verdict = Verdict(kind, "captures and checks that are done within their time", str(problem))
        else:
            kind, verdict, captured, view = "", None, {}, None
        if kind:
            recorder.missed(compiled.series, ended, duration, kind, bytes_out, bytes_in)
            reason = around.choice.failed(compiled.series, kind)
            if reason:
                url = f"{origin[0]}://{host}{target}"
                self.witness.keep(
                    compiled, reason, method, url, head, body, duration, span, hop, reply, view, verdict, captured
                )
        else:
            exchanges = recorder.exchanges  # as recorder.answered does, without the call
            exchanges.append((compiled.series, -1, due, reply.sent_at, reply.first_at, ended, bytes_out, bytes_in))
            if len(exchanges) >= BATCH:
                recorder.count()
            reason = ""
            if sampled:
                reason = "kept" if around.keep_everything else "sample"
            elif duration > around.choice.floor.get(compiled.series, -1):
                reason = around.choice.slowest(compiled.series, duration)
            if reason:
                url = f"{origin[0]}://{host}{target}"
                self.witness.keep(
                    compiled, reason, method, url, head, body, duration, span, hop, reply, view, verdict, captured
                )
        if compiled.embedded and not kind:
            ended = max(ended, await fetch_embedded(self, compiled, step, f"{origin[0]}://{host}{target}"))
        return kind, ended

    async def hop(
        self, origin: Origin, target: str, method: str, head: bytes, body: bytes, span: int, keep: bool, instant: float,
        failed: Failure | None = None, file: Path | None = None, expects: bool = False,
    ) -> Reply:  # fmt: skip
        """One exchange on the wire, once more if a kept connection had been closed meanwhile (RFC 9110 §9.2.2).

        `failed` is what a first try, counted as sent, ended with; `file` is a body that is sent piece by piece;
        `expects`: the body waits for the server's word.
        """
        around, recorder, jar = self.around, self.around.recorder, self.jar
        if not jar.cookies:
            cookie = ""
        elif self._cookie_line is not None and self._cookie_line[0] == origin and self._cookie_line[1] == target:
            cookie = self._cookie_line[2]
        else:
            cookie = jar.header(origin[1], target.partition("?")[0], keeps_secrets(origin[0], origin[1]), time.time())
            lasting = all(each.expires is None for each in jar.cookies.values())
            self._cookie_line = (origin, target, cookie) if lasting else None
        if not cookie:
            line = head
        elif b"ookie:" in head:  # one of its own: one header holds both (RFC 6265 §5.4)
            line, cookie = with_cookie(head, cookie)
        else:
            line = b"%bCookie: %b\r\n" % (head, cookie.encode("latin-1", "replace"))
        self.cookie_sent = cookie
        expects = expects and bool(body)
        data = b"%b%b%016x-01\r\n\r\n%b" % (line, around.trace_line, span, b"" if expects else body)
        idle = self._links.get(origin)
        if idle is None:
            idle = self._links[origin] = []
        if not idle:
            around.network.check(origin)  # what is not agreed is not even counted as sent
        if around.cap is not None:
            await around.cap.pass_one(around.clock, waits=around.keep_everything)
        if failed is None:  # as recorder.sent does, without the call
            recorder.flying[span] = instant
            recorder.sends.append(instant)
        link: Link | None = None
        tried = failed is not None
        try:
            if failed is not None:
                if not isinstance(failed, Reopen) or method not in IDEMPOTENT:
                    raise failed
                recorder.reopened(around.clock.now())
            while True:
                opened = False
                link = idle.pop() if idle else None
                while link is not None and not link.alive:
                    link = idle.pop() if idle else None
                if link is None:
                    link = await around.network.open(origin, self.sessions)
                    opened = True
                try:
                    if expects or file is not None:
                        held = body if file is None else file.open("rb")
                        reply = await link.exchange(data, head_only=method == "HEAD", keep=keep, held=held)
                    else:
                        reply = await link.exchange(data, head_only=method == "HEAD", keep=keep)
                    break
                except Reopen:
                    if tried or method not in IDEMPOTENT:
                        raise
                    tried = True
                    recorder.reopened(around.clock.now())
        except Exception as problem:
            if isinstance(problem, Failure) and problem.kind == "not-agreed":
                recorder.withdrawn(span, instant)
            else:
                recorder.landed(span, around.clock.now(), failed=True)
            if link is not None and not isinstance(problem, Failure):
                link.close()
            raise
        except asyncio.CancelledError:  # stopped now: it stays in flight in the last report
            if link is not None:
                link.close()
            raise
        del recorder.flying[span]  # as recorder.landed does
        recorder.landings.append(reply.last_at)
        if opened:
            reply.opened_us, reply.resumed = link.connect_parts_us, link.remember(origin, self.sessions)
        if link.alive:
            idle.append(link)
        if reply.cookies is not None and (reply.cookies, origin[1], target) != self._cookies_taken:
            self._take_cookies(reply, origin, target)
        return reply

    def _take_cookies(self, reply: Reply, origin: Origin, target: str) -> None:
        taken = (reply.cookies, origin[1], target)
        if taken == self._cookies_taken:
            return  # the same again, as most servers say it with every answer
        path, now = target.partition("?")[0], time.time()
        self._cookies_taken, self._cookie_line = (
            (None if any(b"xpires" in each or b"ax-age" in each.lower() for each in reply.cookies or ()) else taken),
            None,
        )
        for value in reply.cookies or ():
            self.jar.take(
                value.decode("latin-1"), origin[1], path, now, from_secure=keeps_secrets(origin[0], origin[1])
            )
