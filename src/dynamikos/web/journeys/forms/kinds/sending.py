"""Sending requests."""

from django.http import QueryDict

from dynamikos.core.journeys.kinds import Sending
from dynamikos.web.journeys.forms.kinds.base import KindFields


class SendingFields(KindFields[Sending]):
    """Whether they are sent at once; the requests themselves have panels of their own."""

    template = "journeys/kinds/sending.html"

    @classmethod
    def changes(cls, data: QueryDict, old: Sending) -> dict[str, object]:
        return {"at_once": bool(data.get("at_once"))} if "shows-at-once" in data else {}
