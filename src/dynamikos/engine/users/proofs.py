"""A user's own proofs: Digest challenges it was given, tokens it waits for."""

from dynamikos.core.errors import TemplateError
from dynamikos.core.exchanges import decode_body
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.digest import Challenge, challenge_in
from dynamikos.engine.http.messages import Base, Fields, Head
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.ports import Origin
from dynamikos.engine.users.compiled import CompiledRequest, split_url
from dynamikos.engine.users.filling import in_header
from dynamikos.engine.users.proving import Prover, token_in, token_request
from dynamikos.engine.users.user_context import UserContext
from dynamikos.engine.users.user_state import UserState
from dynamikos.engine.users.wire import Wire
from dynamikos.engine.users.witness import Witness


class Proofs:
    """What one user answers when it is asked who it is."""

    def __init__(self, own: UserState, context: UserContext, wire: Wire, witness: Witness) -> None:
        self._own, self._context, self._wire, self._witness = own, context, wire, witness
        self._challenges: dict[Origin, Challenge] = {}

    async def header(
        self, prover: Prover, compiled: CompiledRequest, origin: Origin, method: str, target: str
    ) -> str:
        """The value of the Authorization header; "" while nothing was asked for yet.

        Raises Failure, also for a value that would end the line.
        """
        try:
            filled = prover.filled(self._own.values)
            if not prover.is_digest:
                return in_header("Bearer " + await self._token(prover, filled, compiled))
            challenge = self._challenges.get(origin)
            if challenge is None:
                return ""
            cnonce = f"{self._own.values.maker.random.getrandbits(64):016x}"
            return in_header(challenge.answer(method, target, filled[0], filled[1], cnonce))
        except TemplateError as problem:
            raise Failure("value-missing", str(problem)) from problem

    async def asked_again(
        self, prover: Prover, compiled: CompiledRequest, origin: Origin, reply: Reply, refused: str
    ) -> bool:
        """After a 401: whether the request can be sent again with a better proof.

        Raises Failure when no token can be had.
        """
        if not prover.is_digest:
            await self._token(
                prover, prover.filled(self._own.values), compiled, refused.removeprefix("Bearer ")
            )
            return True
        asked = [
            value.decode("latin-1")
            for name, value in reply.headers
            if name.lower() == b"www-authenticate"
        ]
        challenge = challenge_in(asked)
        if challenge is None:
            return False
        stale = any(
            "stale=true" in each.lower().replace(" ", "").replace('"', "") for each in asked
        )
        if refused and not stale and self._challenges[origin].nonce == challenge.nonce:
            return False  # the same nonce again: it is the user or the password that is wrong
        self._challenges[origin] = challenge
        return True

    async def _token(
        self, prover: Prover, filled: tuple[str, ...], compiled: CompiledRequest, refused: str = ""
    ) -> str:
        context = self._context

        async def fetch() -> tuple[str, float]:
            address, headers, body = token_request(filled, form=prover.form)
            due, series = context.clock.now(), context.script.token_series
            try:
                origin, host, target = split_url(address)
                fields = Fields((("User-Agent", "Dynamikos/0.1"), *headers))
                head = Head(Base("POST", target, host, fields))
                flight = self._wire.exchange(origin, head, body, keep=True)
                reply = await flight.reply
                encoding = reply.encoding
                content = (
                    decode_body(reply.body, encoding.decode("latin-1"))
                    if encoding and reply.body
                    else reply.body
                )
                token = token_in(reply, content)
            except (Failure, ValueError) as problem:
                failure = (
                    problem
                    if isinstance(problem, Failure)
                    else Failure("token", f"the token can't be read: {problem}")
                )
                ended = context.clock.now()
                context.recorder.missed(series, ended, round((ended - due) * 1e6), failure.kind)
                raise Failure("token", failure.detail) from problem
            context.tokens.seen.add(token[0])
            context.recorder.answered(series, due, reply)
            if self._witness.everything:
                took = round((reply.last_at - reply.sent_at) * 1e6)
                self._witness.exchange(compiled, flight, "hop", took, 1, reply)
            return token

        return await context.tokens.get(filled, context.clock.now, fetch, refused)
