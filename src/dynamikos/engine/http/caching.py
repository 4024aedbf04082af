"""A user's HTTP cache (RFC 9111): what is kept of answers, how long it is fresh, and how it is
asked about again.

Pure: what the time is, and what was sent and came, is given. A private cache, as a browser's:
`s-maxage` and `private` mean nothing to it.
"""

import email.utils
import hashlib
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from dynamikos.core.figures import digits
from dynamikos.engine.http.protocol import Reply

Fields = Sequence[tuple[bytes, bytes]]
HEURISTIC = 0.1  # of the time since it was changed (§4.2.2)
MOST_SHARED, MOST_KEPT, MOST_ENTRIES = 256_000_000, 64_000_000, 2_000
SAFE = frozenset(("GET", "HEAD", "OPTIONS", "TRACE"))
KEPT_FIELDS = frozenset(
    (b"content-length", b"content-encoding", b"transfer-encoding", b"connection")
)  # not renewed


class Entry(NamedTuple):
    """An answer that is kept: since when (seconds of the wall clock), how old it was then, for how
    long it is fresh; `asks` that it is never used without asking; `vary` are the request's fields
    that it depends on.
    """

    headers: tuple[tuple[bytes, bytes], ...]
    body: bytes
    since: float
    age_s: float
    fresh_s: float
    asks: bool
    vary: tuple[tuple[str, str], ...]

    def is_fresh(self, wall: float) -> bool:
        """§4.2: whether it may be used as it is."""
        return not self.asks and self.age_s + (wall - self.since) < self.fresh_s

    def conditions(self) -> list[tuple[str, str]]:
        """§4.3.1: the fields by which the server is asked whether it has changed; none when it
        can't be asked.
        """
        made = []
        for own, asked in ((b"etag", "If-None-Match"), (b"last-modified", "If-Modified-Since")):
            value = _field(self.headers, own)
            if value is not None:
                made.append((asked, value.decode("latin-1")))
        return made

    def renewed(self, headers: Fields, wall: float, *, heuristic: bool) -> "Entry":
        """§4.3.4: after a 304 with `headers`."""
        new = {name.lower() for name, _ in headers} - KEPT_FIELDS
        merged = [each for each in self.headers if each[0].lower() not in new]
        merged += [each for each in headers if each[0].lower() in new]
        lifetime, asks = _lifetime(merged, heuristic=heuristic)
        return self._replace(
            headers=tuple(merged),
            since=wall,
            age_s=_seconds(_field(headers, b"age")),
            fresh_s=lifetime,
            asks=asks,
        )

    def put_into(self, reply: Reply) -> None:
        """`reply` becomes what is kept, as if the server had answered it whole."""
        reply.status, reply.body, reply.seen = 200, self.body, None
        reply.encoding, reply.unpacked = b"", False
        reply.read(self.headers)


def entry_of(
    reply: Reply, sent: Mapping[str, str], wall: float, *, heuristic: bool, body: bytes = b""
) -> Entry | None:
    """What is kept of an answer to a GET (§3), if anything. `sent` are the request's fields in
    lower case. With `heuristic` one that says nothing of its freshness is fresh for a tenth of the
    time since it was changed.
    """
    if reply.status != 200:
        return None
    headers = tuple(reply.headers)
    directives = _directives(headers)
    vary = _field(headers, b"vary") or b""
    if "no-store" in directives or vary.strip() == b"*":
        return None
    lifetime, asks = _lifetime(headers, heuristic=heuristic)
    asks = asks or "cookie" in _names(
        vary
    )  # cookies are the jar's: whether they are the same is for the server to say
    made = Entry(
        headers=headers,
        body=body,
        since=wall,
        age_s=_seconds(_field(headers, b"age")),
        fresh_s=lifetime,
        asks=asks,
        vary=tuple((name, sent.get(name, "")) for name in _names(vary)),
    )
    return made if lifetime > 0 or made.conditions() else None


def _names(vary: bytes) -> list[str]:
    return [name.strip().lower() for name in vary.decode("latin-1").split(",") if name.strip()]


