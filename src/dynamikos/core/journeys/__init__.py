"""The journey: what one kind of person does, as a frozen value, and its text form.

Never performs anything. Start reading at `model`.
"""

from dynamikos.core.journeys.model import Body, Journey, Part, Request, Step, key_from
from dynamikos.core.journeys.text import journey_schema, parse_journey, write_journey
from dynamikos.core.journeys.verify import Problem, names_needed, verify

__all__ = [
    "Body",
    "Journey",
    "Part",
    "Problem",
    "Request",
    "Step",
    "journey_schema",
    "key_from",
    "names_needed",
    "parse_journey",
    "verify",
    "write_journey",
]
