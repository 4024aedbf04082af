"""Taking recordings in."""

import datetime
import secrets
import time
import uuid
from collections.abc import Callable, Iterator, Sequence
from typing import Any
from urllib.parse import urlsplit

import msgspec
from django.db import connection, transaction
from django.utils import timezone

from dynamikos import workers
from dynamikos.core.errors import DynamikosError, ImportRefused, PlanError
from dynamikos.core.exchanges import hosts_of
from dynamikos.core.plans import Way, parse_target
from dynamikos.core.plans.environment import WAY
from dynamikos.web.environments import queries as environments
from dynamikos.web.projects.access import note
from dynamikos.web.projects.bulk import copy_rows
from dynamikos.web.projects.models import Membership
from dynamikos.web.recordings.models import Recording, Session
from dynamikos.web.recordings.queries import as_core
from dynamikos.workers.documents import ReadRecording

IMPORT_S, IMPORT_MB = 300.0, 4000


def import_har(
    member: Membership,
    data: bytes,
    file_name: str,
    progress: Callable[[float], None] = lambda share: None,
) -> Recording:
    """A HAR file's exchanges as an untouched recording. Raises ImportRefused; then nothing is
    stored.
    """
    read = workers.call(
        "har",
        data,
        seconds=IMPORT_S,
        memory_mb=IMPORT_MB,
        progress=lambda share: progress(0.7 * share),
    )
    core = msgspec.msgpack.decode(read, type=ReadRecording)
    total = len(core.bodies)
    with transaction.atomic():
        made = Recording.objects.create(
            project=member.project,
            name=file_name[:160],
            creator=core.creator[:160],
            pages=core.pages,
            remarks=list(core.remarks),
            count=total,
            hosts=[msgspec.to_builtins(row) for row in core.hosts],
            imported_by=member.account,
        )

        def rows() -> Iterator[tuple[object, ...]]:
            for number, body in enumerate(core.bodies):
                if number % 50 == 0:
                    progress(0.7 + 0.3 * number / total)
                yield made.pk, number, body

        copy_rows(
            "recordings_recordedexchange",
            ["recording_id", "number", "body"],
            ["uuid", "int4", "bytea"],
            rows(),
        )
        note(member, "recording imported", file_name, exchanges=total)
    return made


