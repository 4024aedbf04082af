from django.db import models


class Message(models.Model):
    """One event of a stream, written once by its one writer; streams only relay it.

    `subject` is a run or a rehearsal.
    """

    subject = models.UUIDField()
    sequence = models.PositiveIntegerField()
    event = models.CharField(max_length=20)
    body = models.TextField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["subject", "sequence"], name="message_once")]
        ordering = ["subject", "sequence"]
