"""Which exchanges are kept."""

import random
import sys

from dynamikos.core.plans.model import Keep
from dynamikos.core.reports.messages import FAILED

BODY_CHARS = 64_000
FOLLOWED = 5000  # exchanges of users that are followed, of a shard


class Choice:
    """Says whether an exchange is worth keeping: failing ones by kind, the slowest of each step, a
    random sample.
    """

    def __init__(
        self, seed: random.Random, keep: Keep | None = None, *, everything: bool = False
    ) -> None:
        self._everything, self._random, self._keep = everything, seed, keep or Keep()
        self._kinds: dict[tuple[int, str], int] = {}
        self._slowest: dict[int, list[int]] = {}
        self._sampled = self.logged = self.followed = (
            0  # samples, lines of logs, and what users did that are followed
        )
        self.floor: dict[int, int] = {}
        self.until = (
            0 if everything else self._skip() if self._keep.sampled else sys.maxsize
        )  # with everything kept, every one is due

    def failed(self, series: int, kind: str) -> str:
        """A reason, or "" when the limit of this kind is reached."""
        if self._everything:
            return FAILED + kind
        seen = self._kinds.get((series, kind), 0)
        self._kinds[(series, kind)] = seen + 1
        return FAILED + kind if seen < self._keep.failing else ""

    def follows(self) -> bool:
        """Whether one more of a user that is followed is kept."""
        self.followed += 1
        return self.followed <= FOLLOWED

    def sample(self) -> bool:
        """Decided before sending, because the body must be kept then."""
        if self._everything:
            return True
        self.until -= 1
        if self.until > 0:
            return False
        self._sampled += 1
        self.until = self._skip() if self._sampled < self._keep.sampled else sys.maxsize
        return True

    def _skip(self) -> int:
        """How many to let pass until the next sample: one in a hundred, drawn at once instead of
        each time.
        """
        return 1 + int(self._random.expovariate(0.01))

    def slowest(self, series: int, duration_us: int) -> str:
        if duration_us <= self.floor.get(
            series, -1
        ):  # the hot path looks at `floor` itself before it calls
            return ""
        most = self._keep.slowest
        if not most:
            self.floor[series] = sys.maxsize
            return ""
        best = self._slowest.setdefault(series, [])
        if len(best) < most or duration_us > best[0]:
            best.append(duration_us)
            best.sort()
            del best[:-most]
            if len(best) == most:
                self.floor[series] = best[0]
            return "among the slowest"
        return ""
