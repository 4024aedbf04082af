"""What an answer is worth: its captures taken, then its checks verified; and the head of the request a redirect asks
for.
"""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from dynamikos.core.captures import View
from dynamikos.core.checks import Then, Verdict
from dynamikos.core.errors import TemplateError
from dynamikos.core.exchanges import Bomb, decode_body
from dynamikos.core.values.masking import MASK
from dynamikos.engine.http.protocol import MAX_KEPT, Reply
from dynamikos.engine.users.compiled import CompiledRequest

if TYPE_CHECKING:
    from dynamikos.engine.users.performer import User

SEVERITY: dict[Then, int] = {"count": 0, "step": 1, "round": 2, "user": 3}


def judged(
    user: "User", compiled: CompiledRequest, reply: Reply, trail: Sequence[str], took_us: int
) -> tuple[str, Verdict | None, dict[str, str], View | None]:
    """Takes captures, then verifies; (kind of failure or "", its verdict, captured values, view)."""
    user.then = "round"  # until a check says otherwise
    captured: dict[str, str] = {}
    content, beyond = reply.body, ""
    if reply.cut:
        beyond = f"{reply.body_bytes:,} bytes came, and a body is looked into as far as {MAX_KEPT:,}"
    elif reply.encoding and content:
        try:
            content = decode_body(content, reply.encoding.decode("latin-1"))
        except Bomb as problem:
            return (
                "body-bomb",
                Verdict("body-bomb", "a body that unpacks to a sensible size", str(problem)),
                captured,
                None,
            )
        except ValueError as problem:
            return "body-encoding", Verdict("body-encoding", "a body that can be decoded", str(problem)), captured, None
    if not compiled.captures and not compiled.checks:
        return (f"status-{reply.status}", None, {}, None) if reply.status >= 400 else ("", None, {}, None)
    view = View(reply.status, reply.headers, content, user.jar.values, trail, user.choose)
    if beyond:
        view.beyond, view.size_bytes = beyond, None if reply.encoding else reply.body_bytes
    view.duration_ms = took_us / 1000
    if reply.status >= 400 and not compiled.checks_status:
        return (
            f"status-{reply.status}",
            Verdict("status", "a status below 400", f"status {reply.status}"),
            captured,
            view,
        )
    missing, values, replaced = "", user.values, user.replaced
    for name, take in compiled.captures:
        found = take(view)
        if found is None:
            missing = missing or name
        else:
            replaced[name] = values.get(name)
            captured[name] = values[name] = found
    failed = counted = None
    missed: list[int] = []
    for no, judge in enumerate(compiled.checks, compiled.first_check):
        try:
            verdict = judge(view, values)
        except TemplateError as problem:
            verdict = Verdict("value-missing", "a value for the check", str(problem))
        if verdict is not None:
            if no - compiled.first_check in compiled.hides:
                verdict = Verdict(
                    verdict.kind, MASK, "it is not so; what is compared comes from a secret", verdict.then
                )
            missed.append(no)
            counted = counted or verdict
            if verdict.then != "count" and (failed is None or SEVERITY[verdict.then] > SEVERITY[failed.then]):
                failed = verdict
    if compiled.checks:
        user.around.recorder.checks(reply.last_at, compiled.first_check, len(compiled.checks), missed)
    if failed is not None:
        user.then = failed.then
        return failed.kind, failed, captured, view
    if missing:
        kind = "body-limit" if beyond else f"capture-{missing}"
        said = f"nothing was found: {beyond}" if beyond else "nothing was found"
        return kind, Verdict(kind, f"a value for {missing}", said), captured, view
    return "", counted, captured, view  # a check that is only counted is shown with what is kept


def redirected_head(
    method: str, target: str, host: str, head: bytes, body: bytes, *, same_origin: bool, private: frozenset[str]
) -> bytes:  # fmt: skip
    """The first head with a new first line and host. Headers that described a dropped body are dropped; to another
    origin (scheme, host and port, RFC 6454) those in `private` are, too.
    """
    _, host_line, *lines = head.decode("utf-8").split("\r\n")
    kept = []
    for line in lines:
        name = line.partition(":")[0].lower()
        if (
            line
            and not (not body and name in ("content-length", "content-type"))
            and (same_origin or name not in private)
        ):
            kept.append(line)
    return (
        "\r\n".join([f"{method} {target} HTTP/1.1", host_line if same_origin else f"Host: {host}", *kept]) + "\r\n"
    ).encode()


def with_cookie(head: bytes, cookie: str) -> tuple[bytes, str]:
    """(head, all cookies) where the jar's `cookie` joins the Cookie header that `head` has already."""
    lines = head.split(b"\r\n")
    for at, line in enumerate(lines):
        name, _, value = line.partition(b":")
        if name.lower() == b"cookie":
            own = value.strip().decode("utf-8", "replace")
            lines[at] = b"Cookie: %b; %b" % (value.strip(), cookie.encode("latin-1", "replace"))
            return b"\r\n".join(lines), f"{own}; {cookie}"
    return b"%bCookie: %b\r\n" % (head, cookie.encode("latin-1", "replace")), cookie
