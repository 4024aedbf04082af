"""Who is there while a run goes on: those that fail first; of one that is followed all is kept,
with its values.
"""

import random
from itertools import pairwise
from unittest import TestCase

from dynamikos.core.plans.model import Keep
from dynamikos.core.reports.present import Present
from dynamikos.core.values.masking import MASK
from dynamikos.engine.reporting import keeping
from dynamikos.engine.runner import Control
from dynamikos.engine.testing import ListSink, Scripted, answer
from tests.engine.support import frozen, perform, step

REQUEST = (
    "request: look\naddress: '{{ env.base }}/sky?u={{ user.number }}'\nchecks: [{status: 200}]\n"
    "captures: [{name: object, json: $.id}]"
)


class Watching(TestCase):
    def look_at(
        self, *at: tuple[int, frozenset[int]], users: int = 4, seconds: float = 12
    ) -> tuple[list[Present], ListSink]:
        """A run of `users` who ask a server where the third fails; looked at when so many requests
        came.
        """
        made = frozen("rounds:\n" + step("sky", REQUEST, think_s=0.5), users=users, hold_s=seconds)
        seen: list[Present] = []
        control: list[Control] = []
        asked = 0

        def server(data: bytes) -> Scripted:
            nonlocal asked
            asked += 1
            for when, followed in at:
                if asked == when:
                    now = control[0].look(followed)
                    assert now is not None
                    seen.append(now)
            status = 500 if b"u=3 " in data else 200
            return Scripted(answer(b'{"id": "m31"}', status), 0.1)

        _, sink, _ = perform(made, server, control=control.append)
        self.assertIsNone(control[0].look(frozenset()), "nobody is there any more")
        return seen, sink

    def test_those_that_fail_come_first(self) -> None:
        (seen,), _ = self.look_at((40, frozenset()))
        self.assertEqual((seen.users, seen.failing, len(seen.shown)), (4, 1, 4))
        worst, *others = seen.shown
        self.assertEqual((worst.number, worst.failure), (3, "status-500"))
        self.assertGreater(worst.failures, 3)
        self.assertLess(worst.ago_s, 2)
        self.assertEqual({each.step for each in seen.shown}, {"sky"})
        self.assertTrue({each.state for each in others} <= {"in a round", "thinking"})
        self.assertEqual([each.values for each in seen.shown], [{}] * 4)
        waiting = [each for each in others if each.waits_s]
        self.assertTrue(all(0 < each.waits_s <= 0.11 for each in waiting))

    def test_all_of_one_that_is_followed_is_kept_until_it_is_not_any_more(self) -> None:
        (first, last), sink = self.look_at((20, frozenset({2})), (60, frozenset()))
        told = {each.number: each for each in first.shown}
        self.assertEqual(told[2].values["object"], "m31")
        self.assertEqual({each.number for each in last.shown if each.values}, set())
        kept = [each for each in sink.kept if each.reason == "followed"]
        self.assertEqual({each.user for each in kept}, {2})
        rounds = [each.round for each in kept]
        self.assertEqual(rounds, list(range(rounds[0], rounds[-1] + 1)), "none is left out")
        self.assertGreater(len(kept), 6)
        self.assertEqual(kept[3].before["object"], "m31")
        self.assertIn('"m31"', kept[3].body)
        ends = [each.ended_us for each in kept]
        self.assertTrue(all(b - a > 500_000 for a, b in pairwise(ends)), "with its think time")

    def test_one_that_fails_and_is_followed_is_kept_beyond_what_is_kept_of_its_kind(self) -> None:
        _, sink = self.look_at((8, frozenset({3})), seconds=60)
        failed = [each for each in sink.kept if each.user == 3]
        self.assertGreater(len(failed), 40)

    def test_what_is_secret_is_masked(self) -> None:
        request = (
            "request: get\naddress: '{{ env.base }}/in?word={{ observers.password }}&who={{ "
            "observers.email }}'"
        )
        rows = [["ada@here", "hush-1234"]]
        made = frozen("rounds:\n" + step("sign-in", request, think_s=0.5), rows=rows)
        seen: list[Present | None] = []
        control: list[Control] = []

        def server(data: bytes) -> Scripted:
            seen.append(control[0].look(frozenset({1})))
            return Scripted(answer(b"you said hush-1234"), 0.1)

        _, sink, _ = perform(made, server, rows=rows, control=control.append)
        last = seen[-1]
        assert last is not None
        told = last.shown[0]
        self.assertEqual(
            (told.values["observers.email"], told.rows), ("ada@here", {"observers": 1})
        )
        self.assertEqual(told.values["observers.password"], MASK)
        followed = [each for each in sink.kept if each.reason == "followed"]
        self.assertGreater(len(followed), 5)
        self.assertFalse([each for each in followed if "hush-1234" in str(each)])

    def test_not_without_end(self) -> None:
        before, keeping.FOLLOWED = keeping.FOLLOWED, 5
        self.addCleanup(setattr, keeping, "FOLLOWED", before)
        _, sink = self.look_at((10, frozenset({1, 2})))
        self.assertEqual(sum(each.reason == "followed" for each in sink.kept), 5)


class Chosen(TestCase):
    def kept(self, keep: Keep) -> dict[str, int]:
        """How many were kept of 900 that passed, each quicker than the one before, and of 100 that
        failed.
        """
        choice, found = (
            keeping.Choice(random.Random(1), keep),
            dict.fromkeys(("sample", "slow", "failed"), 0),
        )
        for at in range(1000):
            if at % 10 == 0:
                found["failed"] += bool(choice.failed(1, "status-500"))
                continue
            found["sample"] += choice.sample()
            found["slow"] += bool(choice.slowest(1, 1000 - at))
        return found

    def test_as_many_as_the_plan_says(self) -> None:
        usual = self.kept(Keep())
        self.assertEqual((usual["failed"], usual["slow"]), (20, 3))
        self.assertTrue(2 <= usual["sample"] <= 20)
        self.assertEqual(
            self.kept(Keep(failing=50, slowest=7, sampled=0)),
            {"sample": 0, "slow": 7, "failed": 50},
        )
        self.assertEqual(
            self.kept(Keep(failing=0, slowest=0, sampled=1)), {"sample": 1, "slow": 0, "failed": 0}
        )