def _lifetime(headers: Fields, *, heuristic: bool) -> tuple[float, bool]:
    """§4.2.1: (for how many seconds it is fresh, whether it is asked about each time)."""
    directives = _directives(headers)
    asks = "no-cache" in directives
    if "max-age" in directives:
        return _seconds(directives["max-age"].encode()), asks
    date, expires = _date(_field(headers, b"date")), _field(headers, b"expires")
    if expires is not None:
        until = _date(expires)
        return (max(0.0, until - date) if until is not None and date is not None else 0.0), asks
    changed = _date(_field(headers, b"last-modified"))
    if heuristic and changed is not None and date is not None and date > changed:
        return HEURISTIC * (date - changed), asks
    return 0.0, asks


def _directives(headers: Fields) -> dict[str, str]:
    found: dict[str, str] = {}
    for name, value in headers:
        if name.lower() == b"cache-control":
            for part in value.decode("latin-1").split(","):
                key, _, given = part.strip().partition("=")
                found.setdefault(key.lower(), given.strip('"'))
    return found


def _field(headers: Fields, wanted: bytes) -> bytes | None:
    return next((value for name, value in headers if name.lower() == wanted), None)


def _seconds(text: bytes | None) -> float:
    return float(digits((text or b"").strip().decode("latin-1")) or 0)


def _date(text: bytes | None) -> float | None:
    if text is None:
        return None
    try:
        return email.utils.parsedate_to_datetime(text.decode("latin-1")).timestamp()
    except (ValueError, TypeError, OverflowError):
        return None


class Bodies:
    """One copy of what many users keep; of at most `MOST_SHARED` bytes, so that pages that are
    never the same again don't fill the memory of a long run.
    """

    def __init__(self) -> None:
        self._kept: dict[bytes, bytes] = {}
        self.size = 0  # bytes

    def shared(self, body: bytes) -> bytes:
        if not body:
            return body
        key = hashlib.blake2b(body, digest_size=16).digest()
        found = self._kept.get(key)
        if found is None:
            if (
                self.size + len(body) > MOST_SHARED
            ):  # users keep theirs; only what comes from now on is shared anew
                self._kept.clear()
                self.size = 0
            self._kept[key] = found = body
            self.size += len(body)
        return found


class Cache:
    """What one user keeps, by whole address: at most `MOST_ENTRIES` and `MOST_KEPT` bytes, else the
    oldest go.
    """

    def __init__(self, bodies: Bodies, primed: Sequence[tuple[str, Entry]] = ()) -> None:
        self._bodies = bodies
        self._entries: dict[str, Entry] = dict(primed)
        self._size = sum(len(entry.body) for entry in self._entries.values())

    def clear(self) -> None:
        """Forgets everything, as for a visitor who comes for the first time."""
        self._entries.clear()
        self._size = 0

    def find(self, url: str, sent: Mapping[str, str]) -> Entry | None:
        """What is kept for a request with fields `sent`, in lower case (§4.1)."""
        found = self._entries.get(url)
        if found is None or any(sent.get(name, "") != value for name, value in found.vary):
            return None
        return found

    def keep(
        self, url: str, reply: Reply, sent: Mapping[str, str], wall: float, *, heuristic: bool
    ) -> None:
        """After an answer to a GET."""
        body = self._bodies.shared(reply.body) if not reply.cut else b""
        entry = None if reply.cut else entry_of(reply, sent, wall, heuristic=heuristic, body=body)
        if entry is not None:
            self._drop(url)
            self._entries[url] = entry
            self._size += len(body)
            while len(self._entries) > MOST_ENTRIES or self._size > MOST_KEPT:
                self._drop(next(iter(self._entries)))
        elif reply.status < 400:
            self._drop(url)

    def _drop(self, url: str) -> None:
        entry = self._entries.pop(url, None)
        if entry is not None:
            self._size -= len(entry.body)

    def renew(self, url: str, entry: Entry, reply: Reply, wall: float, *, heuristic: bool) -> Entry:
        """After a 304: what is kept now."""
        self._entries[url] = made = entry.renewed(reply.headers, wall, heuristic=heuristic)
        return made

    def changed(self, url: str, method: str, status: int) -> None:
        """§4.4: what an unsafe method changed is not used any more."""
        if method not in SAFE and 200 <= status < 400:
            self._drop(url)


def sent_fields(pairs: Sequence[tuple[str, str]]) -> dict[str, str]:
    """A request's fields by their names in lower case."""
    return {name.lower(): value for name, value in pairs}
