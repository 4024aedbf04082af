"""What keeps an installation from starting: a database that is newer than the code, and a sealing
key that is gone.
"""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from dynamikos.cli.state import State
from dynamikos.core.errors import DynamikosError


class DatabaseAway(DynamikosError):
    """The database can't be reached, or can't keep anything."""


@contextmanager
def database_in_words() -> Iterator[None]:
    """Raises DatabaseAway, which a person understands, in place of what the database's driver
    raises.
    """
    try:
        yield
    except Exception as problem:
        if not any(
            each.__name__ == "OperationalError" for each in type(problem).__mro__
        ) or not _is_away(problem):
            raise
        said = next(iter(str(problem).strip().splitlines()), type(problem).__name__)
        raise DatabaseAway(
            f"the database can't be reached, or keeps nothing: {said[:200]}. Is it running, and is "
            "there room on its"
            f" disk? Its log is {State.open().log('pg')}."
        ) from problem


# SQLSTATE classes: connection exception, insufficient resources, operator intervention, system
# error
AWAY = ("08", "53", "57", "58")


def _is_away(problem: BaseException) -> bool:
    """Whether it is about the database as a whole; an error of the driver's without a state is
    about the connection.
    """
    state = getattr(problem, "sqlstate", None) or getattr(problem.__cause__, "sqlstate", None)
    return state is None or state.startswith(AWAY)


class CannotStart(DynamikosError):
    """Starting would do harm, or only fail later."""


def refuse_newer() -> None:
    """Raises CannotStart for a database that newer code has changed. Django is set up."""
    from django.db import connection
    from django.db.migrations.loader import MigrationLoader

    loader = MigrationLoader(connection)
    known = set(loader.disk_migrations)
    ours = {app for app, _ in known}
    unknown = sorted(
        each for each in loader.applied_migrations if each[0] in ours and each not in known
    )
    if unknown:
        app, name = unknown[-1]
        newest = max((each for each in known if each[0] == app), default=(app, "none"))[1]
        raise CannotStart(
            f"the database is newer than this code: it has {app} {name}, and this code knows {app} "
            f"up to {newest}."
            " Start the newer code, or bring back a copy of the database of this code's day. "
            "Nothing was changed."
        )


def refuse_without_key(key: Path) -> None:
    """Raises CannotStart where secrets lie sealed in the database and their key is gone: a new one
    would open none.
    """
    from dynamikos.web.environments.models import Secret
    from dynamikos.web.notices.models import Notice

    if key.exists():
        return
    sealed = Secret.objects.count() + Notice.objects.exclude(sealed=b"").count()
    if sealed:
        raise CannotStart(
            f"{sealed:,} secret{'s lie' if sealed > 1 else ' lies'} sealed in the database, and "
            "the key that opens them"
            f" is gone: bring back {key} (0600) from a back-up. No new key was made. Without it, "
            "delete the secrets:"
            " ./dynamikos shell, then Secret.objects.all().delete(), and type them again in "
            "Settings."
        )
