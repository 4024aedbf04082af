"""Sends what is due to be told: webhooks through the engine's own network, which keeps to agreed
targets; letters by the installation's mail server. At most so many at once; what fails is tried
again after growing waits.
"""

import asyncio
import logging
import smtplib
import threading
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import timedelta

from django.conf import settings
from django.core.mail import EmailMessage
from django.db import DatabaseError, connection
from django.utils import timezone

from dynamikos.core.errors import DynamikosError
from dynamikos.core.notices import Told, body_of, mail_of, signature, wait_s
from dynamikos.engine.failures import Failure
from dynamikos.engine.fetching import post
from dynamikos.engine.network import RealNetwork
from dynamikos.fleet.settings import seconds
from dynamikos.web.environments.queries import agreed, sealer, way_of
from dynamikos.web.notices.actions import about
from dynamikos.web.notices.models import Notice, Sending

log = logging.getLogger(__name__)
AT_ONCE, LONGEST_S = 8, seconds("TELL_S", 15.0)
OF_PROJECT, LOOKED_AT = 3, 200  # at once; and of what is due in one look
LATER = (408, 425, 429)  # of 4xx: may be another time (RFC 9110, 6585, 8470)


@dataclass(frozen=True, slots=True)
class Came:
    """What came of a try: whether it was taken, what is said of it, and whether it is worth
    another.
    """

    taken: bool
    said: str
    again: bool = True


