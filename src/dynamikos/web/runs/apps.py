from typing import Any

from django.apps import AppConfig

from dynamikos.core.lifecycles import RUN, going
from dynamikos.web.ui import spine


def figure(member: Any) -> str:
    """What is still to do here, in a few words."""
    from dynamikos.web.runs.models import Run

    found = Run.objects.filter(project=member.project)
    running = found.filter(state__in=going(RUN)).count()
    return f"{running} running" if running else f"{found.count()} so far"


class RunsConfig(AppConfig):
    name = "dynamikos.web.runs"
    label = "runs"

    def ready(self) -> None:
        spine.register(50, "Runs", "runs", figure)
