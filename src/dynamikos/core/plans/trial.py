"""A trial: the whole plan, small."""

from msgspec.structs import replace

from dynamikos.core.plans.crowds import Crowd
from dynamikos.core.plans.model import Plan
from dynamikos.core.plans.workloads import UserRounds
from dynamikos.core.profiles import Stretch

ROUNDS = 2
LONGEST_S = 1800.0  # a trial that takes longer is ended


def trial_of(plan: Plan) -> Plan:
    """`plan` with one user of each row that has a share, all at once, for two rounds each, on one
    generator. What the plan says besides stays as it is.
    """
    crowds = []
    for crowd in plan.everybody():
        rows = tuple(replace(row, share=1.0) for row in crowd.rows if row.share)
        if rows:
            crowds.append(
                Crowd(
                    crowd=crowd.crowd,
                    name=crowd.name,
                    load=UserRounds(users=len(rows), rounds=ROUNDS),
                    profile=(Stretch(stretch="hold", seconds=LONGEST_S),),
                    rows=rows,
                )
            )
    return replace(
        plan, journey="", profile=(), crowds=tuple(crowds), measured=(0.0, LONGEST_S), generators=1
    )
