"""What the panel beside the ladder sends, as core values; what is wrong with it raises DynamikosError in words.

Never stores anything: that is for actions. Start reading at `requests`.
"""

from dynamikos.web.journeys.forms.bodies import leaves_of
from dynamikos.web.journeys.forms.captures import CAPTURE_FORMS, DECODINGS, capture_rows, captures_from
from dynamikos.web.journeys.forms.checks import CHECK_FORMS, HOWS, THENS, check_rows
from dynamikos.web.journeys.forms.kinds import item_changes, item_shown
from dynamikos.web.journeys.forms.proofs import PROOFS, authorization_from, headers_from
from dynamikos.web.journeys.forms.requests import request_changes

__all__ = [
    "CAPTURE_FORMS",
    "CHECK_FORMS",
    "DECODINGS",
    "HOWS",
    "PROOFS",
    "THENS",
    "authorization_from",
    "capture_rows",
    "captures_from",
    "check_rows",
    "headers_from",
    "item_changes",
    "item_shown",
    "leaves_of",
    "request_changes",
]
