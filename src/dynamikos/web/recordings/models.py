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


class Session(models.Model):
    """A recording while it is made, by a doorway or a proxy in the recorder's process."""

    class Kind(models.TextChoices):
        DOORWAY = "doorway"
        PROXY = "proxy"
        BROWSER = "browser"
        DEVICE = "device"  # a proxy that other machines reach, with a word to know and an end

    class State(models.TextChoices):
        ASKED = "asked"
        RECORDING = "recording"
        PAUSED = "paused"
        ENDED = "ended"
        REFUSED = "refused"

    recording = models.OneToOneField(
        Recording, on_delete=models.CASCADE, primary_key=True, related_name="session"
    )
    kind = models.CharField(max_length=10, choices=Kind.choices)
    targets = models.JSONField()  # origins
    way = models.JSONField(default=dict)  # core.plans.Way: whom to trust, where hosts are, proxy
    name = models.CharField(max_length=60)  # the doorway's host name
    state = models.CharField(max_length=10, choices=State.choices, default=State.ASKED)
    address = models.CharField(max_length=200, blank=True)
    authority = models.TextField(blank=True)  # the proxy's certificate to trust, PEM
    window = models.CharField(
        max_length=60, blank=True
    )  # of a browser that was started: "screen", or its DevTools address where there is none
    word = models.CharField(max_length=40, blank=True)  # what a device says to be let through
    until = models.DateTimeField(null=True)
    problem = models.TextField(blank=True)
    marks = models.JSONField(default=list)
    started_by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    started_at = models.DateTimeField(auto_now_add=True)

    @property
    def open(self) -> bool:
        return self.state in (self.State.ASKED, self.State.RECORDING, self.State.PAUSED)


class RecordedExchange(models.Model):
    """One exchange as compressed msgpack of core.exchanges.Exchange."""

    recording = models.ForeignKey(Recording, on_delete=models.CASCADE, related_name="exchanges")
    number = models.PositiveIntegerField()
    body = models.BinaryField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["recording", "number"], name="exchange_number")
        ]
        ordering = ["number"]
