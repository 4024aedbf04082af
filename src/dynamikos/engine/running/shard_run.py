"""A shard from its first second to its last: users come and go, each second is reported."""

import asyncio
import contextlib
import gc
import logging
from collections.abc import Iterator, Sequence
from typing import Any

from dynamikos.core.frozen.changing import with_changes
from dynamikos.core.frozen.seating import planned_by
from dynamikos.core.profiles import share_of
from dynamikos.core.profiles.changing import Change
from dynamikos.core.reports import Health
from dynamikos.core.reports.present import Present
from dynamikos.core.verdicts.ending import FINISHED, LOST, Ending, broke, stopped
from dynamikos.core.verdicts.objectives import counted_while_open
from dynamikos.engine import guard
from dynamikos.engine.ports import Clock, Network, Sink
from dynamikos.engine.pulse import Pulse
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.running.checks import enough_descriptors, only_agreed
from dynamikos.engine.running.control import Control
from dynamikos.engine.running.shard import Shard, user_contexts
from dynamikos.engine.schedule.crowd_scheduler import SchedulerContext
from dynamikos.engine.schedule.scheduler import Scheduler
from dynamikos.engine.users.performer import User
from dynamikos.engine.users.present import present

log = logging.getLogger(__name__)
LOOK_AT_S = 0.995  # of a second: when users are counted
CLOSE_AFTER_S = (
    0.15  # a second's message is made this long after its end, so that late recordings get in
)


