"""Whom a connection trusts, who we are, and the sessions that are resumed."""

import ssl
import tempfile
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Any

from dynamikos.core.plans import Way
from dynamikos.engine.failures import Failure


@dataclass(slots=True)
class Ticket:
    """What the TLS layer of one connection is given, and gives back: the session to resume, and
    itself.
    """

    session: ssl.SSLSession | None
    tls: ssl.SSLObject | None = None


# The event loop wraps a connection in a callback of its own, which has the context of whoever opens
# it. (It can't come with the server's name: uvloop takes nothing for one but a plain text.)
TICKET: ContextVar[Ticket | None] = ContextVar("ticket", default=None)


class Resuming(ssl.SSLContext):
    """Resumes the session of the ticket at hand (RFC 8446 §2.2, RFC 5077)."""

    def wrap_bio(
        self,
        incoming: ssl.MemoryBIO,
        outgoing: ssl.MemoryBIO,
        server_side: bool = False,
        server_hostname: Any = None,
        session: Any = None,
    ) -> Any:
        ticket = TICKET.get()
        known = session if ticket is None else ticket.session
        made = super().wrap_bio(incoming, outgoing, server_side, server_hostname, known)
        if ticket is not None:
            ticket.tls = made
        return made


def context_of(way: Way, key: str, trust: str | None) -> ssl.SSLContext:
    """Whom to trust, and who we are. Raises Failure for certificates that can't be read."""
    try:
        context = Resuming(ssl.PROTOCOL_TLS_CLIENT)
        given = way.trust if way.trust not in ("", "system", "anything") else None
        if trust or given:
            context.load_verify_locations(cafile=trust, cadata=given)
        else:
            context.load_default_certs(ssl.Purpose.SERVER_AUTH)
    except (ssl.SSLError, ValueError, OSError) as problem:
        raise Failure(
            "tls", f"the environment's trusted certificates can't be read: {problem}"
        ) from problem
    if way.trust == "anything":
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    if way.certificate:
        # made for its owner only; Python's ssl reads files alone
        with tempfile.NamedTemporaryFile("w", suffix=".pem") as file:
            file.write(way.certificate.rstrip() + "\n" + key)
            file.flush()
            try:
                context.load_cert_chain(file.name)
            except (ssl.SSLError, OSError) as problem:
                raise Failure(
                    "tls",
                    "the client certificate and its key can't be used: "
                    f"{getattr(problem, 'reason', '') or problem}",
                ) from problem
    context.set_alpn_protocols(["http/1.1"])
    return context
