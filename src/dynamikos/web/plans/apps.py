from typing import Any

from django.apps import AppConfig

from dynamikos.web.ui import spine


def figure(member: Any) -> str:
    """What is still to do here, in a few words."""
    from dynamikos.web.plans.models import LoadPlan

    total = LoadPlan.objects.filter(project=member.project).count()
    return f"{total} plan{'' if total == 1 else 's'}"


def _load_of(member: Any, found: Any) -> tuple[list[tuple[float, float]], float, int, str]:
    from dynamikos.web.plans.queries import load_of

    return load_of(member, found.key)


class PlansConfig(AppConfig):
    name = "dynamikos.web.plans"
    label = "plans"

    def ready(self) -> None:
        from dynamikos.web.datasets import hooks

        spine.register(40, "Load", "load", figure)
        hooks.load_of = _load_of