class ShardRun:
    """One performance of a shard; what `Control` steers. Whoever makes it has it `perform`,
    once.
    """

    def __init__(
        self,
        shard: Shard,
        network: Network,
        clock: Clock,
        sink: Sink,
        begin: float,
        control: Control,
    ) -> None:
        """`begin` is the clock's instant of second 0. Raises TemplateError, RuleError, or Failure
        for an address that nobody agreed to and for more users than this process can serve: then
        nothing is sent.
        """
        frozen = shard.frozen
        self._frozen, self._clock, self._sink, self._begin, self._control = (
            frozen,
            clock,
            sink,
            begin,
            control,
        )
        self._older = counted_while_open(frozen)
        self._recorder = Recorder(
            shard.number, begin, begin + frozen.measured[1], older=self._older
        )
        self._health = HealthWatch(sink.unsent)
        self._rows = user_contexts(
            shard, network, clock, self._recorder, self._health, sink.keep, self._used_up
        )
        scripts = [context.script for context in self._rows]
        # before users are planned: so many may take long
        only_agreed(scripts, network)
        enough_descriptors(
            scripts,
            sum(share_of(crowd.seats, shard.number, shard.count) for crowd in frozen.crowds),
        )
        self._pulse = Pulse(control.loss_s, control.lose)
        for context in self._rows:
            context.write, context.pulse = sink.write, self._pulse
        self._followed: set[int] = set()
        shared = SchedulerContext(begin, clock, self._health, self._recorder, self._make)
        self._scheduler = Scheduler(frozen, shard.number, shard.count, shared)
        self._planned_by = planned_by(self._scheduler.seats)
        self._ends = begin + frozen.ends_s + frozen.plan.grace_s

    async def perform(self) -> Ending:
        """Until its users have left, or are cut off. Reports one message a second; the last has
        `last=True`.
        """
        control = self._control
        control.attach(self)
        with _little_collecting():
            self._health.start()
            tasks = [
                asyncio.create_task(self._scheduler.perform(), name="users"),
                asyncio.create_task(control.until_stopped_now(), name="halt"),
                asyncio.create_task(self._grace(), name="grace"),
            ]
            beside = [
                asyncio.create_task(self._seconds(), name="seconds"),
                asyncio.create_task(self._pulse.beat(self._clock), name="pulse"),
            ]
            try:
                with guard.watching():
                    done, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
                for task in done:
                    task.result()
            finally:
                await self._close([*tasks, *beside])
        if control.broke is not None:
            return control.broke
        return LOST if control.is_lost else control.ending or FINISHED

    # what Control does ----------------------------------------------------------------------------

    def stop_gently(self) -> None:
        """See Steered."""
        self._scheduler.stop_gently()

    def look(self, followed: frozenset[int]) -> Present:
        """See Steered."""
        self._followed.clear()
        self._followed.update(followed)
        return present(self._scheduler.here(), self._followed, int(self._clock.now() - self._begin))

    def replan(self, changes: Sequence[Change]) -> None:
        """See Steered."""
        if changes[-1].at_s + self._begin <= self._clock.now():
            self._recorder.learned_late(self._clock.now())
        changed = with_changes(self._frozen, changes)
        self._recorder.measured_to = self._begin + changed.measured[1]
        self._scheduler.replan(changed)
        self._planned_by = planned_by(self._scheduler.seats)
        self._ends = self._begin + changed.ends_s + self._frozen.plan.grace_s

    def forget(self) -> None:
        """See Steered."""
        self._rows[0].dealer.forget_last()

    # its parts ------------------------------------------------------------------------------------

    def _make(self, row: int, number: int, **more: Any) -> User:
        made = User(number, self._rows[row], **more)
        if self._followed and number in self._followed:
            made.follow(on=True)
        return made

    def _used_up(self, why: str) -> None:
        self._control.end(stopped("rule", why))

    def _planned(self, second: int) -> int:
        return 0 if self._control.is_stopped else self._planned_by(second + LOOK_AT_S)

    def _healthy(self) -> Health:
        try:
            return self._health.read()
        except (
            Exception
        ) as problem:  # the users go on; that the generator could not look at itself is said
            log.exception("the generator's health can't be read")
            why = f"the generator's health can't be read: {problem}"[:120]
            self._recorder.left_early(self._clock.now(), "broke", why)
            return Health()

    def _tell(self, upto: int, *, last: bool = False) -> None:
        for message in self._recorder.close(
            upto,
            self._clock.now(),
            self._planned,
            self._healthy,
            last=last,
            under_way=self._scheduler.open_now() if last else (),
            lost=self._health.lost if getattr(self._clock, "is_real", False) else None,
        ):
            self._sink.report(message)

    async def _seconds(self) -> None:
        second = 0
        try:
            while True:
                await self._clock.at(self._begin + second + LOOK_AT_S)
                self._recorder.look(second, self._scheduler.open_now() if self._older else ())
                await self._clock.at(self._begin + second + 1 + CLOSE_AFTER_S)
                self._tell(second)
                second += 1
        except Exception as problem:  # without reports a run is nothing: it ends, and says why
            log.exception("a second could not be reported")
            self._control.broke = broke(
                f"a second could not be reported: {type(problem).__name__}: {problem}"
            )
            self._control.stop_now()

    async def _grace(self) -> None:
        """Until users have had their time to leave; as that may be moved, it is looked at anew each
        minute.
        """
        while self._clock.now() < self._ends:
            await self._clock.at(min(self._ends, self._clock.now() + 60))

    async def _close(self, tasks: Sequence[asyncio.Task[Any]]) -> None:
        self._control.detach()
        self._scheduler.remember_open()
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        with contextlib.suppress(OSError):
            await self._rows[0].dealer.close()
        self._health.stop()
        try:
            upto = max(int(self._clock.now() - self._begin), self._recorder.closed + 1)
            self._tell(upto, last=True)
        except Exception as problem:
            log.exception("the last second could not be reported")
            said = f"the last second could not be reported: {type(problem).__name__}: {problem}"
            self._control.broke = self._control.broke or broke(said)


@contextlib.contextmanager
def _little_collecting() -> Iterator[None]:
    """What is there stays, so that it is not looked through again and again; what comes is looked
    through less often: a full collection of a large heap stops all users for some hundredths of a
    second.
    """
    gc.collect()
    gc.freeze()
    threshold = gc.get_threshold()
    gc.set_threshold(50_000, 50, 100)
    try:
        yield
    finally:
        gc.unfreeze()
        gc.set_threshold(*threshold)
