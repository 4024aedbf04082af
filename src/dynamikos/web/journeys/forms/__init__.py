"""What the panel beside the ladder sends, as core values; what is wrong with it raises
DynamikosError in words.

Never stores anything: that is for actions. Start reading at `changes`.
"""

from dynamikos.web.journeys.forms.bodies import leaves_of
from dynamikos.web.journeys.forms.captures import (
    CAPTURE_FORMS,
    DECODINGS,
    capture_rows,
    captures_from,
)
from dynamikos.web.journeys.forms.changes import THINKING, change_from, think_all_from, think_from
from dynamikos.web.journeys.forms.checks import CHECK_FORMS, HOWS, THENS, check_rows
from dynamikos.web.journeys.forms.kinds import item_shown
from dynamikos.web.journeys.forms.proofs import PROOFS

__all__ = [
    "CAPTURE_FORMS",
    "CHECK_FORMS",
    "DECODINGS",
    "HOWS",
    "PROOFS",
    "THENS",
    "THINKING",
    "capture_rows",
    "captures_from",
    "change_from",
    "check_rows",
    "item_shown",
    "leaves_of",
    "think_all_from",
    "think_from",
]
