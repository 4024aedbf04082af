from django.db import models

from dynamikos.web.projects.models import Project, Revision
from dynamikos.web.recordings.models import Recording
from dynamikos.web.ui.ids import new_id


class Journey(models.Model):
    """What one kind of person does; its content is the head revision."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="journeys")
    key = models.CharField(max_length=80)
    name = models.CharField(max_length=160)
    head = models.ForeignKey(Revision, on_delete=models.PROTECT, null=True, related_name="+")
    recording = models.ForeignKey(Recording, on_delete=models.SET_NULL, null=True, related_name="journeys")
    others = models.ManyToManyField(Recording, related_name="+", blank=True)  # further sessions of the same journey, to compare
    draft = models.TextField(blank=True)  # a text form that does not parse yet
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="journey_key")]
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class SharedStep(models.Model):
    """A step that several journeys use; its content is the head revision (core.journeys.Shared)."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="shared_steps")
    key = models.CharField(max_length=80)
    name = models.CharField(max_length=160)
    head = models.ForeignKey(Revision, on_delete=models.PROTECT, null=True, related_name="+")
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="shared_step_key")]
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name
