"""Changing who is told, and asking for something to be told."""

import datetime
import logging
import re
import secrets
from collections.abc import Mapping
from urllib.parse import urlsplit

from django.conf import settings
from django.db import connection, transaction
from django.db.models import Q
from django.utils import timezone
from msgspec import to_builtins

from dynamikos.core.errors import DynamikosError
from dynamikos.core.notices import EVENTS, Event, Told
from dynamikos.core.ports import port_of
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.core.verdicts.states import FORM_1
from dynamikos.web.environments.models import Environment
from dynamikos.web.environments.queries import agreed, sealer
from dynamikos.web.notices.models import Notice, Sending
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership, Project
from dynamikos.web.runs.actions import WAKE
from dynamikos.web.runs.models import Run

log = logging.getLogger(__name__)
MAIL = re.compile(r"[^@\s,;<>\"]+@[^@\s,;<>\"]+\.[^@\s,;<>\"]+|[^@\s,;<>\"]+@localhost")
MOST = 50  # of a project
TESTED, TESTS_A_MINUTE = "notice tested", 3


def about(pk: object) -> str:
    """What the key of a notice is sealed as being about."""
    return f"notice/{pk}"


@transaction.atomic
def add(member: Membership, typed: Mapping[str, str], events: list[str]) -> tuple[Notice, str]:
    """One more, and the key of a webhook, which is told only now. Raises DynamikosError for what
    can't be.
    """
    require(member, "engineer")
    kind, to = typed.get("kind", ""), typed.get("to", "").strip()
    wanted = [each for each in EVENTS if each in events]
    if not wanted:
        raise DynamikosError("Choose at least one of the things to be told of.")
    if Notice.objects.filter(project=member.project).count() >= MOST:
        raise DynamikosError(f"A project tells {MOST} at most; take one out first.")
    plan = _one(LoadPlan.objects.filter(project=member.project), typed.get("plan", ""), "plan")
    environment, key = None, ""
    if kind == Notice.WEBHOOK:
        environment = _agreeing(member.project, to)
        key = secrets.token_urlsafe(32)
    elif kind == Notice.MAIL:
        if not MAIL.fullmatch(to) or len(to) > 254:
            raise DynamikosError(
                f"“{to}” is no e-mail address; write one, like nights@brindle-fell.example."
            )
    else:
        raise DynamikosError("Choose a webhook or an e-mail address.")
    made = Notice.objects.create(
        project=member.project,
        plan=plan,
        kind=kind,
        to=to,
        environment=environment,
        events=wanted,
        by=member.account,
    )
    if key:
        made.sealed = sealer().seal(key, about(made.pk))
        made.save(update_fields=["sealed"])
    note(member, "notice added", f"{kind} {to}", events=wanted)
    return made, key


def _one(found, pk: str, what: str):  # type: ignore[no-untyped-def]
    if not pk:
        return None
    made = next((each for each in found if str(each.pk) == pk), None)
    if made is None:
        raise DynamikosError(f"This {what} is not in the project any more; choose another.")
    return made


def _agreeing(project: Project, to: str) -> Environment:
    """The environment whose agreed targets a webhook is among. Raises DynamikosError."""
    try:
        parts = urlsplit(to)
        port = port_of(parts)
    except ValueError:
        parts, port = urlsplit(""), 0
    if (
        parts.scheme not in ("http", "https")
        or not parts.hostname
        or len(to) > 500
        or re.search(r"\s", to)
    ):
        raise DynamikosError(
            f"“{to}” is no address of a webhook; it begins with https:// or http://."
        )
    if parts.username or parts.password:
        raise DynamikosError(
            "A webhook's address holds no name and password; messages are signed instead."
        )
    for each in Environment.objects.filter(project=project).order_by("name"):
        if any(
            line.covers(parts.scheme, parts.hostname.lower().rstrip("."), port)
            for line in agreed(each)
        ):
            return each
    raise DynamikosError(
        f"{parts.scheme}://{parts.hostname}:{port} is not an agreed target of any environment "
        "here, and nothing else is"
        " ever sent to. An owner agrees to it in Settings."
    )


