"""How a request proves who sends it when that takes exchanges of its own: Digest challenges, and
tokens of clients.
"""

import asyncio
import base64
from collections.abc import Awaitable, Callable, Collection
from dataclasses import dataclass
from urllib.parse import quote_plus

import orjson

from dynamikos.core.figures import digits
from dynamikos.core.journeys import Authorization
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.users.filling import Fill, Values, filler, in_header

# a token is renewed this long before it expires, or after nine tenths of its life if that is later
EARLY_S = 10.0


def basic(user: str, password: str) -> str:
    """RFC 7617, UTF-8."""
    return "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode()


def fixed_header(given: Authorization | None, secret: Collection[str] = ()) -> Fill | None:
    """The Authorization header of Basic and Bearer, which needs no exchange of its own; None for
    others.
    """
    if given is None:
        return None
    if given.basic is not None:
        user, password = (
            filler(given.basic.user, secret=secret),
            filler(given.basic.password, secret=secret),
        )
        return lambda values: basic(user(values), password(values))
    if given.bearer is not None:
        token = filler(given.bearer, secret=secret)
        return lambda values: in_header("Bearer " + token(values))
    return None


@dataclass(slots=True)
class Prover:
    """Compiled Digest (`user`, `password`) or client (`address`, `id`, `secret`, `scope`)."""

    is_digest: bool
    texts: tuple[Fill, ...]
    form: bool = False

    def filled(self, values: Values) -> tuple[str, ...]:
        return tuple(fill(values) for fill in self.texts)


def prover(given: Authorization | None, secret: Collection[str] = ()) -> Prover | None:
    if given is None:
        return None
    if given.digest is not None:
        return Prover(
            True,
            (
                filler(given.digest.user, secret=secret),
                filler(given.digest.password, secret=secret),
            ),
        )
    if given.client is not None:
        client = given.client
        return Prover(
            False,
            tuple(
                filler(text, secret=secret)
                for text in (client.address, client.id, client.secret, client.scope)
            ),
            client.form,
        )
    return None


def token_request(
    filled: tuple[str, ...], *, form: bool
) -> tuple[str, list[tuple[str, str]], bytes]:
    """(address, headers, body) of the request for a token (RFC 6749 §4.4.2; §2.3.1 for how the
    client names itself).
    """
    address, name, secret, scope = filled
    fields = [("grant_type", "client_credentials")] + ([("scope", scope)] if scope else [])
    headers = [
        ("Content-Type", "application/x-www-form-urlencoded"),
        ("Accept", "application/json"),
    ]
    if form:
        fields += [("client_id", name), ("client_secret", secret)]
    else:
        headers.append(("Authorization", basic(quote_plus(name), quote_plus(secret))))
    return (
        address,
        headers,
        "&".join(f"{quote_plus(n)}={quote_plus(v)}" for n, v in fields).encode(),
    )


def token_in(reply: Reply, body: bytes) -> tuple[str, float]:
    """(token, seconds it is valid, 0 when not said). Raises Failure("token") that says what came
    instead.
    """
    try:
        document = orjson.loads(body)
    except ValueError:
        document = None
    token = document.get("access_token") if isinstance(document, dict) else None
    if reply.status != 200 or not isinstance(token, str) or not token:
        said = ""
        if isinstance(document, dict) and document.get("error"):
            said = f": {document['error']}. {document.get('error_description', '')}".rstrip(" .")
        raise Failure(
            "token", f"the address for tokens answered {reply.status} without a token{said}"
        )
    if str(document.get("token_type", "bearer")).lower() != "bearer":
        raise Failure(
            "token",
            f"the token is of type '{document['token_type']}'; only Bearer tokens can be sent",
        )
    life = document.get("expires_in", 0)
    return token, float(digits(str(life)) or 0) if not isinstance(life, float) else life


@dataclass(slots=True)
class _Token:
    value: str
    renew_at: float


class Tokens:
    """Tokens by client, shared by all users of a shard: fetched once, renewed before they expire or
    when one was refused.
    """

    def __init__(self) -> None:
        self._tokens: dict[tuple[str, ...], _Token] = {}
        self._coming: dict[tuple[str, ...], asyncio.Future[str]] = {}
        self.seen: set[str] = set()

    async def get(
        self,
        client: tuple[str, ...],
        now: Callable[[], float],
        fetch: Callable[[], Awaitable[tuple[str, float]]],
        refused: str = "",
    ) -> str:
        """The token of `client`; `refused` is one that the server did not take any more.

        Raises Failure as `fetch` does.
        """
        token = self._tokens.get(client)
        if token is not None and token.value != refused and now() < token.renew_at:
            return token.value
        coming = self._coming.get(client)
        if coming is not None:
            return await asyncio.shield(coming)
        coming = self._coming[client] = asyncio.get_running_loop().create_future()
        try:
            value, life = await fetch()
        except BaseException as problem:
            failure = (
                problem
                if isinstance(problem, Failure)
                else Failure("token", "the user that asked for the token was stopped")
            )
            coming.set_exception(failure)
            coming.exception()
            raise
        else:
            renew_at = now() + max(life - EARLY_S, life * 0.9) if life else float("inf")
            self._tokens[client] = _Token(value, renew_at)
            self.seen.add(value)
            coming.set_result(value)
            return value
        finally:
            del self._coming[client]
