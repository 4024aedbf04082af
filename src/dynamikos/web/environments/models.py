from typing import Literal

from django.db import models

from dynamikos.core.plans import AgreedTarget as CoreTarget
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
    history = models.JSONField(default=list)  # {values, way} before each of the last changes
    way = models.JSONField(default=dict)  # core.plans.Way

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="environment_key")]
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Secret(models.Model):
    """A sealed text, read in journeys as secrets.NAME.

    Shown to nobody again; its fingerprint tells whether it changed.
    """

    environment = models.ForeignKey(Environment, on_delete=models.CASCADE, related_name="secrets")
    name = models.CharField(max_length=80)
    sealed = models.BinaryField()
    fingerprint = models.CharField(max_length=12)
    changed_by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "name"], name="secret_name")]
        ordering = ["name"]


class AgreedTarget(models.Model):
    """A scheme, host and port that may be sent to, at which address if not the one its name
    has, who agreed and when.
    """

    environment = models.ForeignKey(Environment, on_delete=models.CASCADE, related_name="targets")
    scheme = models.CharField(max_length=5)
    host = models.CharField(max_length=253)
    port = models.PositiveIntegerField()
    address = models.CharField(max_length=60, blank=True, default="")
    cap_per_s = models.FloatField(default=0.0)  # exchanges/s that may be sent there; 0: no limit
    agreed_by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    agreed_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["environment", "scheme", "host", "port"], name="agreed_once"
            )
        ]
        ordering = ["host", "port"]

    def __str__(self) -> str:
        return str(self.core)

    @property
    def core(self) -> CoreTarget:
        scheme: Literal["http", "https"] = "https" if self.scheme == "https" else "http"
        return CoreTarget(
            scheme=scheme,
            host=self.host,
            port=self.port,
            address=self.address,
            cap_per_s=self.cap_per_s,
        )
