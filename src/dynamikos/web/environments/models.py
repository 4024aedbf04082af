from django.db import models

from dynamikos.web.accounts.models import Account
from dynamikos.web.projects.models import Project
from dynamikos.web.ui.ids import new_id


class Environment(models.Model):
    """Base addresses and values, read in journeys as env.NAME."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="environments")
    key = models.CharField(max_length=80)
    name = models.CharField(max_length=120)
    values = models.JSONField(default=dict)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="environment_key")]
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class AgreedTarget(models.Model):
    """A scheme, host and port that may be sent to, who agreed and when."""

    environment = models.ForeignKey(Environment, on_delete=models.CASCADE, related_name="targets")
    scheme = models.CharField(max_length=5)
    host = models.CharField(max_length=253)
    port = models.PositiveIntegerField()
    agreed_by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    agreed_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "scheme", "host", "port"], name="agreed_once")]
        ordering = ["host", "port"]

    def __str__(self) -> str:
        return f"{self.scheme}://{self.host}:{self.port}"
