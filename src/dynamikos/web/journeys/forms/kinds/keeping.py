"""Writing a row back."""

from django.http import QueryDict

from dynamikos.core.journeys.kinds import Keep, Keeping
from dynamikos.web.journeys.forms.kinds.base import EMPTY, KindFields
from dynamikos.web.journeys.forms.rows import pairs


class KeepingFields(KindFields[Keeping]):
    """Where to, and rows of a column and its text."""

    template = "journeys/kinds/keeping.html"

    @classmethod
    def shown(cls, step: Keeping) -> dict[str, object]:
        return {"row_rows": [*step.keep.row, EMPTY]}

    @classmethod
    def changes(cls, data: QueryDict, old: Keeping) -> dict[str, object]:
        return {"keep": Keep(into=data.get("into", "").strip(), row=pairs(data, "row"))}
