"""What an answer is worth: its captures taken, then its checks verified. Pure: nothing is recorded
or sent here.
"""

from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Any

from dynamikos.core.captures.view import Taker
from dynamikos.core.checks import Then, Verdict
from dynamikos.core.errors import TemplateError
from dynamikos.core.exchanges import Bomb, decode_body
from dynamikos.core.values import Values
from dynamikos.core.values.masking import MASK
from dynamikos.engine.http.protocol import MAX_KEPT, Reply
from dynamikos.engine.users.compiled import CompiledRequest
from dynamikos.engine.users.user_state import UserState

NOTHING: Mapping[str, Any] = MappingProxyType({})
SEVERITY: dict[Then, int] = {"count": 0, "step": 1, "round": 2, "user": 3}


class Done:
    """What a request came to: `kind` of failure or "", and what it means (`then`). `captured` are
    new values, `replaced` what they were before. `asked` says that its checks were, `missed` which
    of them (numbers in the journey) were not passed; a verdict without a kind is one that is only
    counted.
    """

    kind = ""
    verdict: Verdict | None = None
    then: Then = "round"
    asked = False
    missed: Sequence[int] = ()

    def __init__(self) -> None:
        self.captured: Mapping[str, str] = NOTHING
        self.replaced: Mapping[str, str | None] = NOTHING

    @classmethod
    def failed(cls, kind: str, expected: str, actual: str) -> "Done":
        """For a reason that no check gives."""
        made = cls()
        made.kind, made.verdict = kind, Verdict(kind, expected, actual)
        return made


PASSED = Done()


def judged(
    compiled: CompiledRequest, reply: Reply, own: UserState, trail: Sequence[str], took_ms: float
) -> Done:
    """Takes captures into the user's values, then verifies.

    `trail` are the addresses it was redirected through, the last one included; `took_ms` since it
    was due.
    """
    status = reply.status
    if (reply.encoding or reply.cut) and (problem := _unpack(reply)) is not None:
        return problem
    captures, checks = compiled.captures, compiled.checks
    if status >= 400 and not compiled.checks_status:
        if captures or checks:
            return Done.failed(f"status-{status}", "a status below 400", f"status {status}")
        done = Done()
        done.kind = f"status-{status}"
        return done
    reply.duration_ms = took_ms
    if trail:
        reply.addresses = trail
    done, missing, values = PASSED, "", own.values
    if captures:
        reply.cookies, reply._choose, reply.reads_json = (
            own.jar.values,
            own.choose,
            compiled.reads_json,
        )
        done = Done()
        missing = _take(captures, reply, values, done)
    try:
        if not missing and not reply.beyond:
            for judge in checks:
                if not judge.passes(reply, values):
                    break
            else:
                return done
    except TemplateError:
        pass  # said below
    return _missed(compiled, reply, values, done if captures else Done(), missing)


def _unpack(reply: Reply) -> Done | None:
    """Undoes the encoding of a body, or says why what is looked for may not be found in it."""
    if reply.cut:
        reply.beyond = (
            f"{reply.came:,} bytes came, and a body is looked into as far as {MAX_KEPT:,}"
        )
        reply.size_bytes = None if reply.encoding else reply.came
        return None
    if not reply.body or reply.unpacked:
        return None
    try:
        reply.body = decode_body(reply.body, reply.encoding.decode("latin-1"))
    except Bomb as problem:
        return Done.failed("body-bomb", "a body that unpacks to a sensible size", str(problem))
    except ValueError as problem:
        return Done.failed("body-encoding", "a body that can be decoded", str(problem))
    reply.unpacked = True
    return None


def _take(captures: Sequence[tuple[str, Taker]], reply: Reply, values: Values, done: Done) -> str:
    """Takes the captures; the name of the first for which nothing was found, or ""."""
    missing = ""
    done.captured, done.replaced = captured, replaced = {}, {}
    for name, take in captures:
        found = take(reply)
        if found is None:
            missing = missing or name
        else:
            replaced[name] = values.get(name)
            captured[name] = values[name] = found
    return missing


def _missed(
    compiled: CompiledRequest, reply: Reply, values: Values, done: Done, missing: str
) -> Done:
    """Says what is not so: which checks were not passed and what that means, or what was not
    found.
    """
    failed = counted = None
    missed: list[int] = []
    for at, judge in enumerate(compiled.checks):
        try:
            verdict = judge(reply, values)
        except TemplateError as problem:
            verdict = Verdict("value-missing", "a value for the check", str(problem))
        if verdict is not None:
            if at in compiled.hides:
                words = "it is not so; what is compared comes from a secret"
                verdict = Verdict(verdict.kind, MASK, words, verdict.then)
            missed.append(compiled.first_check + at)
            counted = counted or verdict
            if verdict.then != "count" and (
                failed is None or SEVERITY[verdict.then] > SEVERITY[failed.then]
            ):
                failed = verdict
    done.asked, done.missed = bool(compiled.checks), missed
    if failed is not None:
        done.kind, done.verdict, done.then = failed.kind, failed, failed.then
    elif missing:
        done.kind = "body-limit" if reply.beyond else f"capture-{missing}"
        said = f"nothing was found: {reply.beyond}" if reply.beyond else "nothing was found"
        done.verdict = Verdict(done.kind, f"a value for {missing}", said)
    else:
        done.verdict = counted
    return done
