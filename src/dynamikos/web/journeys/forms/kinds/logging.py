"""Saying something in the log."""

from django.http import QueryDict

from dynamikos.core.journeys.kinds import Logging
from dynamikos.web.journeys.forms.kinds.base import KindFields


class LoggingFields(KindFields[Logging]):
    """Its text."""

    template = "journeys/kinds/logging.html"

    @classmethod
    def changes(cls, data: QueryDict, old: Logging) -> dict[str, object]:
        return {"log": data.get("log", "").strip() or "…"}