def paste(member: Membership, text: str, name: str) -> Recording:
    """Requests pasted as curl calls or as a browser shows them, as a recording without answers.

    Raises ImportRefused.
    """
    if not text.strip():
        raise ImportRefused(
            "Nothing was pasted: copy requests as cURL in the browser's network panel first."
        )
    read = workers.call("curl", msgspec.msgpack.encode((text, time.time_ns() // 1000)), seconds=10)
    core = msgspec.msgpack.decode(read, type=ReadRecording)
    with transaction.atomic():
        made = Recording.objects.create(
            project=member.project,
            name=(name.strip() or "Pasted requests")[:160],
            creator="pasted",
            count=len(core.bodies),
            hosts=[msgspec.to_builtins(row) for row in core.hosts],
            imported_by=member.account,
        )
        rows = ((made.pk, number, body) for number, body in enumerate(core.bodies))
        copy_rows(
            "recordings_recordedexchange",
            ["recording_id", "number", "body"],
            ["uuid", "int4", "bytea"],
            rows,
        )
        note(member, "requests pasted", made.name, exchanges=len(core.bodies))
    return made


@transaction.atomic
def import_several(
    member: Membership, files: Sequence[tuple[bytes, str]], progress: Callable[[float], None]
) -> list[Recording]:
    """Recordings of one journey from HAR files (bytes, name), in order.

    Raises ImportRefused that names the file; then none is taken in.
    """
    made = []
    for number, (data, name) in enumerate(files):
        begun = number / len(files)
        try:
            made.append(
                import_har(
                    member,
                    data,
                    name,
                    lambda share, begun=begun: progress(begun + share / len(files)),  # type: ignore[misc]
                )
            )
        except DynamikosError as problem:
            raise (
                problem
                if len(files) == 1
                else ImportRefused(
                    f"{name}: {problem} Nothing of the {len(files)} files was taken in."
                )
            ) from problem
    return made


CHANNEL = "dynamikos_recorder"
DEVICE_TIME = datetime.timedelta(hours=2)
PARTS = ("opening", "rounds", "closing")


def _hint() -> None:
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, '')", [CHANNEL])


@transaction.atomic
def begin(
    member: Membership, kind: str, addresses: str, name: str, environment: str = ""
) -> Session:
    """Asks the recorder for a doorway to, or a proxy for, the origins in `addresses` (one a line),
    reached as the environment of that key says.

    Raises DynamikosError.
    """
    if kind not in Session.Kind.values:
        raise DynamikosError(
            f"'{kind}' is not a way to record; choose doorway, proxy, device or browser."
        )
    targets = []
    for line in addresses.replace(",", "\n").split("\n"):
        line = line.strip()
        if not line:
            continue
        line = line if "://" in line else f"http://{line}"
        parts = urlsplit(line)
        if parts.fragment:
            raise DynamikosError(
                f"'{line}': what follows # stays in the browser; give the address without it and "
                "go there once it is"
                " open."
            )
        origin = f"{parts.scheme}://{parts.netloc}"
        try:
            parse_target(origin)
        except PlanError as problem:
            raise DynamikosError(f"'{line}' can't be recorded: {problem}") from problem
        if "*" in origin and kind == Session.Kind.DOORWAY:
            raise DynamikosError("A doorway needs whole host names; '*' only works with the proxy.")
        if origin not in targets:
            targets.append(origin)
    if not targets:
        raise DynamikosError(
            "Where is the application? Give its address, such as http://127.0.0.1:8470."
        )
    made = Recording.objects.create(
        project=member.project,
        name=(name.strip() or f"Recorded on {urlsplit(targets[0]).netloc}")[:160],
        creator="Dynamikos recorder",
        imported_by=member.account,
    )
    session = Session.objects.create(
        recording=made,
        kind=kind,
        targets=targets,
        way=_way(member, environment),
        name=f"r-{secrets.token_hex(5)}.localhost",
        started_by=member.account,
        word=secrets.token_hex(6) if kind == Session.Kind.DEVICE else "",
        until=timezone.now() + DEVICE_TIME if kind == Session.Kind.DEVICE else None,
    )
    note(member, "recording begun", made.name, kind=kind, targets=targets)
    transaction.on_commit(_hint)
    return session


def _way(member: Membership, environment: str) -> dict[str, Any]:
    """How an environment says that targets are reached; {} without one. Raises DynamikosError."""
    if not environment:
        return {}
    found = environments.environments(member).filter(key=environment).first()
    if found is None:
        raise DynamikosError(f"There is no environment '{environment}' any more; choose another.")
    way = environments.way_of(found)
    hosts = {each.host: each.address for each in found.targets.all() if each.address}
    if "{{" in way.proxy:
        raise DynamikosError(
            f"The proxy of {found.name} needs a secret, which a recording does not get. Record "
            "without it, or give the proxy's address without a password."
        )
    if way.proxy:
        proxy = parse_target(way.proxy)
        if not any(
            (each.scheme, each.host, each.port) == (proxy.scheme, proxy.host, proxy.port)
            for each in found.targets.all()
        ):
            raise DynamikosError(
                f"The proxy {way.proxy} of {found.name} is not one of its agreed targets, so "
                "nothing is sent through it. Agree to it in the settings first."
            )
    made = Way(trust=way.trust, hosts=hosts, proxy=way.proxy)
    return WAY.plain(made)


@transaction.atomic
def mark(session_id: uuid.UUID, name: str, part: str, from_us: int = 0, to_us: int = 0) -> Session:
    """From now on, or from `from_us` to `to_us`, the person does `name`. Raises DynamikosError."""
    name = name.strip()
    if not name:
        raise DynamikosError("A step needs a name: what the person does, such as “Sign in”.")
    if part not in PARTS:
        raise DynamikosError(
            f"'{part}' is not a part of a journey; choose from {', '.join(PARTS)}."
        )
    session = Session.objects.select_for_update().get(pk=session_id)
    marks = sorted(session.marks, key=lambda each: each["at_us"])
    made: dict[str, Any] = {
        "at_us": from_us or time.time_ns() // 1000,
        "name": name[:120],
        "part": part,
    }
    if to_us > made["at_us"]:
        before = [each for each in marks if each["at_us"] <= to_us]
        after = (
            {**before[-1], "at_us": to_us}
            if before
            else {"at_us": to_us, "name": "Not named", "part": "rounds"}
        )
        marks = [each for each in marks if not made["at_us"] <= each["at_us"] <= to_us] + [after]
    session.marks = sorted(
        [*[each for each in marks if each["at_us"] != made["at_us"]], made],
        key=lambda each: each["at_us"],
    )
    session.save(update_fields=["marks"])
    return session


@transaction.atomic
def control(member: Membership, session_id: uuid.UUID, what: str) -> Session:
    """pause, resume, drop (the last page with its resources) or stop. Raises DynamikosError."""
    session = Session.objects.select_for_update().select_related("recording").get(pk=session_id)
    if what in ("pause", "resume") and session.open:
        session.state = Session.State.PAUSED if what == "pause" else Session.State.RECORDING
    elif what == "drop":
        _drop_last(session.recording)
    elif what == "stop":
        session.state = Session.State.ENDED
        core = as_core(session.recording)
        found = session.recording
        found.count = len(core.exchanges)
        found.hosts = [msgspec.to_builtins(row) for row in hosts_of(core.exchanges)]
        if found.hosts:  # what was recorded is what was asked for
            for row in found.hosts:
                row["ours"] = row["origin"] in session.targets or row["ours"]
        found.save(update_fields=["count", "hosts"])
        note(member, "recording ended", found.name, exchanges=found.count)
    else:
        raise DynamikosError(f"'{what}' can't be done with this recording now.")
    session.save(update_fields=["state"])
    transaction.on_commit(_hint)
    return session


def _drop_last(found: Recording) -> None:
    """The last page or call, and the resources that came after it; what that means is said with the
    recording.
    """
    from dynamikos.core.exchanges.resources import is_static
    from dynamikos.web.recordings.queries import unpack

    for row in found.exchanges.order_by("-number"):
        exchange = unpack(bytes(row.body))
        row.delete()
        if not is_static(exchange):
            said = (
                f"{exchange.sent.method} {urlsplit(exchange.sent.url).path} was dropped with all "
                "that its answer issued"
            )
            found.remarks = [
                *found.remarks,
                f"{said}. If the application sends something of it later, load that page again "
                "first.",
            ]
            found.save(update_fields=["remarks"])
            break
