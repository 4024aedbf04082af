"""Database work of a request that goes on for long: its connection goes back to those of the
process at once.
"""

from collections.abc import Awaitable, Callable
from functools import wraps
from typing import ParamSpec, TypeVar

from asgiref.sync import sync_to_async
from django.db import connection

P = ParamSpec("P")
T = TypeVar("T")


def give_back() -> None:
    """What this thread holds of the pool; asked for anew when it is needed again."""
    if connection.settings_dict["OPTIONS"].get("pool") and not connection.in_atomic_block:
        connection.close()


def given_back(work: Callable[P, T]) -> Callable[P, T]:
    """`work`, after which nothing of the pool is held by its thread. Without a pool the connection
    stays open for the next time.
    """

    @wraps(work)
    def inner(*args: P.args, **kwargs: P.kwargs) -> T:
        try:
            return work(*args, **kwargs)
        finally:
            give_back()

    return inner


def briefly(work: Callable[P, T]) -> Callable[P, Awaitable[T]]:
    """`work` in a thread, as an awaitable; see `given_back`."""
    return sync_to_async(given_back(work))
