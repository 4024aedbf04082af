"""What apps above this one know of data sets; they put their own functions here when they
are ready (their `apps.py`).
"""

from dynamikos.web.datasets.models import DataSet
from dynamikos.web.projects.models import Membership


def load_of(
    member: Membership, found: DataSet
) -> tuple[list[tuple[float, float]], float, int, str]:
    """Planned users' starts and ends in s, seconds of a round, seed, and what is said of it:
    "Evening, 20 users".
    """
    return ([], 0.0, 1, "")


def columns_used(member: Membership) -> dict[str, list[str]]:
    """Each "table.column" that journeys use, with their names."""
    return {}


def column_renamed(member: Membership, old: str, new: str) -> None:
    """Whatever uses "table.old" uses "table.new" from now on."""
