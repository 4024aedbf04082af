from typing import Any

from django.apps import AppConfig

from dynamikos.web.ui import spine


def figure(member: Any) -> str:
    """What is still to do here, in a few words."""
    from dynamikos.web.plans.models import LoadPlan

    total = LoadPlan.objects.filter(project=member.project).count()
    return f"{total} plan{'' if total == 1 else 's'}"


class PlansConfig(AppConfig):
    name = "dynamikos.web.plans"
    label = "plans"

    def ready(self) -> None:
        spine.register(40, "Load", "load", figure)
