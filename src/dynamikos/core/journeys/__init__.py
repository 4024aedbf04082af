"""The journey: what one kind of person does, as a frozen value, and its text form.

Never performs anything. Start reading at `model`.
"""

from dynamikos.core.journeys.kinds import (
    NESTING,
    Branch,
    Call,
    Each,
    Keep,
    Kind,
    Repeat,
    Sending,
    Step,
)
from dynamikos.core.journeys.model import Journey, Part, key_from
from dynamikos.core.journeys.request import Authorization, Body, Client, FormPart, Login, Request
from dynamikos.core.journeys.shared import (
    Shared,
    expand,
    fold,
    parse_shared,
    share,
    used_in,
    write_shared,
)
from dynamikos.core.journeys.text import journey_schema, parse_journey, write_journey
from dynamikos.core.journeys.verify import Problem, names_needed, verify

__all__ = [
    "NESTING",
    "Authorization",
    "Body",
    "Branch",
    "Call",
    "Client",
    "Each",
    "FormPart",
    "Journey",
    "Keep",
    "Kind",
    "Login",
    "Part",
    "Problem",
    "Repeat",
    "Request",
    "Sending",
    "Shared",
    "Step",
    "expand",
    "fold",
    "journey_schema",
    "key_from",
    "names_needed",
    "parse_journey",
    "parse_shared",
    "share",
    "used_in",
    "verify",
    "write_journey",
    "write_shared",
]
