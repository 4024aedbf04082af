"""The panel's fields of each kind of step; FIELDS is the one list of them.

The kinds themselves stand in `core/journeys/kinds`, by the same names of files. Start reading at
`base`.
"""

from typing import Any

from django.http import QueryDict

from dynamikos.core.journeys import Step
from dynamikos.core.journeys.kinds import Kind
from dynamikos.web.journeys.forms.kinds.base import KindFields
from dynamikos.web.journeys.forms.kinds.branching import ChoosingFields, DecidingFields
from dynamikos.web.journeys.forms.kinds.calling import CallingFields
from dynamikos.web.journeys.forms.kinds.keeping import KeepingFields
from dynamikos.web.journeys.forms.kinds.listing import ListingFields
from dynamikos.web.journeys.forms.kinds.logging import LoggingFields
from dynamikos.web.journeys.forms.kinds.pausing import PausingFields
from dynamikos.web.journeys.forms.kinds.repeating import RepeatingFields
from dynamikos.web.journeys.forms.kinds.sending import SendingFields
from dynamikos.web.journeys.forms.kinds.setting import SettingFields

FIELDS: dict[Kind, type[KindFields[Any]]] = {
    "step": SendingFields,
    "set": SettingFields,
    "pause": PausingFields,
    "log": LoggingFields,
    "call": CallingFields,
    "keep": KeepingFields,
    "repeat": RepeatingFields,
    "each": ListingFields,
    "if": DecidingFields,
    "choose": ChoosingFields,
}

__all__ = ["FIELDS", "item_changes", "item_shown"]


def item_changes(data: QueryDict, old: Step) -> dict[str, object]:
    """The fields of a step that the panel edits for its kind. Raises DynamikosError for what can't
    be kept.
    """
    return FIELDS[old.kind].changes(data, old)


def item_shown(step: Step) -> dict[str, object]:
    """What the panel shows of a step for its kind: the template and what it needs."""
    fields = FIELDS[step.kind]
    return {"fields_of_kind": fields.template, **fields.shown(step)}
