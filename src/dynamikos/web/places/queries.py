"""Reading generators."""

import datetime

from django.conf import settings
from django.db import connection
from django.utils import timezone

from dynamikos.core.errors import DynamikosError
from dynamikos.web.places.models import Generator


def living() -> list[Generator]:
    """Generators seen lately, longest known first."""
    since = timezone.now() - datetime.timedelta(seconds=settings.GENERATOR_LOST_S)
    return list(Generator.objects.filter(last_seen__gte=since).order_by("started_at"))


def any_living() -> list[Generator]:
    """As `living`; raises DynamikosError with the remedy when there is none."""
    found = living()
    if not found:
        raise DynamikosError(
            "No generator is there to do this. Start one with ./dynamikos generator, or "
            "./dynamikos demo which brings"
            " its own."
        )
    return found


def for_one_user() -> Generator:
    """The generator for a rehearsal or a trial of a function: one that carries no run, since its
    figures would suffer.

    Raises DynamikosError with the remedy.
    """
    found = any_living()
    free = [each for each in found if not each.busy]
    if not free:
        raise DynamikosError(
            "Every generator carries a run, and what is done there besides would be in its "
            "figures. Wait for its end,"
            " or start another generator with ./dynamikos generator."
        )
    return free[0]


def cap_of_one() -> float:
    """Requests/s of one generator's share of what the installation may send; 0: no cap."""
    whole = float(settings.MAX_REQUESTS_PER_S)
    return whole / max(1, len(living())) if whole else 0.0


def locks_held() -> set[int]:
    """Advisory locks that some living session holds (generators hold theirs while alive)."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT (classid::bigint << 32) | objid::bigint FROM pg_locks WHERE locktype = "
            "'advisory' AND granted"
        )
        return {row[0] for row in cursor.fetchall()}
