from django.db import models

from dynamikos.web.projects.models import Project, Revised


class LoadPlan(Revised):
    """Everything one run needs; its content is the head revision (core.plans.Plan, keys instead of paths)."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="plans")

    class Meta(Revised.Meta):
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="plan_key")]
