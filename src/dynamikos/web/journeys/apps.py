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


class JourneysConfig(AppConfig):
    name = "dynamikos.web.journeys"
    label = "journeys"

    def ready(self) -> None:
        spine.register(10, "Journeys", "journeys", figure)
