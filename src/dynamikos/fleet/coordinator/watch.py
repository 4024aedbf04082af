"""One run under the coordinator's eyes, from asked to ended."""

import datetime
import itertools
import logging
import math
import time
from collections.abc import Callable, Iterator, Sequence

import msgspec
import numpy as np
from django.db import connection, transaction
from django.utils import timezone
from msgspec.structs import replace
from procrastinate.contrib.django import app as jobs

from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import every_series
from dynamikos.core.frozen.changing import with_changes
from dynamikos.core.frozen.seating import Numbering, planned_by, seats_of
from dynamikos.core.lifecycles import RUN, SHARD, before, moved, over
from dynamikos.core.profiles.changing import Change
from dynamikos.core.reports import Ledger, ShardSecond, decode, frame_of
from dynamikos.core.reports.by_value import is_kept, packed
from dynamikos.core.verdicts import Watching, conclude
from dynamikos.core.verdicts.bursts import without
from dynamikos.core.verdicts.ending import (
    FINISHED,
    LOST,
    Ending,
    ending_of,
    of_all,
    plain,
    refused,
    stopped,
)
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.fleet.coordinator.expand import Folding
from dynamikos.fleet.coordinator.stream import say
from dynamikos.fleet.settings import AHEAD_S, CONFIRM_S, LOADING_S, LOST_CLOSE_S, LOST_S
from dynamikos.sealing import box
from dynamikos.web.environments.queries import opened
from dynamikos.web.notices.actions import announce
from dynamikos.web.places.models import Generator
from dynamikos.web.places.queries import living, locks_held
from dynamikos.web.runs.actions import frozen_of, next_of_set, take_in
from dynamikos.web.runs.measures import readings_of
from dynamikos.web.runs.models import (
    PROBES,
    Block,
    ByValueAt,
    Chunk,
    Delivery,
    Lease,
    Minute,
    Reading,
    Remark,
    Report,
    Run,
    Second,
    Shard,
)
from dynamikos.web.runs.queries import changes_of

log = logging.getLogger(__name__)
ABANDON_S = 20.0  # an asked run that finds no generator for so long is refused

GONE = "the shell that started it is gone"


