"""Who is there now, for those who watch: the users that fail and wait most, and those that are
followed.
"""

import heapq
from collections.abc import Collection, Iterable

from dynamikos.core.reports.present import Present, UserNow
from dynamikos.engine.users.performer import User

SHOWN = 40  # of a shard at most, besides those that are followed
ASKED = 2000  # of those without failures how long they wait: the loop must not stand still for them


def present(users: Iterable[User], followed: Collection[int], second: int) -> Present:
    """`users` from now on are followed if their number is in `followed`, else not."""
    failing: list[User] = []
    others: list[User] = []
    for user in users:
        (failing if user.own.failures else others).append(user)
        user.follow(on=user.number in followed)
    shown = heapq.nlargest(SHOWN, failing, key=lambda user: (user.own.failures, user.own.failed_at))
    if len(shown) < SHOWN:
        shown += heapq.nlargest(SHOWN - len(shown), others[:ASKED], key=User.waits_s)
    chosen = {
        user.number: user
        for user in (*shown, *(user for user in (*failing, *others) if user.own.followed))
    }
    return Present(
        second=second,
        users=len(failing) + len(others),
        failing=len(failing),
        shown=[_told(user) for user in chosen.values()],
    )


def _told(user: User) -> UserNow:
    own = user.own
    return UserNow(
        number=user.number,
        row=user.context.row,
        state=user.state,
        step=user.step_now(),
        round=own.round,
        failures=own.failures,
        failure=own.failure,
        ago_s=round(user.context.clock.now() - own.failed_at, 1) if own.failures else 0.0,
        waits_s=round(user.waits_s(), 2),
        values=user.shown() if own.followed else {},
        rows=user.context.dealer.rows_of(own) if own.followed else {},
    )
