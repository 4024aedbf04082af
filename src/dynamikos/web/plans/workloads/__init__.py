"""The fields of each workload on a plan's page; FIELDS is the one list of them, `PARTS` the
templates they are made of.

The kinds themselves stand in `core/plans/workloads`, by the same keys. Start reading at `base`.
"""

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.plans.workloads import KINDS, Workload
from dynamikos.web.plans.workloads import arrivals, held, replayed, rounds, users
from dynamikos.web.plans.workloads.base import Fields

FIELDS: dict[str, Fields] = {
    each.key: each
    for each in (users.FIELDS, rounds.FIELDS, arrivals.FIELDS, held.FIELDS, replayed.FIELDS)
}
# (template, keys of the kinds that have it), in the order of the page
PARTS = [
    (
        f"plans/workloads/_{part}.html",
        " ".join(key for key, each in FIELDS.items() if part in each.parts),
    )
    for part in dict.fromkeys(part for each in FIELDS.values() for part in each.parts)
]

WITH_CURVE = " ".join(
    key for key in FIELDS if not KINDS[key].makes_profile
)  # whose stretches are typed


def load_from(data: QueryDict, at: str, said: str) -> Workload:
    """The load of a crowd whose fields begin with `at`; `said` begins what is said of it. Raises
    DynamikosError.
    """
    kind = data.get(at + "workload", "users")
    if kind not in FIELDS:
        raise DynamikosError(f"{said}“{kind}” is no workload; choose one of those on the page.")
    return FIELDS[kind].read(lambda name, default: data.get(at + name, "").strip() or default, said)