class RunWatch:
    """Keeps the totals of one run in memory; after a restart of the coordinator they are read anew
    from the reports.
    """

    def __init__(self, run: Run) -> None:
        self.run = run
        self.frozen = frozen_of(run)
        self.series = {each.no: each for each in every_series(self.frozen)}
        self.from_s, self.to_s = self.frozen.measured
        self.planned: dict[
            int, Callable[[float], int]
        ] = {}  # users of a shard by second, where it is asked for
        self.window, self.whole = Ledger(self.series.values()), Ledger(self.series.values())
        self.changes: list[Change] = []
        self.watching = self._watching()
        self.messages: dict[int, dict[int, ShardSecond]] = {}
        self.read: dict[int, int] = {}
        self.last: dict[int, bool] = {}
        self.flying: dict[int, int] = {}
        self.peak = 0
        self.folding = Folding(run, self.series)
        self.loads: dict[int, Ledger] = {}  # of each shard, its processor and what it did with it
        self.is_over = False
        self.expanded = -1
        self.seen = time.monotonic()
        self.lost: dict[
            int, tuple[float, bool]
        ] = {}  # lost shards: since when, and whether their process is gone
        newest = (
            Reading.objects.filter(run=run).order_by("-id").values_list("id", flat=True).first()
        )
        remarked = (
            Remark.objects.filter(run=run).order_by("-id").values_list("id", flat=True).first()
        )
        self.measures: dict[
            int, tuple[str, str]
        ] = {}  # probe and name of each, where they were asked for
        self.told = [newest or 0, remarked or 0]  # the newest reading and remark that were said
        self.amended = False  # whether reports came late, for seconds that were added up already

    def look(self, *, may_judge_lost: bool, full: str = "") -> None:
        """`full` says that there is no room for what the run will report."""
        self.run.refresh_from_db()
        if self.run.state == Run.State.ASKED:
            if full:
                self.give_up(stopped("disk", full))
            else:
                self._begin()
            return
        shards = list(self.run.shards.select_related("generator").defer("by_value"))
        if may_judge_lost:
            self._lost(shards)
        if self.run.begins_at is None and self._waits(shards):
            return
        self._look_for_whoever_waits()
        if full:
            self._stop(stopped("disk", full, now=True))
        self._follow_changes()
        self._read(shards)
        self._probes()
        self._expand(shards)
        if shards and all(shard.state in over(SHARD) or self._given_up(shard) for shard in shards):
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

    # beginning ------------------------------------------------------------------------------------

    def _begin(self) -> None:
        if (
            self.run.not_before is not None
            and timezone.now() < self.run.not_before
            and not self.run.commands.exists()
        ):
            return
        busy = set(
            Shard.objects.filter(state__in=before(SHARD, "lost")).values_list(
                "generator_id", flat=True
            )
        )
        free = [
            generator for generator in living() if generator.pk not in busy and not generator.busy
        ]
        if self.run.commands.exists() or (
            not free and timezone.now() - self._asked_at > datetime.timedelta(seconds=ABANDON_S)
        ):
            by_hand = refused("stopped before it began", by="person")
            self.give_up(
                by_hand if self.run.commands.exists() else refused("no generator was free")
            )
            return
        wanted = self.frozen.plan.generators
        if len(free) < wanted and (
            not free or timezone.now() - self._asked_at <= datetime.timedelta(seconds=ABANDON_S / 4)
        ):
            return
        chosen = over_places(free)[:wanted]  # users are shared out by their numbers
        try:
            secrets = opened(
                self.run.project_id, self.frozen.plan.environment, self.frozen.secret_names
            )
        except DynamikosError as problem:
            self.give_up(refused(problem))
            return
        with transaction.atomic():
            self.run.state = moved(RUN, self.run.state, Run.State.RUNNING)
            self.run.save(update_fields=["state"])
            for number, generator in enumerate(chosen):
                shard = Shard.objects.create(
                    run=self.run, number=number, generator=generator, generator_name=generator.name,
                    place=generator.place,
                )  # fmt: skip
                if secrets:
                    Delivery.objects.create(
                        shard=shard, body=box(secrets, bytes(generator.public_key))
                    )
                jobs.configure_task(
                    "perform_shard", queue=generator.queue, allow_unknown=True
                ).defer(shard=shard.pk)
            say(self.run.pk, "state", "running")

    @property
    def _asked_at(self) -> datetime.datetime:
        """Since when it could have begun."""
        return max(self.run.asked_at, self.run.not_before or self.run.asked_at)

    def _waits(self, shards: list[Shard]) -> bool:
        """Whether the run's begin is still to come: each generator first says that it is idle, and
        then that it has loaded its rows.
        """
        if all(shard.state == "ready" for shard in shards):
            self.run.begins_at = timezone.now() + datetime.timedelta(seconds=AHEAD_S)
            self.run.save(update_fields=["begins_at"])
            with connection.cursor() as cursor:
                cursor.execute("SELECT pg_notify(%s, '')", [PROBES])
            say(self.run.pk, "state", "running")
            return False
        gone = next((shard for shard in shards if shard.state in ("ended", "lost")), None)
        if gone is not None:
            lost = refused(f"the generator {gone.generator_name} was lost before the run began")
            self.give_up(ending_of(gone.ending) or lost if gone.state == "ended" else lost)
            return True
        waited = time.monotonic() - self.seen
        late = [
            shard
            for shard in shards
            if (shard.state == "assigned" and waited > CONFIRM_S) or waited > LOADING_S
        ]
        if late:
            name = late[0].generator_name
            self.give_up(
                refused(f"the generator {name} did not say that it is idle; nothing was sent")
            )
        return True

    def _given_up(self, shard: Shard) -> bool:
        """Whether a lost shard is not waited for any longer."""
        if shard.state != "lost":
            self.lost.pop(shard.number, None)
            return False
        since, gone = self.lost.setdefault(shard.number, (time.monotonic(), False))
        return time.monotonic() - since > (min(LOST_CLOSE_S, 1.0) if gone else LOST_CLOSE_S)

    # during ---------------------------------------------------------------------------------------

    def _lost(self, shards: list[Shard]) -> None:
        """Lock gone and not seen: dead. Seen no more although the lock is held (a cut link): cut
        off, treated alike.
        """
        held: set[int] | None = None
        for shard in shards:
            if shard.state in ("ended", "lost") or shard.generator is None:
                continue
            age = (timezone.now() - shard.generator.last_seen).total_seconds()
            if age < LOST_S / 2:
                continue
            held = locks_held() if held is None else held
            gone = shard.generator.lock not in held
            if (gone and age > LOST_S / 2) or age > 2 * LOST_S:
                self.lost[shard.number] = (time.monotonic(), gone)
                shard.state, shard.ending = moved(SHARD, shard.state, "lost"), plain(LOST)
                shard.lost_at_s = self.read.get(shard.number, -1) + 1
                shard.save(update_fields=["state", "ending", "lost_at_s"])
                Lease.objects.filter(run=self.run, shard=shard.number, begun=False).update(
                    shard=-1
                )  # surely not dealt
                said = (
                    f"The generator {shard.generator_name} was lost after second {shard.lost_at_s}"
                )
                say(self.run.pk, "log", f"{said}; what it reported stays.")
                announce(
                    self.run, "lost", f"{said} of run {self.run.number}; what it reported stays."
                )

    def _follow_changes(self) -> None:
        """Changes of the load: they hold from a second on that nobody has told of yet."""
        changes = changes_of(self.run)
        if len(changes) > len(self.changes):
            self.changes = changes
            self.frozen = with_changes(frozen_of(self.run), changes)
            self.from_s, self.to_s = self.frozen.measured
            self.planned.clear()
            self.watching.replan(self.frozen)

    def _read(self, shards: list[Shard]) -> None:
        for shard in shards:
            after = self.read.get(shard.number, -1)
            for second, body in (
                Report.objects.filter(shard=shard, second__gt=after)
                .order_by("second")
                .values_list("second", "body")[:2000]
            ):
                if second != self.read.get(shard.number, -1) + 1:
                    break  # an earlier one is still on its way
                message = decode(bytes(body))
                if second <= self.expanded:  # of a shard that was taken for lost and came back
                    self.amended = True
                else:
                    self.messages.setdefault(second, {})[shard.number] = message
                self.loads.setdefault(shard.number, Ledger(())).add(message, totals=False)
                self.read[shard.number] = second
                self.last[shard.number] = message.last
                self.flying[shard.number] = message.in_flight

    def _expand(self, shards: list[Shard]) -> None:
        """Each complete second into totals, a live frame, and every full minute into chunks and
        blocks, with its watermark.
        """
        while True:
            second = self.expanded + 1
            going = [
                shard.number
                for shard in shards
                if not (shard.state == "lost" or self.last.get(shard.number))
                or self.read.get(shard.number, -1) >= second
            ]
            here = self.messages.get(second, {})
            if (
                not going
                or any(number not in here for number in going if self.read.get(number, -1) < second)
                or not here
            ):
                return
            messages = list(here.values())
            inside = self.from_s <= second < self.to_s
            for message in messages:
                self.whole.add(message, totals=False)
                self.window.add(message, totals=inside)
                self.window.carry(message)
            self.peak = max(self.peak, sum(sum(message.users.values()) for message in messages))
            missing = sum(
                self._planned(shard.number, len(shards), second)
                for shard in shards
                if shard.number not in here and shard.state == "lost"
            )
            before = self.watching.marked
            stop = self.watching.add(second, messages, whole=len(messages) == len(shards))
            frame = frame_of(second, messages, self.series, missing=missing)
            with transaction.atomic():
                if second > self.run.watermark:
                    self.run.watermark = second
                    changed = ["watermark"]
                    if (
                        self.watching.marked > before
                    ):  # all of them are written anew, so not each second
                        self.run.marks = self._marks()
                        changed.append("marks")
                    self.run.save(update_fields=changed)
                    if stop is not None:
                        self._stop(stop)
                    say(self.run.pk, "frame", msgspec.json.encode(frame).decode())
                for message in messages:
                    self._keep_values(message)
                self.folding.add(second, messages, write=second // 60 > self.run.chunked)
                if second % 60 == 59:
                    self._chunk(second // 60)
            del self.messages[second]
            self.expanded = second

    def _probes(self) -> None:
        """What the prober wrote goes to whoever watches: (second, values by number of the measure),
        and remarks.
        """
        for reading in Reading.objects.filter(run=self.run, id__gt=self.told[0]).order_by("id")[
            :300
        ]:
            self.told[0] = reading.pk
            body = msgspec.json.encode([reading.second, reading.values]).decode()
            say(self.run.pk, "probes", body)
            self._tell(reading)
        for remark in Remark.objects.filter(run=self.run, id__gt=self.told[1]).order_by("id"):
            self.told[1] = remark.pk
            say(self.run.pk, "remark", msgspec.json.encode([remark.second, remark.text]).decode())

    def _watching(self) -> Watching:
        """What judges by interval, with all that probes told before: of a run that goes on, or is
        added up anew.
        """
        made = Watching(self.frozen)
        if made.sources:
            until = max(math.ceil(self.frozen.ends_s), self.run.watermark + 1)
            for source, told in readings_of(self.run, self.frozen, until_s=until).items():
                for second in np.flatnonzero(~np.isnan(told.values)):
                    made.read(*source, int(second), float(told.values[second]))
        return made

    def _tell(self, reading: Reading) -> None:
        """What objectives are about, to what judges them."""
        if not self.watching.sources:
            return
        if any(int(no) not in self.measures for no in reading.values):
            self.measures = {each.no: (each.probe, each.name) for each in self.run.measures.all()}
        for no, value in reading.values.items():
            source = self.measures.get(int(no))
            if source is not None:
                self.watching.read(*source, reading.second, value)

    def _marks(self) -> dict[str, object]:
        """As they lie in the run."""
        return {str(no): msgspec.to_builtins(marks) for no, marks in self.watching.marks.items()}

    def _stop(self, stop: Ending) -> None:
        """An objective ends the run, or nobody waits for it any more; once."""
        if self.run.commands.filter(verb__startswith="stop").exists():
            return
        if stop.by == "disk":
            Remark.objects.create(
                run=self.run, second=self.expanded + 1, text=f"Ended: {stop.why}."[:500]
            )
        self.run.commands.create(verb="stop-now" if stop.now else "stop-gently", ending=plain(stop))
        say(self.run.pk, "log", f"Stopping {'now' if stop.now else 'gently'}: {stop.why}.")
        announce(self.run, "stopped", f"Run {self.run.number} is being stopped: {stop.why}.")
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_notify('dynamikos_command', %s)", [str(self.run.pk)])

    def _planned(self, shard: int, shards: int, second: int) -> int:
        """Users that are planned on a shard at the end of a second."""
        if shard not in self.planned:
            numbering = Numbering.of(frozen_of(self.run).crowds)
            self.planned[shard] = planned_by(seats_of(self.frozen, shard, shards, numbering))
        return self.planned[shard](second + 0.995)

    def _again(self, shards: list[Shard]) -> None:
        """Everything added up anew, with the reports that came late."""
        self.window, self.whole = Ledger(self.series.values()), Ledger(self.series.values())
        self.peak, self.folding = 0, Folding(self.run, self.series)
        users: dict[int, int] = {}
        self.watching, came = self._watching(), dict[int, list[ShardSecond]]()
        for message in self._reports(shards):
            came.setdefault(message.second, []).append(message)
            self.whole.add(message, totals=False)
            self.window.add(message, totals=self.from_s <= message.second < self.to_s)
            self.window.carry(message)
            users[message.second] = users.get(message.second, 0) + sum(message.users.values())
        self.peak = max(users.values(), default=0)
        ByValueAt.objects.filter(run=self.run).delete()
        for second in sorted(came):
            for message in came[second]:
                self._keep_values(message)
            self.watching.add(second, came[second], whole=len(came[second]) == len(shards))
            self.folding.add(second, came[second], write=False)
        with transaction.atomic():
            for kind in (Chunk, Block, Minute, Second):
                kind.objects.filter(run=self.run).delete()
            self.run.chunked = -1

    def _reports(self, shards: list[Shard]) -> Iterator[ShardSecond]:
        """All that was reported, second by second."""
        bodies = (
            Report.objects.filter(shard__in=shards)
            .order_by("second")
            .values_list("body", flat=True)
        )
        for body in bodies.iterator(chunk_size=500):
            yield decode(bytes(body))

    def fold_anew(self) -> None:
        """A run of an earlier day, whose reports were folded otherwise."""
        shards = list(self.run.shards.all())
        with transaction.atomic():
            if Report.objects.filter(shard__in=shards).exists():
                self._again(shards)
                for minute in self.folding.minutes:
                    self._chunk(minute)
            elif (
                len(shards) == 1
            ):  # nothing is left but what was folded, which is of its only shard
                self.run.chunks.update(shard=Chunk.ALL)
            self.run.is_folded = True
            self.run.save(update_fields=["is_folded"])

    def _keep_values(self, message: ShardSecond) -> None:
        """What a shard told of failures by value, if it did."""
        if message.by_value is None:
            return
        body = packed(message.by_value)
        Shard.objects.filter(run=self.run, number=message.shard).update(by_value=body)
        if is_kept(message.second, is_last=message.last):
            number, second = message.shard, message.second
            ByValueAt.objects.update_or_create(
                {"body": body}, run=self.run, shard=number, second=second
            )

    def _chunk(self, minute: int) -> None:
        if minute > self.run.chunked:
            self.folding.write(minute)
            self.run.chunked = minute
            self.run.save(update_fields=["chunked"])
        self.folding.forget(minute)

    # the end --------------------------------------------------------------------------------------

    def _close(self, shards: list[Shard]) -> None:
        self._read(shards)
        self._expand(shards)
        if self.amended:
            self._again(shards)
        lost = [shard.generator_name for shard in shards if shard.state == "lost"]
        ending = of_all(
            filter(None, (ending_of(shard.ending) for shard in shards if shard.state == "ended"))
        )
        outcome = conclude(
            self.frozen,
            self.window,
            self.whole,
            ending=FINISHED if ending == LOST and self.expanded >= 0 else ending,
            in_flight=sum(self.flying.values()),
            peak_users=self.peak,
            lost=lost,
            chances=self.watching.chances(min(self.to_s, self.whole.until_s)),
            bursts=self.watching.bursts(min(self.to_s, self.whole.until_s)),
            calm=lambda left: without(
                self._reports(shards), left, self.series.values(), self.from_s, self.to_s
            ),
            marks=self.watching.marks,
            changes=self.changes,
            readings=readings_of(self.run, self.frozen),
        )
        with transaction.atomic():
            for minute in self.folding.minutes:
                self._chunk(minute)
            Delivery.objects.filter(shard__run=self.run).delete()
            take_in(self.run)
            self.run.end(Run.State.ENDED, ending)
            self.run.outcome = OUTCOME.plain(outcome)
            self.run.save(update_fields=["state", "ending", "ended_at", "outcome"])
            for shard in shards:
                capacity = (
                    self.loads[shard.number].capacity_per_s if shard.number in self.loads else None
                )
                if capacity is not None and shard.generator_id is not None:
                    Generator.objects.filter(pk=shard.generator_id).update(capacity=capacity)
            next_of_set(self.run)
            say(self.run.pk, "end", ending.words)
            announce(self.run, "ended")
        self.is_over = True


def over_places(free: Sequence[Generator]) -> list[Generator]:
    """One of each place in turn, so that a run that asks for several has all places alike: first of
    the place that is known for the longest, which a run with one generator is at.
    """
    places: dict[str, list[Generator]] = {}
    for each in free:
        places.setdefault(each.place, []).append(each)
    turns = itertools.zip_longest(*places.values())
    return [each for turn in turns for each in turn if each is not None]
