"""Revisions: canonical JSON with its parent; autosaves of one spell fold, a stale change
is refused with both versions.
"""

import datetime
import uuid
from typing import TypeVar

from django.conf import settings
from django.db.models import Max
from django.utils import timezone

from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import Unfit, VersionedCodec
from dynamikos.core.frozen import canonical, digest
from dynamikos.web.accounts.models import Account
from dynamikos.web.projects.models import Revision
from dynamikos.web.ui.tabs import this_tab

T = TypeVar("T")


class Stale(DynamikosError):
    """The change was made on a revision that is not the newest any more. `head` is the newest."""

    def __init__(self, head: Revision) -> None:
        self.head = head
        who = head.author.get_username() if head.author else "somebody"
        super().__init__(
            f"This changed meanwhile: revision {head.number} by {who} is newer than the one your "
            "change was made on. "
            "Your change is kept below; reload to see the newest and make it again there."
        )


class Unreadable(DynamikosError):
    """A stored document that can't be read."""

    def __init__(self, revision: Revision, why: str) -> None:
        super().__init__(
            f"Revision {revision.number} can't be read: {why}. It is kept as it is; go back to an "
            "earlier one with Undo"
            " or under Revisions."
        )


def token(revision: Revision | None) -> str:
    """What a page sends back with a change: the revision and its content."""
    return f"{revision.pk}:{revision.sha256[:16]}" if revision is not None else ""


def value_of(revision: Revision, kind: VersionedCodec[T]) -> T:
    """The core value a revision holds. Raises Unreadable for one that can't be read: nothing else
    is harmed by it.
    """
    try:
        return kind.read(bytes(revision.document))
    except Unfit as problem:
        raise Unreadable(revision, str(problem)) from problem


def save(
    head: Revision | None,
    subject: uuid.UUID,
    kind: VersionedCodec[T],
    value: T,
    author: Account,
    *,
    parent: str,
    label: str = "",
) -> Revision:
    """A new head for `value`, a document of `kind`, on the revision `parent` names. Folds into the
    head when it is the same edit in the same spell: `label` is the form and, after a colon, what
    was changed in it.

    Raises Stale. An unchanged value returns the head as it is.
    """
    document = canonical(value)
    try:  # what is written is validated by the type that reads it
        kind.read(document)
    except Unfit as problem:
        raise DynamikosError(f"This can't be kept: {problem}. Nothing was changed.") from problem
    sha = digest(document)
    is_same_page = head is not None and _is_same_page(head, author, label)
    if parent != token(head) and not (is_same_page and _is_before(head, parent)):
        if head is None:
            raise DynamikosError("This was deleted meanwhile; reload the page.")
        raise Stale(head)
    if head is not None and head.sha256 == sha:
        return head
    if head is not None and is_same_page and head.label == label and _may_fold(head):
        head.document, head.sha256 = document, sha
        head.save(update_fields=["document", "sha256", "changed_at"])
        return head
    number = (Revision.objects.filter(subject=subject).aggregate(top=Max("number"))["top"] or 0) + 1
    return Revision.objects.create(
        subject=subject,
        number=number,
        parent=head,
        document=document,
        sha256=sha,
        author=author,
        label=label,
        tab=this_tab(),
    )


def _is_same_page(head: Revision, author: Account, label: str) -> bool:
    """Whether the head is of the same form of the same page, in the same spell."""
    spell = timezone.now() - datetime.timedelta(seconds=settings.EDITING_SPELL_S)
    is_same_form = bool(label) and head.label.partition(":")[0] == label.partition(":")[0]
    is_same_tab = head.author_id == author.pk and head.tab == this_tab()
    return is_same_form and is_same_tab and head.changed_at > spell


def _is_before(head: Revision | None, parent: str) -> bool:
    """Whether a parent is the head or the one before it: a form saves itself as it is typed in, so
    its next save may leave before the answer to the last one came back.
    """
    named = parent.partition(":")[0]
    return head is not None and named in (str(head.pk), str(head.parent_id))


def _may_fold(head: Revision) -> bool:
    return not head.used and not head.children.exists()


def before(head: Revision) -> Revision | None:
    """What undo goes back to."""
    return head.parent


def undone(head: Revision | None) -> Revision:
    """What undo goes back to. Raises DynamikosError for the first."""
    if head is None or head.parent is None:
        raise DynamikosError("There is nothing left to undo: this is the first revision.")
    return head.parent


def after(head: Revision) -> Revision | None:
    """What redo goes forward to: the newest child."""
    return head.children.order_by("-created_at").first()
