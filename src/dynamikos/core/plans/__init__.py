"""Load plans and environments as values, and their text forms.

Never opens a file: others read, this understands. Start reading at `model`.
"""

from dynamikos.core.plans.crowds import Crowd, CrowdRow
from dynamikos.core.plans.environment import (
    AgreedTarget,
    Environment,
    Way,
    parse_environment,
    parse_target,
)
from dynamikos.core.plans.model import (
    Plan,
    Timeouts,
    parse_plan,
    plan_problems,
    plan_schema,
    write_plan,
)

__all__ = [
    "AgreedTarget",
    "Crowd",
    "CrowdRow",
    "Environment",
    "Plan",
    "Timeouts",
    "Way",
    "parse_environment",
    "parse_plan",
    "parse_target",
    "plan_problems",
    "plan_schema",
    "write_plan",
]
