"""Changing journeys: every change is a revision on the one it was made on."""

from collections.abc import Callable, Sequence
from typing import Any
from urllib.parse import urlsplit

import msgspec
from django.db import transaction
from msgspec.structs import replace

from dynamikos import workers
from dynamikos.core.errors import DynamikosError, TextError
from dynamikos.core.exchanges import Recording as CoreRecording
from dynamikos.core.figures import digits
from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.journeys import (
    Shared,
    expand,
    fold,
    key_from,
    parse_journey,
    parse_shared,
    share,
    used_in,
)
from dynamikos.core.journeys.changes import Change, UseShared
from dynamikos.core.journeys.columns import renamed
from dynamikos.core.journeys.editing import find
from dynamikos.core.journeys.shared import SHARED
from dynamikos.core.journeys.text import JOURNEY
from dynamikos.web.environments.actions import create as create_environment
from dynamikos.web.environments.queries import first as first_environment
from dynamikos.web.journeys.models import Draft, Journey, SharedStep
from dynamikos.web.journeys.queries import content, readable, shared_steps
from dynamikos.web.projects import revisions
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership, Revision
from dynamikos.web.recordings.models import Recording
from dynamikos.web.recordings.queries import as_core
from dynamikos.workers.documents import Described

READ_HERE = 100_000  # characters of a text form that are read in the web process


@transaction.atomic
def create_from_recording(
    member: Membership,
    found: Recording,
    name: str,
    origins: list[str],
    others: Sequence[Recording] = (),
) -> Journey:
    """A journey of the ticked hosts; each origin becomes an address of the first environment.

    `others` are further recordings of it.
    """
    if not origins:
        raise DynamikosError(
            "No host is ticked, so nothing would be left. Tick the application's own hosts."
        )
    core: CoreRecording = as_core(found)
    asked = msgspec.msgpack.encode(
        (core, name.strip() or found.name, origins, _bases(member, origins))
    )
    scripted = workers.call("scripted", asked, seconds=60.0, memory_mb=3000)
    made = create(member, JOURNEY.read(scripted), found)
    made.others.set(others)
    return made


@transaction.atomic
def further(member: Membership, journey: Journey, recording: Recording) -> None:
    """A recording that is there becomes another one of the journey, or its own if it has none."""
    if journey.recording is None:
        journey.recording = recording
        journey.save(update_fields=["recording"])
    else:
        journey.others.add(recording)
    note(member, "recording taken as evidence", f"{journey.name}: {recording.name}")


@transaction.atomic
def create_from_description(
    member: Membership, document: bytes, name: str, chosen: list[str], address: str
) -> Journey:
    """A journey of the chosen operations ("GET /skies"); the application's address becomes one of
    the first environment.
    """
    parts = urlsplit(address.rstrip("/"))
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise DynamikosError(
            "The application's address begins with http:// or https:// and a host, such as "
            "http://127.0.0.1:8470;"
            f" '{address}' does not."
        )
    origin = f"{parts.scheme}://{parts.netloc}"
    # refused before anything is changed
    described(document, "The description", chosen, name.strip(), "{{ BASE }}" + parts.path)
    base = _bases(member, [origin])[origin]
    found = described(
        document, "The description", chosen, name.strip(), f"{{{{ {base} }}}}" + parts.path
    )
    return create(member, JOURNEY.read(found.journey))


def described(
    document: bytes, name: str, chosen: list[str] | None = None, called: str = "", base: str = ""
) -> Described:
    """What an API description holds, and a journey of the `chosen` operations. Read in a worker.

    Raises DynamikosError.
    """
    asked = msgspec.msgpack.encode((document, name, chosen, called, base))
    return msgspec.msgpack.decode(
        workers.call("described", asked, seconds=20.0, memory_mb=1000), type=Described
    )


def read_text(kind: str, text: str) -> Any:
    """The journey or shared step in a text form; a large one is read in a worker.

    Raises TextError, or DynamikosError after a while.
    """
    if len(text) <= READ_HERE:
        return parse_shared(text) if kind == "shared" else parse_journey(text)
    found = workers.call(
        "text_form", msgspec.msgpack.encode((kind, text)), seconds=30.0, memory_mb=1000
    )
    document, message, line, column = msgspec.msgpack.decode(
        found, type=tuple[bytes, str, int, int]
    )
    if message:
        raise TextError(message, line=line, column=column)
    return SHARED.read(document) if kind == "shared" else JOURNEY.read(document)


