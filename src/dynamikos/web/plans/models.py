from django.db import models

from dynamikos.web.projects.models import Project, Revised
from dynamikos.web.ui.ids import new_id


class Persona(models.Model):
    """How a kind of visitor behaves: core.personas.Persona."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="personas")
    key = models.CharField(max_length=80)
    name = models.CharField(max_length=80)
    content = models.JSONField()
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="persona_key")]
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class LoadPlan(Revised):
    """Everything one run needs; its content is the head revision (core.plans.Plan, keys instead of
    paths).
    """

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="plans")

    class Meta(Revised.Meta):
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="plan_key")]
