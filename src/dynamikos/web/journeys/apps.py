from typing import Any

from django.apps import AppConfig

from dynamikos.web.ui import spine


def figure(member: Any) -> str:
    """What is still to do here, in a few words."""
    from dynamikos.web.journeys.models import Journey

    found = Journey.objects.filter(project=member.project)
    never = found.filter(rehearsals=None).count()
    total = found.count()
    return f"{total}, {never} unrehearsed" if never else f"{total}" if total else "import the first"


def _columns_used(member: Any) -> dict[str, list[str]]:
    from dynamikos.web.journeys.queries import columns_used

    return columns_used(member)


def _column_renamed(member: Any, old: str, new: str) -> None:
    from dynamikos.web.journeys.actions import rename_column

    rename_column(member, old, new)


class JourneysConfig(AppConfig):
    name = "dynamikos.web.journeys"
    label = "journeys"

    def ready(self) -> None:
        from dynamikos.web.datasets import hooks

        hooks.columns_used, hooks.column_renamed = _columns_used, _column_renamed
        spine.register(10, "Journeys", "journeys", figure)
