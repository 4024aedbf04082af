"""A bound on what users wrote and runs inside the engine: expressions and regular expressions are
cut off, not waited for.

A timer of the process ticks after every 100 ms of its processor time while anything is performed; a
call that has seen two ticks is cut off. So a call costs two assignments, not two system calls, and
a machine that gives the engine no time cuts nothing off.
"""

import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import ParamSpec, TypeVar

P = ParamSpec("P")
T = TypeVar("T")
TICK_S, TICKS = 0.1, 2
NOTHING = -1
tick = 0
begun = NOTHING  # the tick at which the bounded call at hand began
_watching = 0


class OverBudget(Exception):
    """A captured, checked or computed value took too long."""


def _ring(number: int, frame: object) -> None:
    global begun, tick
    tick += 1
    if begun >= 0 and tick - begun >= TICKS:
        # once: whoever began it catches it, also when it strikes while the stretch is being ended
        begun = NOTHING
        raise OverBudget(
            "captures, checks and expressions of one request took longer than "
            f"{1000 * TICK_S * TICKS:.0f} ms of the"
            " processor, so they were cut off"
        )


@contextmanager
def watching() -> Iterator[None]:
    """Makes the bound effective meanwhile.

    Only the main thread can have it, and the engine runs there; elsewhere nothing is bounded.
    """
    global _watching
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    if not _watching:
        signal.signal(signal.SIGPROF, _ring)
        signal.setitimer(signal.ITIMER_PROF, TICK_S, TICK_S)
    _watching += 1
    try:
        yield
    finally:
        _watching -= 1
        if not _watching:
            signal.setitimer(signal.ITIMER_PROF, 0)


def bounded(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """function(…), cut off by OverBudget after TICKS ticks; without keeping watch, just that.

    Where every call counts `begun = tick` and `begun = NOTHING` may be set directly: the latter in
    an inner `try … finally`, with OverBudget caught outside of it, since it can strike in there
    too.
    """
    global begun
    begun = tick
    try:
        return function(*args, **kwargs)
    finally:
        begun = NOTHING
