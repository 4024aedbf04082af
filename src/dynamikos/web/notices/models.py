from django.db import models

from dynamikos.web.accounts.models import Account
from dynamikos.web.environments.models import Environment
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.models import Project
from dynamikos.web.runs.models import Run


class Notice(models.Model):
    """Who is told of what: a webhook, which is among the agreed targets of an environment, or an
    e-mail address.
    """

    WEBHOOK, MAIL = "webhook", "e-mail"

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="notices")
    plan = models.ForeignKey(
        LoadPlan, on_delete=models.CASCADE, null=True, related_name="+"
    )  # null: of all plans
    kind = models.CharField(max_length=10)
    to = models.CharField(max_length=500)
    environment = models.ForeignKey(
        Environment, on_delete=models.CASCADE, null=True, related_name="+"
    )
    sealed = models.BinaryField(default=b"")  # the key that messages to a webhook are signed with
    events = models.JSONField(default=list)
    is_on = models.BooleanField(default=True)
    by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True, related_name="+")
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["at"]


class Sending(models.Model):
    """One message to one of them: waiting until it is due, sent, or given up."""

    class State(models.TextChoices):
        WAITING = "waiting"
        SENT = "sent"
        GIVEN_UP = "given up"

    notice = models.ForeignKey(Notice, on_delete=models.CASCADE, related_name="sendings")
    run = models.ForeignKey(Run, on_delete=models.SET_NULL, null=True, related_name="+")
    event = models.CharField(max_length=10)
    told = models.JSONField()  # core.notices.Told
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    tries = models.PositiveSmallIntegerField(default=0)
    due_at = models.DateTimeField()
    said = models.CharField(max_length=300, blank=True)  # what came of the last try
    asked_at = models.DateTimeField(auto_now_add=True)
    over_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-asked_at", "-pk"]
        indexes = [models.Index(fields=["state", "due_at"])]
