"""What a run has come to: its seconds added up, judged by interval, and folded for pages."""

import math
from collections.abc import Callable, Iterable, Sequence

import msgspec
import numpy as np
from django.db import transaction

from dynamikos.core.frozen import every_series
from dynamikos.core.frozen.changing import with_changes
from dynamikos.core.frozen.seating import Numbering, planned_by, seats_of
from dynamikos.core.profiles.changing import Change
from dynamikos.core.reports import Ledger, ShardSecond, frame_of
from dynamikos.core.reports.by_value import is_kept, packed
from dynamikos.core.reports.frames import Frame
from dynamikos.core.verdicts import Watching, conclude
from dynamikos.core.verdicts.bursts import without
from dynamikos.core.verdicts.ending import Ending
from dynamikos.core.verdicts.outcome import Outcome
from dynamikos.fleet.coordinator.expand import Folding
from dynamikos.fleet.coordinator.incoming import every_report
from dynamikos.web.runs.actions import frozen_of
from dynamikos.web.runs.measures import readings_of
from dynamikos.web.runs.models import Block, ByValueAt, Chunk, Minute, Run, Second, Shard
from dynamikos.web.runs.queries import changes_of


class Totals:
    """Of one run, in memory: after a restart of the coordinator they are read anew."""

    def __init__(self, run: Run) -> None:
        self._run = run
        self.frozen = frozen_of(run)
        self.series = {each.no: each for each in every_series(self.frozen)}
        self._changes: list[Change] = []
        self._planned: dict[int, Callable[[float], int]] = {}  # users of a shard by second
        self._begin()

    def _begin(self) -> None:
        self._window, self.whole = Ledger(self.series.values()), Ledger(self.series.values())
        self._peak = 0
        self._folding = Folding(self._run, self.series)
        self.watching = self._made_watching()

    def follow_changes(self) -> None:
        """Changes of the load: they hold from a second on that nobody has told of yet."""
        changes = changes_of(self._run)
        if len(changes) > len(self._changes):
            self._changes = changes
            self.frozen = with_changes(frozen_of(self._run), changes)
            self._planned.clear()
            self.watching.replan(self.frozen)

    def add(
        self, second: int, here: dict[int, ShardSecond], shards: Sequence[Shard]
    ) -> tuple[Frame, Ending | None]:
        """A second that is complete: (what watchers see of it, an ending where an objective asks
        for one).
        """
        messages = list(here.values())
        self._count(second, messages)
        self._peak = max(self._peak, _users(messages))
        missing = sum(
            self._planned_on(shard.number, len(shards), second)
            for shard in shards
            if shard.number not in here and shard.state == "lost"
        )
        stop = self.watching.add(second, messages, whole=len(messages) == len(shards))
        return frame_of(second, messages, self.series, missing=missing), stop

    def _count(self, second: int, messages: Iterable[ShardSecond]) -> None:
        from_s, to_s = self.frozen.measured
        for message in messages:
            self.whole.add(message, totals=False)
            self._window.add(message, totals=from_s <= second < to_s)
            self._window.carry(message)

    def _planned_on(self, shard: int, shards: int, second: int) -> int:
        """Users that are planned on a shard at the end of a second."""
        if shard not in self._planned:
            numbering = Numbering.of(frozen_of(self._run).crowds)
            self._planned[shard] = planned_by(seats_of(self.frozen, shard, shards, numbering))
        return self._planned[shard](second + 0.995)

    # what is stored ------------------------------------------------------------------------------

    @property
    def marks(self) -> dict[str, object]:
        """Of objectives that are judged by interval, as they lie in the run."""
        return {str(no): msgspec.to_builtins(marks) for no, marks in self.watching.marks.items()}

    def store(self, second: int, messages: Sequence[ShardSecond]) -> None:
        """What pages read of a second, and every full minute in chunks and blocks. Within the
        caller's transaction.
        """
        for message in messages:
            self._keep_values(message)
        self._folding.add(second, messages, write=second // 60 > self._run.chunked)
        if second % 60 == 59:
            self._chunk(second // 60)

    def store_rest(self) -> None:
        """Minutes that are not whole, too."""
        for minute in self._folding.minutes:
            self._chunk(minute)

    def _chunk(self, minute: int) -> None:
        if minute > self._run.chunked:
            self._folding.write(minute)
            self._run.chunked = minute
            self._run.save(update_fields=["chunked"])
        self._folding.forget(minute)

    def _keep_values(self, message: ShardSecond) -> None:
        """What a shard told of failures by value, if it did."""
        if message.by_value is None:
            return
        run, number, second = self._run, message.shard, message.second
        body = packed(message.by_value)
        Shard.objects.filter(run=run, number=number).update(by_value=body)
        if is_kept(second, is_last=message.last):
            ByValueAt.objects.update_or_create({"body": body}, run=run, shard=number, second=second)

    # anew ----------------------------------------------------------------------------------------

    def again(self, shards: Sequence[Shard]) -> None:
        """Everything added up anew, with the reports that came late."""
        self._begin()
        came = dict[int, list[ShardSecond]]()
        for message in every_report(shards):
            came.setdefault(message.second, []).append(message)
            self._count(message.second, [message])
        self._peak = max(map(_users, came.values()), default=0)
        ByValueAt.objects.filter(run=self._run).delete()
        for second, messages in sorted(came.items()):
            for message in messages:
                self._keep_values(message)
            self.watching.add(second, messages, whole=len(messages) == len(shards))
            self._folding.add(second, messages, write=False)
        with transaction.atomic():
            for kind in (Chunk, Block, Minute, Second):
                kind.objects.filter(run=self._run).delete()
            self._run.chunked = -1

    def _made_watching(self) -> Watching:
        """What judges by interval, with all that probes told before: of a run that goes on, or is
        added up anew.
        """
        made = Watching(self.frozen)
        if made.sources:
            until = max(math.ceil(self.frozen.ends_s), self._run.watermark + 1)
            for source, told in readings_of(self._run, self.frozen, until_s=until).items():
                for second in np.flatnonzero(~np.isnan(told.values)):
                    made.read(*source, int(second), float(told.values[second]))
        return made

    # the end -------------------------------------------------------------------------------------

    def outcome(
        self, shards: Sequence[Shard], ending: Ending, *, in_flight: int, lost: Sequence[str]
    ) -> Outcome:
        """What the run came to; `lost` names generators that were."""
        from_s, to_s = self.frozen.measured
        until_s = min(to_s, self.whole.until_s)
        return conclude(
            self.frozen,
            self._window,
            self.whole,
            ending=ending,
            in_flight=in_flight,
            peak_users=self._peak,
            lost=lost,
            chances=self.watching.chances(until_s),
            bursts=self.watching.bursts(until_s),
            calm=lambda left: without(
                every_report(shards), left, self.series.values(), from_s, to_s
            ),
            marks=self.watching.marks,
            changes=self._changes,
            readings=readings_of(self._run, self.frozen),
        )


def _users(messages: Iterable[ShardSecond]) -> int:
    return sum(sum(message.users.values()) for message in messages)
