from django.db import models

from dynamikos.web.accounts.models import Account
from dynamikos.web.projects.models import Project, Revised
from dynamikos.web.recordings.models import Recording


class Journey(Revised):
    """What one kind of person does; its content is the head revision."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="journeys")
    recording = models.ForeignKey(
        Recording, on_delete=models.SET_NULL, null=True, related_name="journeys"
    )
    # further sessions of the same journey, to compare
    others = models.ManyToManyField(Recording, related_name="+", blank=True)

    class Meta(Revised.Meta):
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="journey_key")]


class SharedStep(Revised):
    """A step that several journeys use; its content is the head revision (core.journeys.Shared)."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="shared_steps")

    class Meta(Revised.Meta):
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="shared_step_key")]


class Draft(models.Model):
    """A text form that does not parse yet, or was written on a revision (`parent`, as a page sends
    it) that is not the newest any more: each account has its own.
    """

    journey = models.ForeignKey(Journey, on_delete=models.CASCADE, related_name="drafts")
    account = models.ForeignKey(Account, on_delete=models.CASCADE)
    parent = models.CharField(max_length=60, blank=True)
    text = models.TextField()
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["journey", "account"], name="own_draft")]
