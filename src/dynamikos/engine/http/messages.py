"""A request as values: each version of HTTP writes them down in its own way (HTTP/1.1:
`writing`).
"""

from collections.abc import Collection, Iterable
from pathlib import Path

from dynamikos.engine.failures import Failure

Pair = tuple[str, str]
DESCRIBING = frozenset(("content-length", "content-type"))  # a body that is not there any more


class Fields:
    """Header fields that many requests have alike, prepared once. `text` is how HTTP/1.1 has
    them.
    """

    __slots__ = ("pairs", "text")

    def __init__(self, pairs: Iterable[Pair] = ()) -> None:
        self.pairs = tuple(pairs)
        self.text = "".join([f"{name}: {value}\r\n" for name, value in self.pairs])


NO_FIELDS = Fields()


class Base:
    """Where a request goes and what is fixed in its head. `start` is how HTTP/1.1 begins it."""

    __slots__ = ("fixed", "host", "method", "start", "target")

    def __init__(self, method: str, target: str, host: str, fixed: Fields = NO_FIELDS) -> None:
        self.method, self.target, self.host, self.fixed = method, target, host, fixed
        self.start = f"{method} {target} HTTP/1.1\r\nHost: {host}\r\n{fixed.text}"


class Head:
    """The head of a request, without what is added to every exchange (length, cookies of the jar,
    trace).

    What is fixed in its `base` goes before its `own` fields; `cookie` is a Cookie header of its
    own.
    """

    __slots__ = ("base", "cookie", "own")

    def __init__(self, base: Base, own: tuple[Pair, ...] = (), cookie: str = "") -> None:
        self.base, self.own, self.cookie = base, own, cookie

    def pairs(self) -> list[Pair]:
        """Host and all fields in order, the Cookie header apart."""
        return [("Host", self.base.host), *self.base.fixed.pairs, *self.own]

    def with_field(self, name: str, value: str) -> "Head":
        """With one more."""
        return Head(self.base, (*self.own, (name, value)), self.cookie)

    def redirected(
        self,
        method: str,
        target: str,
        host: str,
        *,
        keeps_body: bool,
        same_origin: bool,
        private: Collection[str],
    ) -> "Head":
        """For another address. Fields that describe a dropped body go (RFC 9110 §15.4); to another
        origin (scheme, host and port, RFC 6454) those in `private`, in lower case, do, too.
        """
        kept = [
            (name, value)
            for name, value in (*self.base.fixed.pairs, *self.own)
            if (keeps_body or name.lower() not in DESCRIBING)
            and (same_origin or name.lower() not in private)
        ]
        base = Base(method, target, self.base.host if same_origin else host, Fields(kept))
        return Head(base, cookie=self.cookie if same_origin or "cookie" not in private else "")


class Held:
    """A body that is sent apart from its head: bytes once the server asks for them (RFC 9110
    §10.1.1), or a file.
    """

    __slots__ = ("content", "file", "size")

    def __init__(self, content: bytes = b"", file: Path | None = None) -> None:
        """Raises Failure for a file that can't be read."""
        self.content, self.file = content, file
        self.size = len(content)
        if file is not None:
            try:
                self.size = file.stat().st_size
            except OSError as problem:
                raise Failure(
                    "body-file", f"{file.name} can't be read: {problem.strerror or problem}"
                ) from problem


Body = bytes | Held


def content_of(body: Body) -> bytes:
    """What of a body can be shown: a file's content stays where it is."""
    return body if isinstance(body, bytes) else body.content


def size_of(body: Body) -> int:
    """Its length in bytes."""
    return len(body) if isinstance(body, bytes) else body.size