class Teller:
    """Works in threads of its own, so that no run waits for a webhook that hangs."""

    def __init__(self, own_ports: frozenset[int] = frozenset()) -> None:
        self._own_ports = own_ports
        self._pool = ThreadPoolExecutor(AT_ONCE, "telling")
        self._under_way: dict[int, Sending] = {}
        self._has_begun = False  # with the last look: there may be more
        self._lock = threading.Lock()

    @property
    def is_busy(self) -> bool:
        with self._lock:
            return bool(self._under_way) or self._has_begun

    def tick(self) -> None:
        """Begins with what is due and is not under way, what was tried least first. A receiver has
        one place and a project some, so that one that hangs keeps nobody else's message waiting.
        """
        with self._lock:
            self._has_begun = False
            if len(self._under_way) >= AT_ONCE:
                return
            notices = {each.notice_id for each in self._under_way.values()}
            projects = Counter(each.notice.project_id for each in self._under_way.values())
            due = Sending.objects.filter(state=Sending.State.WAITING, due_at__lte=timezone.now())
            due = due.exclude(notice__in=notices).exclude(
                notice__project__in=[
                    each for each, count in projects.items() if count >= OF_PROJECT
                ]
            )
            for each in due.select_related("notice__environment").order_by("tries", "due_at", "pk")[
                :LOOKED_AT
            ]:
                project = each.notice.project_id
                if each.notice_id in notices or projects[project] >= OF_PROJECT:
                    continue
                notices.add(each.notice_id)
                projects[project] += 1
                self._under_way[each.pk], self._has_begun = each, True
                self._pool.submit(self._one, each)
                if len(self._under_way) >= AT_ONCE:
                    break

    def wait(self, seconds: float = 60.0) -> None:
        """Until nothing is under way."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            with self._lock:
                if not self._under_way:
                    return
            time.sleep(0.02)

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _one(self, sending: Sending) -> None:
        try:
            came = send(sending, self._own_ports)
            keep(sending, came)
        except DatabaseError:
            log.warning(
                "what came of telling %s could not be kept; it is told again", sending.notice.to
            )
        except Exception:
            log.exception("telling %s failed", sending.notice.to)
            keep(
                sending,
                Came(
                    False, "It failed here; why stands in log/coordinator.log, in the state folder."
                ),
            )
        finally:
            connection.close()
            with self._lock:
                self._under_way.pop(sending.pk, None)


def keep(sending: Sending, came: Came) -> None:
    """It is sent, waits for its next try, or is given up."""
    tries = sending.tries + 1
    wait = wait_s(tries) if came.again and not came.taken else None
    now = timezone.now()
    over = came.taken or wait is None
    Sending.objects.filter(pk=sending.pk).update(
        tries=tries,
        said=came.said[:300],
        state=Sending.State.SENT
        if came.taken
        else Sending.State.GIVEN_UP
        if over
        else Sending.State.WAITING,
        due_at=now + timedelta(seconds=wait or 0.0),
        over_at=now if over else None,
    )


def send(sending: Sending, own_ports: frozenset[int]) -> Came:
    """One try."""
    import msgspec

    told = msgspec.convert(sending.told, Told)
    notice = sending.notice
    if notice.kind == Notice.MAIL:
        return _mail(notice.to, told)
    if notice.environment is None:
        return Came(
            False, "Its environment was deleted; take it out, and add it anew.", again=False
        )
    try:
        key = sealer().open(bytes(notice.sealed), about(notice.pk))
    except DynamikosError as problem:
        return Came(False, str(problem), again=False)
    lines, way = agreed(notice.environment), way_of(notice.environment)  # as they are agreed now
    try:
        network = RealNetwork(
            lines,
            own_ports=own_ports,
            way=way,
            connect_s=LONGEST_S,
            first_byte_s=LONGEST_S,
            whole_s=LONGEST_S,
        )
    except (Failure, DynamikosError) as problem:
        return Came(False, str(problem), again=False)
    return asyncio.run(_hook(network, notice.to, key, str(sending.pk), told))


async def _hook(network: RealNetwork, address: str, key: str, number: str, told: Told) -> Came:
    body, at = body_of(told), int(time.time())
    heads = [
        ("User-Agent", "Dynamikos"),
        ("Content-Type", "application/json"),
        ("Dynamikos-Event", told.event),
        ("Dynamikos-Delivery", number),
        ("Dynamikos-Signature", signature(key, at, body)),
    ]
    try:
        async with asyncio.timeout(LONGEST_S):
            reply = await post(network, address, heads, body)
    except TimeoutError:
        return Came(False, f"It did not answer within {LONGEST_S:g} s.")
    except Failure as failure:
        return Came(
            False,
            f"{failure.kind}: {failure.detail}".strip(": "),
            again=failure.kind != "not-agreed",
        )
    finally:
        await network.aclose()
    where = next((value for name, value in reply.headers if name.lower() == b"location"), b"")
    return judged(reply.status, where.decode("latin-1"))


def judged(status: int, location: str = "") -> Came:
    """What the status of an answer means for a message."""
    if 200 <= status < 300:
        return Came(True, f"answered {status}")
    if 300 <= status < 400:
        where = f" to {location}" if location else ""
        return Came(
            False,
            f"It redirects{where}, which is not followed: give the address itself.",
            again=False,
        )
    if 400 <= status < 500 and status not in LATER:
        return Came(False, f"answered {status}, so it does not take this", again=False)
    return Came(False, f"answered {status}")


def _mail(to: str, told: Told) -> Came:
    if not settings.EMAIL_HOST:
        return Came(False, "This installation has no mail server (DYNAMIKOS_SMTP).", again=False)
    subject, text = mail_of(told)
    try:
        EmailMessage(subject, text, settings.DEFAULT_FROM_EMAIL, [to]).send()
    except smtplib.SMTPRecipientsRefused as problem:
        code, said = next(iter(problem.recipients.values()), (0, b""))
        return Came(
            False, f"the mail server refused the address: {code} {said!r}", again=code < 500
        )
    except smtplib.SMTPResponseException as problem:
        error = problem.smtp_error
        words = error.decode("utf-8", "replace") if isinstance(error, bytes) else error
        return Came(
            False,
            f"the mail server answered {problem.smtp_code} {words}",
            again=problem.smtp_code < 500,
        )
    except (smtplib.SMTPException, OSError) as problem:
        return Came(False, f"the mail server can't be reached: {problem}")
    return Came(True, "taken by the mail server")
