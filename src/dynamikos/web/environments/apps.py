from typing import Any

from django.apps import AppConfig

from dynamikos.web.ui import spine


def figure(member: Any) -> str:
    """What is still to do here, in a few words."""
    from dynamikos.web.environments.models import Environment

    found = Environment.objects.filter(project=member.project).first()
    return found.name if found else "no environment"


class EnvironmentsConfig(AppConfig):
    name = "dynamikos.web.environments"
    label = "environments"

    def ready(self) -> None:
        spine.register(90, "Settings", "settings", figure)
