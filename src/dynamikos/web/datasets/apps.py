from typing import Any

from django.apps import AppConfig

from dynamikos.web.ui import spine


def figure(member: Any) -> str:
    """What is still to do here, in a few words."""
    from dynamikos.web.datasets.models import DataSet

    total = DataSet.objects.filter(project=member.project).count()
    return f"{total} data set{'' if total == 1 else 's'}"


class DatasetsConfig(AppConfig):
    name = "dynamikos.web.datasets"
    label = "datasets"

    def ready(self) -> None:
        spine.register(20, "Data", "data", figure)
