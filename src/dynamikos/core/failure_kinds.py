"""What a kind of failure is: whose doing, and in words. Why a user left before its time, as a
value.

Failures are counted by their kind, a short text that reports, tables and files have
("connect-refused", "own-limit-sockets", "check-text"). What a kind means is decided here alone:
exact kinds first, then families, whose rest after the hyphen or colon says more.
"""

from functools import lru_cache
from typing import Final, Literal

import msgspec

Fault = Literal["target", "network", "script", "data", "generator"]
LeavingCause = Literal["rows", "broke", "check", "repeat", "opening"]


class FailureKind(msgspec.Struct, frozen=True):
    """`words`: what happened, for a person; `rest`: what the family leaves open ("404", the name of
    a check).
    """

    kind: str
    fault: Fault
    words: str
    rest: str = ""

    @property
    def says(self) -> str:
        """What happened, with what the family leaves open."""
        if self.kind.startswith("status-") and self.rest in PHRASES:
            return f"{self.words} {self.rest} {PHRASES[self.rest]}"
        return f"{self.words}: {self.rest}" if self.rest else self.words

    @property
    def is_own(self) -> bool:
        """Whether the generator, not the target, could not."""
        return self.fault == "generator"

    @property
    def is_limit(self) -> bool:
        """Whether it is a limit of the generator's machine, named in `rest`."""
        return self.kind.startswith("own-limit-")

    @property
    def is_time_out(self) -> bool:
        """Whether a time-out of ours cut it off, so that its age is all that is known of its
        time.
        """
        return self.kind.startswith("timeout-")


EXACT: Final[dict[str, tuple[Fault, str]]] = {
    "address": ("script", "the address could not be built or read"),
    "body-bomb": ("target", "the unpacked body is too large"),
    "body-encoding": ("target", "the body can't be unpacked"),
    "body-file": ("script", "a file of the request is missing"),
    "body-limit": ("target", "the body is longer than a check may read"),
    "closed-early": ("target", "the connection was closed before the answer"),
    "closed-mid-body": ("target", "the connection was closed within the body"),
    "connect": ("network", "no connection"),
    "connect-refused": ("target", "the connection was refused"),
    "dns": ("network", "the host name has no address"),
    "function": ("script", "a Python function failed"),
    "function-time": ("script", "a Python function took too long"),
    "not-agreed": ("script", "the target is not agreed"),
    "over-budget": ("target", "the answer is too large"),
    "protocol": ("target", "the answer is not HTTP"),
    "proxy": ("network", "the proxy failed"),
    "rate-cap": ("generator", "the agreed rate was reached"),
    "redirect-loop": ("target", "redirects go in a circle"),
    "repeat-limit": ("target", "a repetition reached its limit"),
    "rows": ("data", "no rows of data were left"),
    "tls": ("network", "TLS failed"),
    "token": ("target", "no token was issued"),
    "unreachable": ("network", "the host can't be reached"),
    "value-missing": ("script", "a value is not known"),
}
FAMILIES: Final[tuple[tuple[str, Fault, str], ...]] = (
    ("own-limit-", "generator", "a limit of the generator's machine"),
    ("engine-error", "generator", "an error of the generator"),
    ("timeout-", "target", "a time-out"),
    ("status-", "target", "answered with"),
    ("capture-", "target", "a value was not found"),
    ("check-", "target", "a check was not passed"),
)

PHRASES: Final = {  # RFC 9110, 15.5 and 15.6; RFC 6585
    "400": "Bad Request",
    "401": "Unauthorized",
    "402": "Payment Required",
    "403": "Forbidden",
    "404": "Not Found",
    "405": "Method Not Allowed",
    "406": "Not Acceptable",
    "408": "Request Timeout",
    "409": "Conflict",
    "410": "Gone",
    "411": "Length Required",
    "412": "Precondition Failed",
    "413": "Content Too Large",
    "414": "URI Too Long",
    "415": "Unsupported Media Type",
    "422": "Unprocessable Content",
    "428": "Precondition Required",
    "429": "Too Many Requests",
    "431": "Request Header Fields Too Large",
    "500": "Internal Server Error",
    "501": "Not Implemented",
    "502": "Bad Gateway",
    "503": "Service Unavailable",
    "504": "Gateway Timeout",
}


@lru_cache(1024)
def kind_of(kind: str) -> FailureKind:
    """What a kind means; one that nobody knows is the target's, and says itself what happened."""
    if kind in EXACT:
        return FailureKind(kind, *EXACT[kind])
    for begin, fault, words in FAMILIES:
        if kind.startswith(begin):
            return FailureKind(kind, fault, words, kind[len(begin) :].lstrip(": "))
    return FailureKind(kind, "target", kind)


class Leaving(msgspec.Struct, frozen=True, order=True):
    """Why users left before their time, and how many did. `cause`: *rows* none were left, *broke*
    by an error of ours, a *check* or a *repeat* said so, its *opening* failed. `detail`: what, for
    a person.
    """

    cause: LeavingCause
    detail: str
    count: int = 1

    @property
    def words(self) -> str:
        """As files and tables have it."""
        begin = {"broke": "broke: ", "check": "check failed: ", "opening": "opening failed"}.get(
            self.cause, ""
        )
        return begin + self.detail


def leaving_of(words: str, count: int) -> Leaving:
    """Of an earlier day, when it was a sentence."""
    for cause, begin in (("broke", "broke: "), ("check", "check failed: ")):
        if words.startswith(begin):
            return Leaving(cause, words[len(begin) :], count)  # type: ignore[arg-type]
    if words == "opening failed":
        return Leaving("opening", "", count)
    return Leaving("repeat" if words.endswith(": repeat-limit") else "rows", words, count)
