"""Files people send: one place for the limit and for the words when there is none."""

from django.conf import settings
from django.http import HttpRequest

from dynamikos.core.errors import ImportRefused


def uploaded(request: HttpRequest, what: str) -> tuple[bytes, str]:
    """(bytes, name) of the one file sent. Raises ImportRefused."""
    file = request.FILES.get("file")
    if file is None:
        raise ImportRefused(f"No file was sent: choose {what} first.")
    if (file.size or 0) > settings.MAX_UPLOAD_BYTES:
        raise ImportRefused(
            f"{file.name} has {file.size:,} bytes; at most {settings.MAX_UPLOAD_BYTES:,} are taken. Record a shorter session or split it."
        )
    return file.read(), str(file.name)
