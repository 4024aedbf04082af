"""Keeping exchanges as evidence: what was sent and answered, with the user's values, masked."""

from collections.abc import Mapping
from typing import Any

from dynamikos.core.captures import View
from dynamikos.core.exchanges import decode_body
from dynamikos.core.reports import KeptExchange
from dynamikos.core.values.masking import MASK, Masker
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.messages import Body, Head, content_of, size_of
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.http.writing import BODIED
from dynamikos.engine.reporting.keeping import BODY_CHARS
from dynamikos.engine.users.compiled import CompiledRequest, CompiledStep
from dynamikos.engine.users.judging import Done
from dynamikos.engine.users.user_context import UserContext
from dynamikos.engine.users.user_state import UserState
from dynamikos.engine.users.wire import Sent


def parts_of(reply: Reply | None) -> dict[str, int]:
    """HAR 1.2's parts in µs, -1 for what does not apply."""
    if reply is None:
        return {}
    dns, connect, ssl = reply.opened_us or (-1, -1, -1)
    wait, receive = (
        round((reply.first_at - reply.sent_at) * 1e6),
        round((reply.last_at - reply.first_at) * 1e6),
    )
    return {
        "blocked": 0,
        "dns": dns,
        "connect": connect,
        "ssl": ssl,
        "send": 0,
        "wait": wait,
        "receive": receive,
    }


def sent_fields(head: Head, body: Body, cookie: str) -> list[tuple[str, str]]:
    """What was sent with a request, the trace apart."""
    fields = head.pairs()
    if body or head.base.method in BODIED:
        fields.append(("Content-Length", str(size_of(body))))
    if cookie:
        fields.append(("Cookie", cookie))
    return fields


def shown(view: View) -> str:
    """The beginning of a body, where it is text."""
    return (
        view.text[:BODY_CHARS]
        if b"\0" not in view.body[:1000]
        else f"({len(view.body):,} bytes, not text)"
    )


class Witness:
    """Keeps what one user exchanges, where the shard's choice says it is worth it."""

    def __init__(self, own: UserState, context: UserContext) -> None:
        self._own, self._context = own, context

    def unsent(self, compiled: CompiledRequest, due: float, failure: Failure) -> tuple[str, float]:
        """A request that could not be built: (kind, when)."""
        context, request, step = self._context, compiled.request, compiled.step
        now = context.clock.now()
        took = round((now - due) * 1e6)
        context.recorder.missed(compiled.series, now, took, failure.kind, rows=self._own.rows)
        self._own.missed(failure.kind, now)
        reason = context.choice.failed(compiled.series, failure.kind)
        if reason:
            self._keep(
                self._mask(),
                reason,
                compiled.series,
                step.step,
                self._own.shown(),
                request=request.request,
                method=compiled.method,
                url=request.address,
                error=failure.detail,
                recorded=request.recorded,
                trace=f"{0:016x}",
            )
        return failure.kind, now

    def item(self, step: CompiledStep, said: str, failed: str = "") -> None:
        """What else was done, as an entry among the exchanges."""
        context = self._context
        if failed:
            reason = context.choice.failed(step.series, failed)
            if not reason:
                return
        else:
            reason = (
                "kept" if context.keep_everything else "followed" if self._own.followed else "log"
            )
            if reason == "followed" and not context.choice.follows():
                return
        values = self._own.shown()
        self._keep(
            self._mask(),
            reason,
            step.series,
            step.step.step,
            values,
            error=said[:4000],
            item=step.step.kind,
        )

    @property
    def everything(self) -> bool:
        """Whether all of it is kept: in a trial, or since somebody follows the user."""
        return self._context.keep_everything or self._own.followed

    def shown(self) -> dict[str, str]:
        """The user's values, masked."""
        return self._values(self._mask(), self._own.shown())

    def mask(self) -> Masker:
        """Masks all that is secret to this user now."""
        return self._mask()

    def _mask(self) -> Masker:
        context, values = self._context, self._own.values
        secret = [values[name] for name in sorted(context.script.secret) if name in values]
        return Masker([*secret, *context.secrets, *context.tokens.seen, *values.maker.remembered])

    def _values(self, mask: Masker, values: Mapping[str, str]) -> dict[str, str]:
        secret = self._context.script.secret
        return {
            name: MASK if name in secret else mask.text(value) for name, value in values.items()
        }

    def _before(self, sent: Sent) -> dict[str, str]:
        """The values before the request was built."""
        if self._context.keep_everything or sent.before:
            return sent.before
        replaced = sent.replaced
        old = {name: value for name, value in self._own.shown().items() if name not in replaced}
        return old | {name: value for name, value in replaced.items() if value is not None}

    def exchange(
        self,
        compiled: CompiledRequest,
        sent: Sent,
        reason: str,
        duration_us: int,
        hop: int,
        reply: Reply | None,
        done: Done | None = None,
        *,
        error: str = "",
        resource: int | None = None,
    ) -> None:
        """`reply` is what came, `done` what it was worth; `hop` counts the exchanges before it.
        `resource` is the series of the step's embedded resources, where one of them is meant.
        """
        if reason == "followed" and not self._context.choice.follows():
            return
        mask = self._mask()
        _, head, sent_body = sent.place
        body, size = "", 0
        if reply is not None and (reply.body or sent.keep):
            content = reply.body if reply.unpacked else _decoded(reply)
            body, size = shown(View(reply.status, reply.headers, content)), len(content)
        elif reply is not None and not self.everything:
            size = reply.bytes_in
        verdict = done.verdict if done is not None else None
        received = reply.headers if reply is not None else ()
        self._keep(
            mask,
            reason,
            compiled.series if resource is None else resource,
            compiled.step.step,
            self._before(sent),
            request=compiled.request.request,
            resource=resource is not None,
            method=head.base.method,
            url=sent.url,
            sent_headers=mask.pairs(sent_fields(head, sent_body, sent.cookie)),
            sent_body=content_of(sent_body).decode("utf-8", "replace")[:BODY_CHARS],
            status=reply.status if reply is not None else 0,
            headers=mask.pairs((n.decode("latin-1"), v.decode("latin-1")) for n, v in received),
            body=body.replace("\0", "\ufffd"),
            size_bytes=size,
            duration_us=duration_us,
            parts_us=parts_of(reply),
            error=error,
            expected=verdict.expected if verdict else "",
            actual=verdict.actual if verdict else "",
            captured=self._values(mask, done.captured) if done is not None else {},
            recorded=compiled.request.recorded if hop == 0 and resource is None else None,
            trace=f"{sent.span:016x}",
            hop=hop,
        )

    def _keep(
        self, mask: Masker, reason: str, series: int, step: str, before: dict[str, str], **more: Any
    ) -> None:
        """Texts in `more` are masked here; lists and dictionaries have to be."""
        context, own = self._context, self._own
        context.keep(
            KeptExchange(
                second=max(0, int(context.clock.now() - context.recorder.begin)),
                series=series,
                step=step,
                reason=reason,
                user=own.number,
                round=own.round,
                ended_us=round((context.clock.now() - context.recorder.begin) * 1e6),
                variables=self._values(mask, own.shown()),
                before=self._values(mask, before),
                rows=context.dealer.rows_of(own),
                **{"request": "", "method": "", "url": ""}
                | {name: mask.text(each) if name in TEXTS else each for name, each in more.items()},
            )
        )


TEXTS = frozenset(
    ("url", "sent_body", "body", "error", "expected", "actual")
)  # that may hold a secret


def _decoded(reply: Reply) -> bytes:
    try:
        return decode_body(reply.body, reply.encoding.decode("latin-1"))
    except ValueError:
        return reply.body
