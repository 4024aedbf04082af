"""What earlier rehearsals tell of one: since when it fails, and who was dealt its rows before."""

from collections.abc import Iterable

from dynamikos.core.dealing.rehearsing import reads_used
from dynamikos.web.projects.models import Revision
from dynamikos.web.rehearsals.models import Rehearsal
from dynamikos.web.rehearsals.queries import Replayed

MOST_EARLIER = 200  # rehearsals that are looked through for a row


def changed_since_passed(found: Rehearsal) -> tuple[Rehearsal, list[str]] | None:
    """(the rehearsal before that passed, what was changed of the journey since) where this one
    failed and the journey is another one; None elsewhere.
    """
    if found.state != Rehearsal.State.FAILED:
        return None
    earlier = Rehearsal.objects.filter(journey=found.journey_id, number__lt=found.number)
    last = earlier.filter(state__in=("passed", "failed")).order_by("-number").first()
    if last is None or last.state != Rehearsal.State.PASSED:
        return None
    made: list[str] = []
    revision: Revision | None = found.revision
    while revision is not None and revision.pk != last.revision_id:
        made.append(revision.label or f"revision {revision.number}")
        revision = revision.parent
    return (last, made[::-1]) if made and revision is not None else None


def dealt(found: Rehearsal) -> str:
    """The rows of data it was dealt, in words: "row 19 of observers"; "" for none."""
    return ", ".join(
        f"row {first + 1:,} of {key}"
        if count == 1
        else f"rows {first + 1:,}–{first + count:,} of {key}"
        for key, (first, count) in found.dealt.items()
    )


def dealt_before(found: Rehearsal, rows: Iterable[Replayed]) -> str:
    """Where a failure reads as if a row had been used before: which rehearsal was dealt it. "" for
    none.
    """
    if not any(row.is_bad and reads_used(row.kept.status, row.kept.body) for row in rows):
        return ""
    earlier = Rehearsal.objects.filter(
        journey__project=found.journey.project, asked_at__lt=found.asked_at
    ).select_related("journey")
    for other in earlier.order_by("-asked_at")[:MOST_EARLIER]:
        for key, (first, count) in found.dealt.items():
            begin, many = other.dealt.get(key, (0, 0))
            shared = range(max(first, begin), min(first + count, begin + many))
            if shared:
                return (
                    f"Row {shared[0] + 1:,} of {key} was dealt before, to rehearsal "
                    f"{other.number} of {other.journey.name}, and the failure reads as if it can "
                    "be used once only."
                )
    return ""
