"""Looks at the clock before anything is sent: a process that was stopped for so long that others
took it for lost sends nothing when it wakes.
"""

import asyncio
import math
from collections.abc import Callable

from dynamikos.engine.ports import Clock

EVERY_S = 0.2


class Pulse:
    """`at`: when the process was last seen to run; beyond `limit_s` after it nothing is sent, and
    `lost` is called.
    """

    def __init__(self, limit_s: float = math.inf, lost: Callable[[], None] = lambda: None) -> None:
        self.at, self.limit_s, self._lost = math.inf, limit_s, lost
        self.is_lost = False

    def beats(self, now: float) -> bool:
        """Whether the process still is what others take it for; once it is not, it never is
        again.
        """
        if self.is_lost or now - self.at > self.limit_s:
            if not self.is_lost:
                self.is_lost = True
                self._lost()
            return False
        self.at = now
        return True

    async def beat(self, clock: Clock) -> None:
        """For as long as the shard is performed."""
        if math.isinf(self.limit_s):
            return
        self.at = clock.now()
        while self.beats(clock.now()):
            await asyncio.sleep(EVERY_S)
