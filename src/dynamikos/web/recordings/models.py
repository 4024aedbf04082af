from django.db import models

from dynamikos.web.accounts.models import Account
from dynamikos.web.projects.models import Project
from dynamikos.web.ui.ids import new_id


class Recording(models.Model):
    """An imported session, kept untouched. Exchanges are rows of their own."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="recordings")
    name = models.CharField(max_length=160)
    creator = models.CharField(max_length=160, blank=True)
    pages = models.JSONField(default=dict)
    hosts = models.JSONField(default=list)
    remarks = models.JSONField(default=list)
    count = models.PositiveIntegerField(default=0)
    imported_by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    imported_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-imported_at"]

    def __str__(self) -> str:
        return self.name


class RecordedExchange(models.Model):
    """One exchange as compressed msgpack of core.exchanges.Exchange."""

    recording = models.ForeignKey(Recording, on_delete=models.CASCADE, related_name="exchanges")
    number = models.PositiveIntegerField()
    body = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["recording", "number"], name="exchange_number")]
        ordering = ["number"]
