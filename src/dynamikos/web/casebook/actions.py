"""Changing casebooks."""

import datetime
import secrets
import uuid
from collections.abc import Callable

from django.db import transaction
from django.utils import timezone

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import key_from
from dynamikos.core.telling import PARTS
from dynamikos.core.telling import casebook as core
from dynamikos.web.casebook import showing
from dynamikos.web.casebook.models import Casebook, ReadLink
from dynamikos.web.casebook.queries import content, current, hashed
from dynamikos.web.projects import revisions
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership, Revision
from dynamikos.web.runs.models import Run

TITLE, LONGEST_DAYS = 160, 366


@transaction.atomic
def create(member: Membership, book: core.Casebook) -> Casebook:
    """A new one, open."""
    require(member, "engineer")
    book = _titled(book, book.title)
    taken = set(Casebook.objects.filter(project=member.project).values_list("key", flat=True))
    made = Casebook.objects.create(
        project=member.project, key=key_from(book.title, taken), name=book.title, by=member.account
    )
    made.head = revisions.save(None, made.pk, core.CASEBOOK, book, member.account, parent="")
    made.save(update_fields=["head"])
    note(member, "casebook begun", book.title)
    return made


def _titled(book: core.Casebook, title: str) -> core.Casebook:
    from msgspec.structs import replace

    title = title.strip()
    if not title:
        raise DynamikosError("Give the casebook a title.")
    if len(title) > TITLE:
        raise DynamikosError(f"A title has at most {TITLE} signs; this one has {len(title):,}.")
    return replace(book, title=title)


def draft(member: Membership, run: Run) -> Casebook:
    """A report of a run that is over, to be edited. Raises DynamikosError."""
    if not run.is_over or not run.outcome:
        raise DynamikosError(
            f"Run {run.number} is not over, or nothing came of it; there is nothing to tell yet."
        )
    return create(member, core.draft(f"{run.name}, run {run.number}"[:TITLE], str(run.pk), PARTS))


@transaction.atomic
def change(
    member: Membership,
    found: Casebook,
    parent: str,
    how: Callable[[core.Casebook], core.Casebook],
    label: str = "",
    about: Callable[[core.Casebook], object] = lambda book: book,
) -> Casebook:
    """If `parent` still names the head, or what the change is `about` is since then as it was:
    blocks are changed one beside the other. Raises Stale, and DynamikosError for one that is
    closed.
    """
    require(member, "engineer")
    found = Casebook.objects.select_for_update().get(pk=found.pk)
    if found.closed_at is not None:
        raise DynamikosError(
            "This casebook is closed, so nothing in it changes; open it again to go on."
        )
    now = content(found)
    before = _at(found, parent)
    if before is not None and about(before) == about(now):
        parent = revisions.token(found.head)
    book = how(now)
    found.head = revisions.save(
        found.head, found.pk, core.CASEBOOK, book, member.account, parent=parent, label=label[:200]
    )
    found.name = book.title
    found.save(update_fields=["head", "name", "changed_at"])
    return found


def _at(found: Casebook, parent: str) -> core.Casebook | None:
    """What the casebook was at the revision that a page's token names."""
    try:
        named = Revision.objects.filter(
            subject=found.pk, pk=uuid.UUID(parent.partition(":")[0])
        ).first()
    except ValueError:
        return None
    if named is None or revisions.token(named) != parent:
        return None
    return revisions.value_of(named, core.CASEBOOK)


def block_of(key: str) -> Callable[[core.Casebook], object]:
    """What a change of one block is about: that block."""
    return lambda book: next((each for each in book.blocks if each.key == key), None)


def rename(member: Membership, found: Casebook, parent: str, title: str) -> Casebook:
    return change(
        member,
        found,
        parent,
        lambda book: _titled(book, title),
        "casebook:title",
        lambda book: book.title,
    )


def pin(member: Membership, block: core.Pin) -> Casebook:
    """At the end of the open casebook that was changed last, or of a new one. Raises DynamikosError
    for what can't be shown.
    """
    require(member, "engineer")
    showing.evidence(member.project, block)
    found = current(member)
    if found is None:
        found = create(member, core.Casebook(title=f"Casebook of {timezone.now():%Y-%m-%d}"))
    return change(
        member, found, revisions.token(found.head), lambda book: core.with_block(book, block)
    )


@transaction.atomic
def undo(member: Membership, found: Casebook) -> Casebook:
    """Back to the revision before."""
    require(member, "engineer")
    found = Casebook.objects.select_for_update().get(pk=found.pk)
    if found.closed_at is not None:
        raise DynamikosError(
            "This casebook is closed, so nothing in it changes; open it again to go on."
        )
    found.head = revisions.undone(found.head)
    found.name = content(found).title
    found.save(update_fields=["head", "name", "changed_at"])
    return found


@transaction.atomic
def close(member: Membership, found: Casebook) -> None:
    """What it shows now is what it shows from now on, whatever becomes of the runs."""
    require(member, "engineer")
    found = Casebook.objects.select_for_update().get(pk=found.pk)
    found.html, found.markdown, found.folder = (
        showing.as_html(found), showing.as_markdown(found), showing.as_folder(found),
    )  # fmt: skip
    found.closed_at, found.closed_by = timezone.now(), member.account
    found.save(update_fields=["html", "markdown", "folder", "closed_at", "closed_by"])
    note(member, "casebook closed", found.name)


def open_again(member: Membership, found: Casebook) -> None:
    """Its blocks are live again."""
    require(member, "engineer")
    Casebook.objects.filter(pk=found.pk).update(
        closed_at=None, closed_by=None, html="", markdown="", folder=b""
    )
    note(member, "casebook opened again", found.name)


def delete(member: Membership, found: Casebook, sure: str) -> None:
    """With its links. Raises DynamikosError unless `sure` is its name."""
    require(member, "engineer")
    if sure.strip() != found.name:
        raise DynamikosError(
            f"To delete {found.name} write its name beside the button; its runs stay."
        )
    note(member, "casebook deleted", found.name)
    found.delete()


def make_link(member: Membership, found: Casebook, days: float) -> tuple[ReadLink, str]:
    """A link for people without an account, and its word, which is told only now. Raises
    DynamikosError.
    """
    require(member, "engineer")
    if not 0 < days <= LONGEST_DAYS:
        raise DynamikosError(
            f"A link lasts from a few minutes to {LONGEST_DAYS} days; {days:g} is beyond that."
        )
    word = secrets.token_urlsafe(32)
    until = timezone.now() + datetime.timedelta(days=days)
    made = ReadLink.objects.create(
        casebook=found, sha256=hashed(word), until=until, by=member.account
    )
    note(member, "link to read made", found.name, until=until.isoformat(timespec="minutes"))
    return made, word


def take_over(member: Membership, found: Casebook, pk: int) -> None:
    """It is this owner's from now on, and opens its casebook as long as they may make links."""
    require(member, "owner")
    if ReadLink.objects.filter(casebook=found, pk=pk, revoked_at=None).update(by=member.account):
        note(member, "link to read taken over", found.name)


def revoke(member: Membership, found: Casebook, pk: int) -> None:
    """It opens nothing from now on."""
    require(member, "engineer")
    if ReadLink.objects.filter(casebook=found, pk=pk, revoked_at=None).update(
        revoked_at=timezone.now()
    ):
        note(member, "link to read taken back", found.name)
