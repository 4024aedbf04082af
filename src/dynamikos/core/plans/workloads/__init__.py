"""What a crowd's load is made of: a kind is a file. `Workload` is the one list of them.

Who performs a kind stands in `engine/schedule`, its fields on the page in `web/plans/workloads`, by
the same keys. Start reading at `base`.
"""

from typing import get_args

from dynamikos.core.plans.workloads.arrivals import Arrivals
from dynamikos.core.plans.workloads.base import UNIT_S, Base, Expected, OneRow, Open
from dynamikos.core.plans.workloads.held import Held
from dynamikos.core.plans.workloads.replayed import Replayed
from dynamikos.core.plans.workloads.rounds import UserRounds
from dynamikos.core.plans.workloads.users import Users

Workload = Users | UserRounds | Arrivals | Held | Replayed
KINDS: dict[str, type[Base]] = {kind.key: kind for kind in get_args(Workload)}

__all__ = [
    "KINDS",
    "UNIT_S",
    "Arrivals",
    "Base",
    "Expected",
    "Held",
    "OneRow",
    "Open",
    "Replayed",
    "UserRounds",
    "Users",
    "Workload",
]
