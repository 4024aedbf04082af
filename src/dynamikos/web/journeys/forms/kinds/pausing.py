"""Waiting."""

from django.http import QueryDict

from dynamikos.core.journeys.kinds import Pausing
from dynamikos.web.journeys.forms.kinds.base import KindFields


class PausingFields(KindFields[Pausing]):
    """How long."""

    template = "journeys/kinds/pausing.html"

    @classmethod
    def changes(cls, data: QueryDict, old: Pausing) -> dict[str, object]:
        return {"pause": data.get("pause", "").strip() or "0"}
