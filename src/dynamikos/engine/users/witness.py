"""Keeping exchanges as evidence: what was sent and answered, with the user's values, masked."""

from typing import TYPE_CHECKING

from dynamikos.core.captures import View
from dynamikos.core.checks import Verdict
from dynamikos.core.exchanges import decode_body
from dynamikos.core.reports import KeptExchange
from dynamikos.core.values.masking import MASK, Masker
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.reporting.keeping import BODY_CHARS
from dynamikos.engine.users.compiled import CompiledRequest, CompiledStep

if TYPE_CHECKING:
    from dynamikos.engine.users.performer import User


def parts_of(reply: Reply | None) -> dict[str, int]:
    """HAR 1.2's parts in µs, -1 for what does not apply."""
    if reply is None:
        return {}
    dns, connect, ssl = reply.opened_us or (-1, -1, -1)
    wait, receive = round((reply.first_at - reply.sent_at) * 1e6), round((reply.last_at - reply.first_at) * 1e6)
    return {"blocked": 0, "dns": dns, "connect": connect, "ssl": ssl, "send": 0, "wait": wait, "receive": receive}


class Witness:
    """Keeps what one user exchanges, where the shard's choice says it is worth it."""

    def __init__(self, user: "User") -> None:
        self._user, self._around = user, user.around

    def unsent(self, compiled: CompiledRequest, due: float, failure: Failure) -> tuple[str, float]:
        now = self._around.clock.now()
        self._around.recorder.missed(compiled.series, now, round((now - due) * 1e6), failure.kind)
        address = compiled.request.address
        self.failure(compiled, failure.kind, compiled.method, address, b"", b"", 0, 0, 0, error=failure.detail)
        return failure.kind, now

    def item(self, step: CompiledStep, said: str, failed: str = "") -> None:
        """What else was done, as an entry among the exchanges."""
        around, user = self._around, self._user
        if failed:
            reason = around.choice.failed(step.series, failed)
            if not reason:
                return
        else:
            reason = "kept" if around.keep_everything else "log"
        mask = self.mask()
        around.keep(
            KeptExchange(
                second=max(0, int(around.clock.now() - around.recorder.begin)),
                series=step.series,
                step=step.step.step,
                request="",
                reason=reason,
                user=user.number,
                round=user.round,
                method="",
                url="",
                error=mask.text(said[:4000]),
                variables=self._values(mask, dict(user.values)),
                before=self._values(mask, self._before()),
                rows=around.dealer.rows_of(user),
                item=step.step.kind,
            )
        )

    def _before(self) -> dict[str, str]:
        """The values before the request at hand."""
        user = self._user
        if self._around.keep_everything:
            return user.before
        old = {name: value for name, value in user.values.items() if name not in user.replaced}
        return old | {name: value for name, value in user.replaced.items() if value is not None}

    def mask(self) -> Masker:
        around, user = self._around, self._user
        secret = [user.values[name] for name in sorted(around.script.secret) if name in user.values]
        return Masker([*secret, *around.secrets, *around.tokens.seen, *user.values.maker.remembered])

    def _values(self, mask: Masker, values: dict[str, str]) -> dict[str, str]:
        secret = self._around.script.secret
        return {name: MASK if name in secret else mask.text(value) for name, value in values.items()}

    def failure(
        self,
        compiled: CompiledRequest,
        kind: str,
        method: str,
        url: str,
        head: bytes,
        body: bytes,
        duration_us: int,
        span: int,
        hop: int,
        error: str,
    ) -> None:
        reason = self._around.choice.failed(compiled.series, kind)
        if reason:
            self.keep(compiled, reason, method, url, head, body, duration_us, span, hop, None, error=error)

    def keep(
        self,
        compiled: CompiledRequest,
        reason: str,
        method: str,
        url: str,
        head: bytes,
        body: bytes,
        duration_us: int,
        span: int,
        hop: int,
        reply: Reply | None,
        view: View | None = None,
        verdict: Verdict | None = None,
        captured: dict[str, str] | None = None,
        error: str = "",
        resource: int | None = None,
    ) -> None:
        """`resource` is the series of the step's embedded resources, where one of them is meant."""
        around, user = self._around, self._user
        mask = self.mask()
        headers = [(n.decode("latin-1"), v.decode("latin-1")) for n, v in reply.headers] if reply is not None else []
        if view is None and reply is not None and reply.body:
            try:
                content = decode_body(reply.body, reply.encoding.decode("latin-1"))
            except ValueError:
                content = reply.body
            view = View(reply.status, reply.headers, content)
        text = (
            ""
            if view is None
            else (view.text[:BODY_CHARS] if b"\0" not in view.body[:1000] else f"({len(view.body):,} bytes, not text)")
        )
        lines = [line.partition(": ") for line in head.decode("utf-8", "replace").split("\r\n")[1:] if line]
        if user.cookie_sent and lines:
            lines.append(("Cookie", ": ", user.cookie_sent))
        around.keep(
            KeptExchange(
                second=max(0, int(around.clock.now() - around.recorder.begin)),
                series=compiled.series if resource is None else resource,
                step=compiled.step.step,
                request=compiled.request.request,
                resource=resource is not None,
                reason=reason,
                user=user.number,
                round=user.round,
                method=method,
                url=mask.text(url),
                sent_headers=mask.pairs((name, value) for name, _, value in lines),
                sent_body=mask.text(body.decode("utf-8", "replace")[:BODY_CHARS]),
                status=reply.status if reply is not None else 0,
                headers=mask.pairs(headers),
                body=mask.text(text.replace("\0", "\ufffd")),
                size_bytes=len(view.body)
                if view is not None
                else 0
                if reply is None or around.keep_everything
                else reply.bytes_in,
                duration_us=duration_us,
                parts_us=parts_of(reply),
                error=mask.text(error),
                expected=mask.text(verdict.expected) if verdict else "",
                actual=mask.text(verdict.actual) if verdict else "",
                variables=self._values(mask, dict(user.values)),
                captured=self._values(mask, captured or {}),
                recorded=compiled.request.recorded if hop == 0 and resource is None else None,
                trace=f"{span:016x}",
                hop=hop,
                before=self._values(mask, self._before()),
                rows=around.dealer.rows_of(user),
            )
        )