def _bases(member: Membership, origins: list[str]) -> dict[str, str]:
    """Origin → the value of the first environment that stands for it ("env.target"); what is
    missing is added there.
    """
    environment = first_environment(member.project) or create_environment(member, "Environment")
    bases: dict[str, str] = {}
    values = dict(environment.values)
    for origin in origins:
        name_for = next((key for key, value in values.items() if value == origin), "")
        if not name_for:
            name_for = key_from(
                "target" if not bases else origin.split("://")[1].split(":")[0], values
            ).replace("-", "_")
            if name_for[0].isdigit():
                name_for = "host_" + name_for
            values[name_for] = origin
        bases[origin] = f"env.{name_for}"
    if values != environment.values:
        environment.values = values
        environment.save(update_fields=["values"])
    return bases


@transaction.atomic
def create(member: Membership, core: CoreJourney, recording: Recording | None = None) -> Journey:
    """A journey with `core` as its first revision; its key is made unique in the project."""
    taken = set(Journey.objects.filter(project=member.project).values_list("key", flat=True))
    core = replace(core, journey=key_from(core.journey, taken))
    made = Journey.objects.create(
        project=member.project, key=core.journey, name=core.name, recording=recording
    )
    made.head = revisions.save(None, made.pk, JOURNEY, core, member.account, parent="", label="")
    made.save(update_fields=["head"])
    note(member, "journey created", core.name)
    return made


@transaction.atomic
def copy(member: Membership, found: Journey, name: str, into: Membership | None = None) -> Journey:
    """The same journey under another name, here or in another project of the account; there without
    its recording and with its shared steps written out.
    """
    target = into or member
    require(target, "engineer")
    core = content(found)
    title = name.strip()[:120] or f"{core.name}, copy"
    return create(target, replace(core, name=title), found.recording if into is None else None)


@transaction.atomic
def change(
    member: Membership,
    pk_or_journey: Journey,
    parent: str,
    edit: Callable[[CoreJourney], CoreJourney],
    label: str,
) -> Journey:
    """Applies `edit` to the head, if `parent` still names it. Raises Stale or DynamikosError; then
    nothing changes.
    """
    found = Journey.objects.select_for_update().get(pk=pk_or_journey.pk)
    changed = edit(content(found))
    changed, shared = fold(changed, shared_steps(found.project_id, used_in(changed)))
    for key, value in shared.items():
        _save_shared(
            member,
            SharedStep.objects.select_for_update().get(project=found.project, key=key),
            value,
            label=label,
        )
    found.head = revisions.save(
        found.head, found.pk, JOURNEY, changed, member.account, parent=parent, label=label
    )
    found.name = changed.name
    found.save(update_fields=["head", "name", "changed_at"])
    return found


def make(
    member: Membership,
    journey: Journey,
    parent: str,
    asked: Callable[[CoreJourney], Change],
    label: str = "",
) -> tuple[Journey, str]:
    """Makes the change that is `asked` of the head; (the journey, what is selected in it then).
    Raises Stale or DynamikosError; then nothing changes.
    """
    at = ""

    def edit(core: CoreJourney) -> CoreJourney:
        nonlocal at
        wanted = asked(core)
        used = [wanted.shared] if isinstance(wanted, UseShared) else []
        changed, at = wanted.apply(core, shared_steps(journey.project_id, used))
        return changed

    return change(member, journey, parent, edit, label=label), at


@transaction.atomic
def rename_column(member: Membership, old: str, new: str) -> None:
    """Every journey that uses the column `old` ("observers.email") uses `new` instead, as a
    revision of its own.
    """
    for found, core in readable(Journey.objects.filter(project=member.project)):
        if renamed(core, old, new) != core:
            change(
                member,
                found,
                revisions.token(found.head),
                lambda core: renamed(core, old, new),
                label="",
            )


def save_text(
    member: Membership, found: Journey, parent: str, text: str
) -> tuple[Journey, TextError | None]:
    """The text form as a new revision; a text that does not parse is kept as a draft and changes
    nothing else.
    """
    try:
        core = read_text("journey", text)
        if core.journey != found.key:
            raise TextError(
                f"the key 'journey' is given once and stays '{found.key}'; change 'name' instead",
                line=2,
            )
        whole = expand(core, shared_steps(found.project_id, used_in(core)))
        found = change(member, found, parent, lambda _: whole, "text form")
    except (TextError, revisions.Stale) as problem:
        Draft.objects.update_or_create(
            journey=found, account=member.account, defaults={"text": text, "parent": parent}
        )
        if isinstance(problem, revisions.Stale):
            raise
        return found, problem
    discard_draft(member, found)
    return found, None


