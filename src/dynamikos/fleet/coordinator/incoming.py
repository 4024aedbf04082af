"""What shards report, read second by second and put together to the seconds of the run."""

from collections.abc import Iterable, Iterator, Sequence

from dynamikos.core.reports import Ledger, ShardSecond, decode
from dynamikos.web.runs.models import Report, Shard


class Incoming:
    """Of one run. `second` is the one that comes next; `was_late`: reports came for seconds before
    it, which were taken already.
    """

    def __init__(self) -> None:
        self.second = 0
        self.was_late = False
        self.read: dict[int, int] = {}  # by shard, up to which second
        self._messages: dict[int, dict[int, ShardSecond]] = {}  # by second and shard
        self._last: dict[int, bool] = {}
        self._flying: dict[int, int] = {}
        self._loads: dict[int, Ledger] = {}  # of each shard, its processor and what it did with it

    @property
    def in_flight(self) -> int:
        """Exchanges that were under way when shards reported last."""
        return sum(self._flying.values())

    def capacity_of(self, shard: int) -> float | None:
        """Exchanges that it can carry a second, if that can be told."""
        return self._loads[shard].capacity_per_s if shard in self._loads else None

    def take(self, shards: Iterable[Shard]) -> None:
        """What has come since it was asked last; an earlier second may still be on its way."""
        for shard in shards:
            number = shard.number
            reports = Report.objects.filter(shard=shard, second__gt=self.read.get(number, -1))
            bodies = reports.order_by("second").values_list("second", "body")[:2000]
            for second, body in bodies:
                if second != self.read.get(number, -1) + 1:
                    break
                self._take_one(number, second, decode(bytes(body)))

    def _take_one(self, shard: int, second: int, message: ShardSecond) -> None:
        if second < self.second:  # of a shard that was taken for lost and came back
            self.was_late = True
        else:
            self._messages.setdefault(second, {})[shard] = message
        self._loads.setdefault(shard, Ledger(())).add(message, totals=False)
        self.read[shard] = second
        self._last[shard] = message.last
        self._flying[shard] = message.in_flight

    def complete(self, shards: Sequence[Shard]) -> dict[int, ShardSecond] | None:
        """The messages of the second that comes next, by shard; None while one is missing of a
        shard that goes on.
        """
        here, second = self._messages.get(self.second, {}), self.second
        going = [
            shard.number
            for shard in shards
            if (shard.state != "lost" and not self._last.get(shard.number))
            or self.read.get(shard.number, -1) >= second
        ]
        awaited = [number for number in going if self.read.get(number, -1) < second]
        return here if here and going and all(number in here for number in awaited) else None

    def done(self) -> None:
        """The second that came next was taken."""
        del self._messages[self.second]
        self.second += 1


def every_report(shards: Iterable[Shard]) -> Iterator[ShardSecond]:
    """All that was reported, second by second."""
    bodies = (
        Report.objects.filter(shard__in=shards).order_by("second").values_list("body", flat=True)
    )
    for body in bodies.iterator(chunk_size=500):
        yield decode(bytes(body))
