"""A load that is held, raised and lowered while it runs: the same on every generator, and nothing
lost or doubled.
"""

import asyncio
from collections import Counter
from unittest import TestCase

from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.changing import with_changes
from dynamikos.core.frozen.seating import Numbering, arrivals_of, seats_of
from dynamikos.core.plans.workloads import Arrivals, Held, UserRounds, Users
from dynamikos.core.profiles import level_at, users_at
from dynamikos.core.profiles.changing import Change, changed, delayed
from dynamikos.core.reports import ShardSecond
from dynamikos.engine.runner import Control, Shard, run
from dynamikos.engine.testing import ListSink, ScriptedNetwork, VirtualClock, run_virtual
from tests.engine.test_workloads import after, climb, crowd, hold, inputs

HOLD, GO_ON = Change(at_s=10, verb="hold"), Change(at_s=25, verb="go on")
RAISE, LOWER = (
    Change(at_s=10, verb="change", factor=2.0),
    Change(at_s=20, verb="change", factor=0.5),
)


def ran(
    made: FrozenRun, changes: tuple[Change, ...], shards: int = 1
) -> tuple[list[ShardSecond], list[str]]:
    """Messages of a run in which each change is asked for three seconds before it holds; and how
    each shard ended.
    """
    messages, ended = [], []

    async def program(number: int, sink: ListSink) -> str:
        clock, control = VirtualClock(), Control()
        begin = clock.now() + 0.5

        async def ask() -> None:
            for at, each in enumerate(changes, 1):
                await clock.at(begin + each.at_s - 3)
                control.change(changes[:at])

        asking = asyncio.create_task(ask())
        shard = Shard(number=number, count=shards, frozen=made, rows={}, secrets={})
        try:
            return (
                await run(
                    shard, ScriptedNetwork(after(0.1)), clock, sink, begin=begin, control=control
                )
            ).words
        finally:
            asking.cancel()

    for number in range(shards):
        sink = ListSink()
        ended.append(run_virtual(program(number, sink)))
        messages += sink.messages
    return messages, ended


def users(messages: list[ShardSecond]) -> Counter[int]:
    found = Counter[int]()
    for each in messages:
        found[each.second] += sum(each.users.values())
    return found


class Curve(TestCase):
    def test_held_gone_on_with_raised_and_lowered(self) -> None:
        profile = (climb(20, 20), climb(20, 10))  # a user a second, and then as many as there are
        held = changed(profile, [HOLD, GO_ON])
        self.assertEqual(
            [users_at(held, each) for each in (5, 9.9, 12, 24, 30, 34.9)], [5, 10, 10, 10, 15, 20]
        )
        self.assertAlmostEqual(delayed(30, [HOLD, GO_ON]), 45)
        raised = changed(profile, [RAISE])
        self.assertAlmostEqual(level_at(raised, 15), 30)
        self.assertAlmostEqual(level_at(raised, 5), 5)
        self.assertAlmostEqual(level_at(changed(profile, [RAISE, LOWER]), 25), 20)
        both = changed(profile, [HOLD, Change(at_s=12, verb="change", factor=3), GO_ON])
        self.assertEqual(
            [round(level_at(both, each)) for each in (11, 13, 24, 30)], [10, 30, 30, 45]
        )
        self.assertGreater(level_at(changed(profile, [HOLD]), 100_000), 9.9)

    def test_one_that_has_ended_stays_as_it_was(self) -> None:
        profile = (climb(5, 0), climb(5, 5))
        changes = [HOLD, Change(at_s=12, verb="change", factor=3), GO_ON]
        for number in range(1, 4):
            with self.subTest(changes=number):
                made = changed(profile, changes[:number])
                self.assertEqual(sum(each.seconds for each in made), 5)
                self.assertEqual([users_at(made, each) for each in (4, 11, 13, 26)], [5, 0, 0, 0])

    def test_one_that_begins_later_is_only_delayed(self) -> None:
        self.assertAlmostEqual(level_at(changed((hold(8, 10),), [HOLD, GO_ON], 12.0), 14), 0)
        self.assertAlmostEqual(level_at(changed((hold(8, 10),), [HOLD, GO_ON], 12.0), 16), 8)


class Running(TestCase):
    def test_users_are_there_as_the_changed_curve_says(self) -> None:
        made = inputs(crowd(Users(leaving="now"), climb(20, 20), climb(20, 20)))
        for changes in ((HOLD, GO_ON), (RAISE,), (RAISE, LOWER)):
            for shards in (1, 2):
                messages, ended = ran(made, changes, shards)
                planned = with_changes(made, changes)
                found = users(messages)
                with self.subTest(changes, shards=shards):
                    self.assertEqual(set(ended), {"finished"})
                    for second in range(int(planned.ends_s) - 1):
                        self.assertLessEqual(
                            abs(found[second] - planned.planned_at(second + 0.995)), 1, second
                        )

    def test_arrivals_come_once_each_whatever_the_generators(self) -> None:
        for load in (
            Arrivals(ceiling=100),
            Arrivals(ceiling=100, spread="poisson"),
            Held(ceiling=100),
        ):
            made = inputs(crowd(load, hold(4, 40)))
            for changes in ((RAISE,), (HOLD, GO_ON), (RAISE, LOWER)):
                planned = with_changes(made, changes)
                numbering = Numbering.of(made.crowds)
                wanted = Counter(
                    int(each.at_s) for each in arrivals_of(planned, 0, 0, 1, numbering)
                )
                for shards in (1, 3):
                    messages, _ = ran(made, changes, shards)
                    found = Counter[int]()
                    for each in messages:
                        found[each.second] += each.arrivals[0]
                    with self.subTest(type(load).__name__, changes=changes, shards=shards):
                        self.assertEqual({s: n for s, n in found.items() if n}, dict(wanted))

    def test_a_raise_after_the_last_has_come_brings_more(self) -> None:
        made = inputs(crowd(Users(), climb(5, 0), climb(5, 30)))
        messages, _ = ran(made, (RAISE,))
        self.assertEqual([users(messages)[second] for second in (8, 12, 28)], [5, 10, 10])

    def test_numbers_stay_and_the_new_ones_are_their_own(self) -> None:
        made = inputs(
            crowd(Users(), climb(5, 0), climb(5, 30)),
            crowd(UserRounds(users=4, rounds=1), climb(0, 30), crowd="d", rows=(("b", 1),)),
        )
        before = {(each.number, each.seat) for each in seats_of(made, 0, 1)}
        later = seats_of(with_changes(made, (RAISE,)), 0, 1, Numbering.of(made.crowds))
        both = [(each.number, each.seat) for each in later]
        self.assertLessEqual(before, set(both))
        self.assertEqual((len(both), len(set(both)), len({seat for _, seat in both})), (14, 14, 14))

    def test_a_change_that_comes_too_late_is_told(self) -> None:
        made = inputs(crowd(Users(), climb(5, 0), climb(5, 30)))

        async def program(sink: ListSink) -> None:
            clock, control = VirtualClock(), Control()
            control.change([Change(at_s=0, verb="change", factor=2)])
            shard = Shard(number=0, count=1, frozen=made, rows={}, secrets={})
            await run(
                shard,
                ScriptedNetwork(after(0.1)),
                clock,
                sink,
                begin=clock.now() - 0.5,
                control=control,
            )

        sink = ListSink()
        run_virtual(program(sink))
        self.assertEqual(sum(each.learned_late for each in sink.messages), 1)
