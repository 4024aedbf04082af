"""One run under the coordinator's eyes, from asked to ended."""

from collections.abc import Sequence

import msgspec
from django.db import connection, transaction
from django.utils import timezone
from msgspec.structs import replace

from dynamikos.core.lifecycles import SHARD, over
from dynamikos.core.reports import ShardSecond
from dynamikos.core.verdicts.ending import FINISHED, LOST, Ending, ending_of, of_all, plain, stopped
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.fleet.coordinator.incoming import Incoming
from dynamikos.fleet.coordinator.losing import Losses
from dynamikos.fleet.coordinator.readings import Readings
from dynamikos.fleet.coordinator.starting import Starter
from dynamikos.fleet.coordinator.stream import say
from dynamikos.fleet.coordinator.totals import Totals
from dynamikos.web.notices.actions import announce
from dynamikos.web.places.models import Generator
from dynamikos.web.runs.actions import next_of_set, take_in
from dynamikos.web.runs.models import Chunk, Delivery, Remark, Report, Run, Shard

GONE = "the shell that started it is gone"


class RunWatch:
    """Looks at one run again and again until `is_over`."""

    def __init__(self, run: Run) -> None:
        self.run, self.is_over = run, False
        self.totals = Totals(run)
        self.incoming = Incoming()
        self._starter = Starter(run, self.totals.frozen)
        self._losses, self._readings = Losses(run), Readings(run)

    def look(self, *, may_judge_lost: bool, full: str = "") -> None:
        """`full` says that there is no room for what the run will report."""
        self.run.refresh_from_db()
        if self.run.state == Run.State.ASKED:
            why = stopped("disk", full) if full else self._starter.begin()
            if why is not None:
                self.give_up(why)
            return
        shards = list(self.run.shards.select_related("generator").defer("by_value"))
        if may_judge_lost:
            self._losses.look(shards, self.incoming.read)
        if self.run.begins_at is None and not self._starter.has_begun(shards):
            refusal = self._starter.refusal(shards)
            if refusal is not None:
                self.give_up(refusal)
            return
        self._look_for_whoever_waits()
        if full:
            self._stop(stopped("disk", full, now=True))
        self.totals.follow_changes()
        self.incoming.take(shards)
        self._readings.tell(self.totals.watching)
        self._expand(shards)
        if shards and all(
            shard.state in over(SHARD) or self._losses.is_given_up(shard) for shard in shards
        ):
            self._close(shards)

    def _look_for_whoever_waits(self) -> None:
        """A run that a shell waits for is stopped when that is gone without a word."""
        if self.run.lease_until is not None and self.run.lease_until < timezone.now():
            self._stop(stopped("shell", GONE))

    def give_up(self, why: Ending) -> None:
        """Ends a run that can't be followed, so that nothing waits for ever; what was reported
        stays. `why` says so in its detail.
        """
        ending = replace(why, cause="refused", objective="", detail=why.why or why.words)
        Delivery.objects.filter(shard__run=self.run).delete()
        self.run.end(Run.State.REFUSED, ending)
        self.run.save(update_fields=["state", "ending", "ended_at"])
        say(self.run.pk, "end", ending.words)
        announce(self.run, "ended")
        self.is_over = True

    def fold_anew(self) -> None:
        """A run of an earlier day, whose reports were folded otherwise."""
        shards = list(self.run.shards.all())
        with transaction.atomic():
            if Report.objects.filter(shard__in=shards).exists():
                self.totals.again(shards)
                self.totals.store_rest()
            elif len(shards) == 1:  # nothing is left but what was folded: its only shard's
                self.run.chunks.update(shard=Chunk.ALL)
            self.run.is_folded = True
            self.run.save(update_fields=["is_folded"])

    def _expand(self, shards: Sequence[Shard]) -> None:
        """Each complete second into totals, a live frame, and every full minute into chunks and
        blocks, with its watermark.
        """
        incoming = self.incoming
        while (here := incoming.complete(shards)) is not None:
            second, marked = incoming.second, self.totals.watching.marked
            frame, stop = self.totals.add(second, here, shards)
            with transaction.atomic():
                if second > self.run.watermark:
                    # all of them are written anew, so not each second
                    has_marks = self.totals.watching.marked > marked
                    self._advance(second, has_marks=has_marks)
                    if stop is not None:
                        self._stop(stop)
                    say(self.run.pk, "frame", msgspec.json.encode(frame).decode())
                messages: list[ShardSecond] = list(here.values())
                self.totals.store(second, messages)
            incoming.done()

    def _advance(self, second: int, *, has_marks: bool) -> None:
        self.run.watermark, changed = second, ["watermark"]
        if has_marks:
            self.run.marks = self.totals.marks
            changed.append("marks")
        self.run.save(update_fields=changed)

    def _stop(self, stop: Ending) -> None:
        """An objective ends the run, or nobody waits for it any more; once."""
        run, how = self.run, "now" if stop.now else "gently"
        if run.commands.filter(verb__startswith="stop").exists():
            return
        if stop.by == "disk":
            text = f"Ended: {stop.why}."[:500]
            Remark.objects.create(run=run, second=self.incoming.second, text=text)
        run.commands.create(verb=f"stop-{how}", ending=plain(stop))
        say(run.pk, "log", f"Stopping {how}: {stop.why}.")
        announce(run, "stopped", f"Run {run.number} is being stopped: {stop.why}.")
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_notify('dynamikos_command', %s)", [str(run.pk)])

    def _close(self, shards: Sequence[Shard]) -> None:
        self.incoming.take(shards)
        self._expand(shards)
        if self.incoming.was_late:
            self.totals.again(shards)
        lost = [shard.generator_name for shard in shards if shard.state == "lost"]
        ended = (ending_of(shard.ending) for shard in shards if shard.state == "ended")
        ending = of_all(filter(None, ended))
        has_reported = self.incoming.second > 0
        outcome = self.totals.outcome(
            shards,
            FINISHED if ending == LOST and has_reported else ending,
            in_flight=self.incoming.in_flight,
            lost=lost,
        )
        with transaction.atomic():
            self.totals.store_rest()
            Delivery.objects.filter(shard__run=self.run).delete()
            take_in(self.run)
            self.run.end(Run.State.ENDED, ending)
            self.run.outcome = OUTCOME.plain(outcome)
            self.run.save(update_fields=["state", "ending", "ended_at", "outcome"])
            for shard in shards:
                capacity = self.incoming.capacity_of(shard.number)
                if capacity is not None and shard.generator_id is not None:
                    Generator.objects.filter(pk=shard.generator_id).update(capacity=capacity)
            next_of_set(self.run)
            say(self.run.pk, "end", ending.words)
            announce(self.run, "ended")
        self.is_over = True
