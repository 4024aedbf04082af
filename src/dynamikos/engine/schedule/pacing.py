"""Pacing: when a user's next round begins."""

from dynamikos.engine.ports import Clock
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.schedule.crowd_scheduler import LATE_S
from dynamikos.engine.users.performer import User


class Pace:
    """The gate of one user with pacing: its next round begins `low_s` to `high_s` after its last
    one began.
    """

    def __init__(self, low_s: float, high_s: float, clock: Clock, recorder: Recorder) -> None:
        self._low_s, self._high_s, self._clock, self._recorder = low_s, high_s, clock, recorder
        self._next: float | None = None

    async def turn(self, user: User) -> float | None:
        """Waits for it; a round that could not begin in time begins at once, and counts as late."""
        if self._next is not None:
            if self._clock.now() - self._next > LATE_S:
                self._recorder.late_round(self._clock.now())
            else:
                await user.wait(self._next)
        now = self._clock.now()
        self._next = now + user.own.values.maker.random.uniform(self._low_s, self._high_s)
        return now
