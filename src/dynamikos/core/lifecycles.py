"""The states of what is performed, and which may follow which.

Each process that changes a state asks here, also where it does so in SQL: `before` are the states
from which a change is allowed, so that what another process did meanwhile is never undone.
"""

from collections.abc import Mapping
from typing import Final

from dynamikos.core.errors import DynamikosError

Lifecycle = Mapping[str, frozenset[str]]


def _table(**following: str) -> Lifecycle:
    return {state: frozenset(after.split()) for state, after in following.items()}


RUN: Final = _table(
    asked="running refused",
    running="ended refused",  # refused: a generator could not begin, so nothing was sent
    ended="",
    refused="",
)
# A part of a run on one generator. It may be taken for lost by mistake (a cut line): then it goes
# on.
SHARD: Final = _table(
    assigned="loading ended lost",
    loading="ready ended lost",
    ready="running ended lost",
    running="ended lost",
    lost="running ended",
    ended="",
)
REHEARSAL: Final = _table(
    asked="running stopping lost",
    running="stopping passed failed lost",
    stopping="passed failed lost",
    passed="",
    failed="",
    lost="passed failed",  # its generator came back
)


class WrongStep(DynamikosError):
    """A state that does not follow the one that was found."""


def moved(table: Lifecycle, now: str, then: str) -> str:
    """`then`, where it may follow `now`. Raises WrongStep."""
    if then not in table[now]:
        after = ", ".join(sorted(table[now])) or "nothing"
        raise WrongStep(f"{then} does not follow {now}; {after} does")
    return then


def before(table: Lifecycle, then: str) -> list[str]:
    """The states that `then` may follow."""
    return sorted(state for state, following in table.items() if then in following)


def over(table: Lifecycle) -> list[str]:
    """The states that nothing follows."""
    return sorted(state for state, following in table.items() if not following)


def going(table: Lifecycle) -> list[str]:
    """All other states."""
    return sorted(state for state, following in table.items() if following)