def _save_shared(member: Membership, found: SharedStep, value: Shared, label: str = "") -> None:
    found.head = revisions.save(
        found.head,
        found.pk,
        SHARED,
        value,
        member.account,
        parent=revisions.token(found.head),
        label=label,
    )
    found.name = value.name
    found.save(update_fields=["head", "name", "changed_at"])


@transaction.atomic
def share_step(
    member: Membership, found: Journey, parent: str, step_key: str
) -> tuple[Journey, SharedStep]:
    """A step of the journey made a shared one, which this journey then uses."""
    core = content(found)
    _, _, step = find(core, step_key)
    if step.use:
        raise DynamikosError(f"“{step.name}” is shared already.")
    if not step.requests:
        raise DynamikosError(f"“{step.name}” has no request yet, so there is nothing to share.")
    key = key_from(
        step.name,
        set(SharedStep.objects.filter(project=member.project).values_list("key", flat=True)),
    )
    shared_core, value = share(core, step, key)
    made = SharedStep.objects.create(project=member.project, key=key, name=step.name)
    _save_shared(member, made, value)
    note(member, "shared step created", step.name)
    return change(member, found, parent, lambda _: shared_core, label=""), made


def save_shared(member: Membership, found: SharedStep, text: str, parent: str) -> None:
    """Name and requests from the text form. Raises TextError, DynamikosError or Stale; then nothing
    changes.
    """
    value = read_text("shared", text)
    if value.shared != found.key:
        raise TextError(
            f"the key 'shared' is given once and stays '{found.key}'; change 'name' instead", line=2
        )
    with transaction.atomic():
        found = SharedStep.objects.select_for_update().get(pk=found.pk)
        found.head = revisions.save(
            found.head, found.pk, SHARED, value, member.account, parent=parent, label=""
        )
        found.name = value.name
        found.save(update_fields=["head", "name", "changed_at"])


def restore_shared(member: Membership, found: SharedStep, number: str) -> None:
    """An older revision's content as the newest. Raises DynamikosError when there is no such
    revision.
    """
    old = Revision.objects.filter(subject=found.pk, number=digits(number) or -1).first()
    if old is None:
        raise DynamikosError(f"There is no revision {number} of this shared step.")
    _save_shared(member, found, revisions.value_of(old, SHARED))
    note(member, "revision restored", found.name, number=old.number)


def remove_shared(member: Membership, found: SharedStep, users: list[Journey]) -> None:
    """Raises DynamikosError while a journey uses it."""
    if users:
        names = ", ".join(f"“{each.name}”" for each in users[:5])
        raise DynamikosError(
            f"“{found.name}” is used by {names}; give those journeys requests of their own first."
        )
    note(member, "shared step deleted", found.name)
    found.delete()


@transaction.atomic
def step_through(member: Membership, found: Journey, forward: bool) -> Journey:
    """Undo (to the parent) or redo (to the newest child). Raises DynamikosError at the end."""
    found = Journey.objects.select_for_update().get(pk=found.pk)
    assert found.head is not None
    other = revisions.after(found.head) if forward else revisions.undone(found.head)
    if other is None:
        raise DynamikosError("There is nothing to redo.")
    found.head = other
    found.name = content(found).name
    found.save(update_fields=["head", "name", "changed_at"])
    return found


@transaction.atomic
def restore(member: Membership, found: Journey, parent: str, number: str) -> Journey:
    """An older revision's content as the newest revision. Raises DynamikosError when there is no
    such revision.
    """
    old = Revision.objects.filter(subject=found.pk, number=digits(number) or -1).first()
    if old is None:
        raise DynamikosError(f"There is no revision {number} of this journey.")
    core = revisions.value_of(old, JOURNEY)
    note(member, "revision restored", found.name, number=old.number)
    return change(member, found, parent, lambda _: core, label=f"restored revision {old.number}")


@transaction.atomic
def delete(member: Membership, found: Journey, sure: str) -> None:
    """Takes a journey away with its rehearsals; runs keep what they froze, plans say that it is
    gone. Raises DynamikosError unless `sure` is its name, or while a rehearsal of it is under way.
    """
    if sure.strip() != found.name:
        raise DynamikosError(
            f"To delete {found.name} write its name beside the button; it goes with its rehearsals "
            "and drafts."
        )
    if found.rehearsals.filter(state__in=["asked", "running", "stopping"]).exists():
        raise DynamikosError(f"{found.name} is being rehearsed; wait for the end, then delete it.")
    note(member, "journey deleted", found.name, key=found.key)
    found.delete()


def discard_draft(member: Membership, found: Journey) -> None:
    Draft.objects.filter(journey=found, account=member.account).delete()
