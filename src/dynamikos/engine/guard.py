"""A bound on what users wrote and runs inside the engine: expressions and regular expressions are cut off, not waited for."""

import signal
import threading
from collections.abc import Callable
from typing import ParamSpec, TypeVar

P = ParamSpec("P")
T = TypeVar("T")
LONGEST_S = 0.2


class OverBudget(Exception):
    """A captured, checked or computed value took longer than LONGEST_S."""


_armed = False
_installed = False  # only ever in the main thread, where the engine runs


def _ring(number: int, frame: object) -> None:
    if _armed:
        raise OverBudget(
            f"captures, checks and expressions of one request took longer than {LONGEST_S * 1000:.0f} ms, so they were cut off"
        )


def install() -> bool:
    """Makes the bound effective; only the main thread can. False where it can't be had (tests in threads)."""
    if threading.current_thread() is not threading.main_thread():
        return False
    global _installed
    signal.signal(signal.SIGALRM, _ring)
    _installed = True
    return True


def bounded(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """function(…), cut off by OverBudget. Costs about a microsecond: the timer of the process is set around the call."""
    global _armed
    if not _installed:
        return function(*args, **kwargs)
    _armed = True
    signal.setitimer(signal.ITIMER_REAL, LONGEST_S)
    try:
        return function(*args, **kwargs)
    finally:
        _armed = False
        signal.setitimer(signal.ITIMER_REAL, 0)
