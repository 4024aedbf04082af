from typing import Any

from django.apps import AppConfig

from dynamikos.web.ui import spine


def figure(member: Any) -> str:
    """How many there are, and how many are open."""
    from dynamikos.web.casebook.models import Casebook

    found = Casebook.objects.filter(project=member.project)
    return (
        f"{found.filter(closed_at=None).count()} open, {found.exclude(closed_at=None).count()} "
        "closed"
    )


class CasebookConfig(AppConfig):
    name = "dynamikos.web.casebook"
    label = "casebook"

    def ready(self) -> None:
        spine.register(60, "Casebook", "casebook", figure)
