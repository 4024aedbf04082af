"""Files people send: one place for the limit and for the words when there is none."""

from django.conf import settings
from django.http import HttpRequest

from dynamikos.core.errors import ImportRefused


def several_uploaded(request: HttpRequest, what: str) -> list[tuple[bytes, str]]:
    """(bytes, name) of each file sent, in order. Raises ImportRefused."""
    files = request.FILES.getlist("file")
    if not files:
        raise ImportRefused(f"No file was sent: choose {what} first.")
    total = sum(file.size or 0 for file in files)
    if total > settings.MAX_UPLOAD_BYTES:
        names = ", ".join(str(file.name) for file in files[:5])
        raise ImportRefused(
            f"{names} have {total:,} bytes; at most {settings.MAX_UPLOAD_BYTES:,} are taken at "
            "once. Send fewer, or"
            " shorter sessions."
        )
    return [(file.read(), str(file.name)) for file in files]


def uploaded(request: HttpRequest, what: str) -> tuple[bytes, str]:
    """(bytes, name) of the file sent (the first of several). Raises ImportRefused."""
    return several_uploaded(request, what)[0]
