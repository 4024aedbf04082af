"""How a command that makes load is ended from outside: a pipeline that is cancelled leaves none
behind.

SIGINT (Ctrl-C) and SIGTERM end a run, and SIGHUP unless it was ignored when the command began
(nohup).
"""

import asyncio
import signal
import time
from collections.abc import Callable
from typing import Any


class Ended(KeyboardInterrupt):
    """The command was ended before there was anything to stop."""


class Ending:
    """Counts how often the end was asked for. Without anybody to be told (`told`) that ends the
    command at once, by Ended, until `is_over`: then what came of it is written all the same.
    """

    def __init__(self) -> None:
        self.asked, self.is_over = 0, False
        self.told: Callable[[], None] | None = None
        self.signals = [signal.SIGINT, signal.SIGTERM]
        if signal.getsignal(signal.SIGHUP) is not signal.SIG_IGN:
            self.signals.append(signal.SIGHUP)

    def begin(self) -> None:
        for each in self.signals:
            signal.signal(each, self._came)

    def _came(self, number: int, frame: Any) -> None:
        self._note(signal.Signals(number).name)

    def _note(self, name: str) -> None:
        self.asked += 1
        if self.told is not None:
            self.told()
        elif not self.is_over:
            raise Ended(name)

    def watch(self, loop: asyncio.AbstractEventLoop) -> None:
        """While an event loop runs it has to be woken."""
        for each in self.signals:
            loop.add_signal_handler(each, self._note, each.name)

    def over(self) -> None:
        """Nobody is to be told any more, and nothing is to be ended: the rest is written."""
        self.told, self.is_over = None, True
        self.begin()

    def again(self) -> None:
        """Another run follows."""
        self.is_over = False

    def sleep(self, seconds: float) -> bool:
        """False when the end was asked for meanwhile."""
        until = time.monotonic() + seconds
        while not self.asked and time.monotonic() < until:
            time.sleep(min(0.2, max(0.0, until - time.monotonic())))
        return not self.asked


ENDING = Ending()  # the command's
