from django.db import models

from dynamikos.web.accounts.models import Account
from dynamikos.web.journeys.models import Journey
from dynamikos.web.places.models import Generator
from dynamikos.web.projects.models import Revision
from dynamikos.web.ui.ids import new_id


class Rehearsal(models.Model):
    """One virtual user, one round or two, everything kept."""

    class State(models.TextChoices):
        ASKED = "asked"
        RUNNING = "running"
        STOPPING = "stopping"
        PASSED = "passed"
        FAILED = "failed"
        LOST = "lost"

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    journey = models.ForeignKey(Journey, on_delete=models.CASCADE, related_name="rehearsals")
    number = models.PositiveIntegerField()
    revision = models.ForeignKey(Revision, on_delete=models.PROTECT, related_name="+")
    state = models.CharField(max_length=10, choices=State.choices, default=State.ASKED)
    frozen = models.BinaryField()
    rows = models.BinaryField()
    dealt = models.JSONField(default=dict)  # by data set: first row, counted from 0, and how many
    secrets = models.BinaryField(default=b"")  # boxed for its generator, emptied at the end
    reason = models.TextField(blank=True)
    user_number = models.PositiveIntegerField(default=1)
    rounds = models.PositiveSmallIntegerField(default=1)
    cleanup = models.CharField(max_length=10, blank=True)  # "", asked, running, done, failed, gone
    generator = models.ForeignKey(Generator, on_delete=models.SET_NULL, null=True)
    asked_by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    asked_at = models.DateTimeField(auto_now_add=True)
    ended_at = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["journey", "number"], name="rehearsal_number")
        ]
        ordering = ["-asked_at"]

    @property
    def cleaning(self) -> bool:
        return self.cleanup in ("asked", "running")

    @property
    def over(self) -> bool:
        return self.state in (self.State.PASSED, self.State.FAILED, self.State.LOST)


class RehearsedExchange(models.Model):
    """One exchange as replayed: msgpack of core.reports.KeptExchange, masked by the generator."""

    rehearsal = models.ForeignKey(Rehearsal, on_delete=models.CASCADE, related_name="exchanges")
    number = models.PositiveIntegerField()
    body = models.BinaryField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["rehearsal", "number"], name="rehearsed_number")
        ]
        ordering = ["number"]
