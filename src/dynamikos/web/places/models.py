from django.db import models

from dynamikos.web.ui.ids import new_id


class Generator(models.Model):
    """A process that runs virtual users. It holds advisory lock `lock` while alive and renews
    `last_seen`.
    """

    id = models.UUIDField(primary_key=True)
    place = models.CharField(max_length=60)
    name = models.CharField(max_length=120)
    version = models.CharField(max_length=20)
    process = models.PositiveIntegerField()
    lock = models.BigIntegerField()
    capacity = models.PositiveIntegerField(
        default=0
    )  # exchanges/s, by its last run that kept it busy; 0: unknown
    started_at = models.DateTimeField(auto_now_add=True)
    last_seen = models.DateTimeField()
    clock_error_us = models.IntegerField(default=0)
    busy = models.BooleanField(default=False)  # whether users of a run are there, by its own word
    public_key = models.BinaryField(default=b"")  # X25519; secrets are boxed for it

    @property
    def queue(self) -> str:
        return f"g-{self.id.hex}"

    def __str__(self) -> str:
        return self.name


class Knock(models.Model):
    """A generator is asked to connect to targets once, and what it says of them and of itself."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    generator = models.ForeignKey(Generator, on_delete=models.CASCADE, related_name="+")
    frozen = models.BinaryField()
    secrets = models.BinaryField(
        default=b""
    )  # boxed for the generator; taken away when it has answered
    origins = models.JSONField()
    state = models.CharField(max_length=10, default="asked")  # asked, answered
    answer = models.JSONField(null=True)
    at = models.DateTimeField(auto_now_add=True)
