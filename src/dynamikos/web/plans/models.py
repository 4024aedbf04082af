from django.db import models

from dynamikos.web.projects.models import Project, Revision
from dynamikos.web.ui.ids import new_id


class LoadPlan(models.Model):
    """Everything one run needs; its content is the head revision (core.plans.Plan, keys instead of paths)."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="plans")
    key = models.CharField(max_length=80)
    name = models.CharField(max_length=160)
    head = models.ForeignKey(Revision, on_delete=models.PROTECT, null=True, related_name="+")
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="plan_key")]
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name
