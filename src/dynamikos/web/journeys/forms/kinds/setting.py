"""Setting values."""

from django.http import QueryDict

from dynamikos.core.journeys.kinds import Setting
from dynamikos.web.journeys.forms.kinds.base import EMPTY, KindFields
from dynamikos.web.journeys.forms.rows import pairs


class SettingFields(KindFields[Setting]):
    """Rows of a name and a text."""

    template = "journeys/kinds/setting.html"

    @classmethod
    def shown(cls, step: Setting) -> dict[str, object]:
        return {"set_rows": [*step.set, EMPTY]}

    @classmethod
    def changes(cls, data: QueryDict, old: Setting) -> dict[str, object]:
        return {"set": pairs(data, "set") or (("name", ""),)}