def remove(member: Membership, found: Notice) -> None:
    """With the log of what it was sent."""
    require(member, "engineer")
    note(member, "notice taken out", f"{found.kind} {found.to}")
    found.delete()


def switch(member: Membership, found: Notice, *, is_on: bool) -> None:
    require(member, "engineer")
    Notice.objects.filter(pk=found.pk).update(is_on=is_on)
    note(member, "notice switched " + ("on" if is_on else "off"), f"{found.kind} {found.to}")


def keep_tests_few(member: Membership, found: Notice) -> None:
    """Raises DynamikosError for a person's fourth test within a minute: who receives them did not
    ask for it.
    """
    require(member, "engineer")
    since = timezone.now() - datetime.timedelta(minutes=1)
    if (
        member.project.events.filter(account=member.account, what=TESTED, at__gte=since).count()
        >= TESTS_A_MINUTE
    ):
        raise DynamikosError(
            f"{TESTS_A_MINUTE} tests were sent within a minute; wait one before the next."
        )
    note(member, TESTED, f"{found.kind} {found.to}")


def test(member: Membership, found: Notice) -> Sending:
    """A message that says that it is one, sent at once."""
    require(member, "engineer")
    told = Told(
        event="test",
        sentence="This is a test: nothing happened, and this is how it would be told.",
        project=member.project.name,
        at=timezone.now().isoformat(timespec="seconds"),
        link=link_of(member.project),
    )
    return _asked(found, None, told)


def again(member: Membership, found: Sending) -> None:
    """What was given up is tried once more, from the beginning."""
    require(member, "engineer")
    Sending.objects.filter(pk=found.pk, state=Sending.State.GIVEN_UP).update(
        state=Sending.State.WAITING, tries=0, due_at=timezone.now(), over_at=None
    )
    _hint()


def _asked(notice: Notice, run: Run | None, told: Told) -> Sending:
    made = Sending.objects.create(
        notice=notice, run=run, event=told.event, told=to_builtins(told), due_at=timezone.now()
    )
    _hint()
    return made


def _hint() -> None:
    """Whoever tells looks at once."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, '')", [WAKE])


def link_of(project: Project, run: Run | None = None) -> str:
    """Where it is read; "" where the installation does not know its own address."""
    if not settings.ADDRESS:
        return ""
    tail = f"/runs/{run.pk}" if run is not None else "/runs"
    return f"{settings.ADDRESS.rstrip('/')}/p/{project.pk}{tail}"


def announce(run: Run, event: Event, sentence: str = "") -> int:
    """To all who are to be told of it; how many. It never fails: a run does not depend on it. Of
    trials nobody is.
    """
    if run.is_trial:
        return 0
    try:
        with transaction.atomic():
            wanted = Notice.objects.filter(
                Q(plan=None) | Q(plan=run.plan_id), project=run.project_id, is_on=True
            )
            those = [each for each in wanted if event in each.events]
            if not those:
                return 0
            told = _told(run, event, sentence)
            for each in those:
                _asked(each, run, told)
            return len(those)
    except Exception:
        log.exception("what happened in run %s could not be told", run.pk)
        return 0


def _told(run: Run, event: Event, sentence: str) -> Told:
    state, doubts = "", list[str]()
    if event == "ended":
        outcome = OUTCOME.of(run.outcome) if run.outcome else None
        sentence = (
            outcome.sentence if outcome is not None else f"The run did not happen: {run.ended}."
        )
        if outcome is not None:
            state, doubts = outcome.state, outcome.doubts
    return Told(
        event=event, sentence=sentence, project=run.project.name, plan=run.name, run=run.number,
        verdict=FORM_1.get(state, "not valid" if state == "met" and doubts else state), state=state,
        doubted=bool(doubts), doubts=doubts,
        link=link_of(run.project, run), at=timezone.now().isoformat(timespec="seconds"),
    )  # fmt: skip
