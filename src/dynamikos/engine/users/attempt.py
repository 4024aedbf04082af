"""One request until it is done: what its answers ask for. Pure: no network, no clock, no
counting.
"""

from dataclasses import dataclass
from enum import Enum

from dynamikos.core.exchanges.model import REDIRECTS
from dynamikos.engine.failures import Failure, Reopen
from dynamikos.engine.http.messages import Body, Head
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.ports import Origin
from dynamikos.engine.users.compiled import MAX_HOPS, CompiledRequest, located, resolve, split_url
from dynamikos.engine.users.judging import PASSED, Done, judged
from dynamikos.engine.users.user_state import UserState

# RFC 9110 §9.2.2: may be sent once more when a kept connection was closed before anything of the
# answer came
IDEMPOTENT = frozenset(("GET", "HEAD", "OPTIONS", "PUT", "DELETE", "TRACE"))


Destination = tuple[Origin, Head, Body]


class Again(Enum):
    """Sends the same once more: over another connection, or with a proof of who sends it."""

    RETRY = "retry"
    PROVE = "prove"


@dataclass(slots=True)
class Redirect:
    """Goes on at another address (RFC 9110 §15.4)."""

    place: Destination


@dataclass(slots=True)
class Fail:
    """There is no answer that could be judged. `reply` is what came instead, if anything."""

    failure: Failure
    reply: Reply | None = None


Move = Done | Redirect | Again | Fail


class Attempt:
    """What one user does about one request after the other. `place` is where the one at hand goes
    next, with its head and body. `hop` counts exchanges before the one at hand, `bytes_out` and
    `bytes_in` are theirs, `trail` their addresses. Only its first origin is told who sends it.
    """

    compiled: CompiledRequest
    place: Destination
    due = 0.0
    began = False  # whether anything below is not as it is at the beginning
    hop = 0
    bytes_out = 0
    bytes_in = 0
    proof = ""
    trail: list[str] | None = None
    _bare: Head | None = None  # the head at hand without a proof, once there is one
    _left_home = False
    _retried = False
    _asked_again = False

    def __init__(self, own: UserState) -> None:
        self._own = own

    def begin(self, compiled: CompiledRequest, place: Destination, due: float) -> None:
        """A request that was due at `due`. Where that counts the three may be set directly, and
        `fresh` called where something `began`.
        """
        self.compiled, self.place, self.due = compiled, place, due
        if self.began:
            self.fresh()

    def fresh(self) -> None:
        """Nothing is left of the request before."""
        self.began = False
        self.hop = self.bytes_out = self.bytes_in = 0
        self.proof, self.trail, self._bare = "", None, None
        self._left_home = self._retried = self._asked_again = False

    @property
    def url(self) -> str:
        """Where it goes, whole."""
        origin, head, _ = self.place
        return f"{origin[0]}://{head.base.host}{head.base.target}"

    @property
    def wants_proof(self) -> bool:
        """Whether the exchange at hand has to prove who sends it: at its own origin only."""
        return self.compiled.prover is not None and not self._left_home and not self.proof

    def next(self, reply: Reply) -> Move:
        """What an answer asks for. It may take captures into the user's values."""
        compiled, status = self.compiled, reply.status
        if status < 300:
            if not (compiled.looks or reply.encoding):
                return PASSED
        else:
            if (
                status == 401
                and compiled.prover is not None
                and not self._asked_again
                and not self._left_home
            ):
                self.began = self._asked_again = True  # §11.6.1: once, with what the challenge says
                return Again.PROVE
            if status in REDIRECTS and (location := reply.field(b"location")) is not None:
                return self._redirected(reply, location)
        trail = (*(self.trail or ()), self.url) if compiled.reads_addresses else ()
        return judged(compiled, reply, self._own, trail, (reply.last_at - self.due) * 1e3)

    def lost(self, failure: Failure) -> Again | Fail:
        """What a failed exchange asks for."""
        if (
            isinstance(failure, Reopen)
            and not self._retried
            and self.place[1].base.method in IDEMPOTENT
        ):
            self.began = self._retried = True
            return Again.RETRY
        return Fail(failure)

    def _redirected(self, reply: Reply, location: bytes) -> Redirect | Fail:
        if self.hop >= MAX_HOPS:
            last = location.decode("latin-1")[:200]
            told = f"redirected more than {MAX_HOPS} times; the last address is {last}"
            return Fail(Failure("redirect-loop", told), reply)
        try:
            url = resolve(self.url, located(location))  # §10.2.2: relative to where it was asked
            origin, host, target = split_url(url)
        except Failure as failure:
            return Fail(failure)
        was, head, body = self.place
        method = head.base.method
        if reply.status == 303 or (reply.status in (301, 302) and method == "POST"):
            method, body = (
                ("HEAD" if method == "HEAD" else "GET"),
                b"",
            )  # §15.4.2 to §15.4.4; 307 and 308 keep both
        head = (self._bare or head).redirected(
            method,
            target,
            host,
            keeps_body=bool(body),
            same_origin=origin == was,
            private=self.compiled.private,
        )
        return Redirect((origin, head, body))

    def follow(self, move: Redirect, reply: Reply) -> None:
        """The exchange at hand becomes that of the redirect that `reply` was."""
        self.began, self.trail = True, [*(self.trail or ()), self.url]
        self._left_home = self._left_home or move.place[0] != self.place[0]
        self.place, self._bare, self.proof = move.place, None, ""
        self.once_more(reply)

    def prove(self, proof: str) -> None:
        """Puts a proof into the head; "" while none was asked for."""
        origin, head, body = self.place
        bare = self._bare = self._bare or head
        self.began, self.proof = True, proof
        self.place = origin, bare.with_field("Authorization", proof) if proof else bare, body

    def once_more(self, reply: Reply) -> None:
        """Another exchange begins after the one that `reply` answered."""
        self.hop += 1
        self.bytes_out += reply.bytes_out
        self.bytes_in += reply.bytes_in
        self.began, self._retried = True, False


def over_budget(words: str) -> Done:
    """Captures and checks that were cut off."""
    return Done.failed("over-budget", "captures and checks that are done within their time", words)
