"""Calling a function."""

from django.http import QueryDict

from dynamikos.core.journeys.kinds import Call, Calling
from dynamikos.web.journeys.forms.kinds.base import EMPTY, KindFields
from dynamikos.web.journeys.forms.rows import pairs


class CallingFields(KindFields[Calling]):
    """Which function, with what, and what its result is called."""

    template = "journeys/kinds/calling.html"

    @classmethod
    def shown(cls, step: Calling) -> dict[str, object]:
        return {"with_rows": [*step.call.with_, EMPTY]}

    @classmethod
    def changes(cls, data: QueryDict, old: Calling) -> dict[str, object]:
        function, into = data.get("function", "").strip(), data.get("into", "").strip()
        return {"call": Call(function=function, with_=pairs(data, "with"), into=into)}
