"""Writes a stream's messages: numbered, once, with a hint to whoever listens."""

import uuid

from django.db import connection
from django.db.models import Max

from dynamikos.web.streams.models import Message


def say(subject: uuid.UUID, event: str, body: str) -> None:
    """The next message of `subject`. The caller is its only writer and may be in a transaction (the
    hint goes out at commit).
    """
    top = Message.objects.filter(subject=subject).aggregate(top=Max("sequence"))["top"]
    sequence = 0 if top is None else top + 1
    Message.objects.create(subject=subject, sequence=sequence, event=event, body=body)
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify('dynamikos_stream', %s)", [f"{subject}.{sequence}"])
