"""What is looked at before a start: each finding on facts where it must speak, and on those where
it must not.
"""

import dataclasses
from typing import Any
from unittest import TestCase

from msgspec.structs import replace

from dynamikos.core.journeys import parse_journey
from dynamikos.core.objectives import Objective
from dynamikos.core.plans import AgreedTarget, Plan, parse_plan, parse_target
from dynamikos.core.plans.follows import Took, follows
from dynamikos.core.plans.preflight import (
    Facts,
    Knocked,
    Machine,
    origins_of,
    preflight,
    share_doubts,
)
from dynamikos.core.plans.trial import trial_of
from dynamikos.core.plans.workloads import UserRounds
from dynamikos.core.profiles import Stretch

JOURNEY = parse_journey(
    "form: 1\njourney: j\nname: J\nrounds:\n"
    "  - {step: a, name: A, think_s: 9, requests: [\n"
    "      {request: r, address: '{{ env.base }}/a', recorded: 1, checks: [{status: 200}]}]}\n"
)
TEXT = """form: 2
plan: p
name: P
environment: e
crowds:
  - crowd: c
    profile: [{stretch: climb, to: 100, seconds: 0}, {stretch: hold, seconds: 100}]
    rows: [{row: a, journey: j, share: 60}, {row: b, journey: k, share: 40}]
objectives: [{objective: p95, measure: p95, limit: 600}]
"""
OTHER = replace(JOURNEY, journey="k", name="K")
PLAN = parse_plan(TEXT)
THERE = Knocked(origin="http://127.0.0.1:1", connected_ms=1.0)


def facts(plan: Plan = PLAN, **more: Any) -> Facts:
    scripts = {"j": JOURNEY, "k": OTHER}
    after = follows(plan, scripts, lambda key, number: Took(1_000_000, 1000))
    given = {
        "plan": plan,
        "journeys": scripts,
        "follows": after,
        "knocked": [THERE],
        "living": 1,
        "free": 1,
        "machine": Machine(name="g", descriptors=10_000, ports=28_000),
        "disk_free_bytes": 10**11,
    }
    return Facts(**{**given, **more})


def capped(origin: str) -> list[AgreedTarget]:
    return [replace(parse_target(origin), cap_per_s=5.0)]


class AsRecorded(TestCase):
    def said(self, note: str) -> list[str]:
        journey = replace(JOURNEY, note=note)
        found = preflight(facts(journeys={"j": journey, "k": OTHER}))
        return [each.said for each in found if each.what == "Replayed as recorded"]

    def test_what_is_not_replayed_is_said(self) -> None:
        note = "Mine.\nLeft out: a WebSocket handshake, which can't be replayed yet."
        told = self.said(note)
        self.assertEqual(told, [f"J: {note.splitlines()[1]}"])
        self.assertTrue(self.said("Recorded over HTTP/2: 3 of 3 requests. Replayed over HTTP/1.1."))

    def test_silent_where_all_of_it_is(self) -> None:
        self.assertEqual(self.said("A note that speaks of what was Left out: nothing."), [])
        self.assertEqual(self.said(""), [])


class Looked(TestCase):
    def levels(self, **more: Any) -> dict[str, tuple[str, str]]:
        return {
            each.what: (each.level, each.said)
            for each in preflight(facts(**more))
            if each.level != "fine"
        }

    def test_stairs_say_how_many_of_their_levels_are_long_enough(self) -> None:
        for steps, seconds, words in (
            (8, 400, "8 of 8 levels"),
            (8, 300, "0 of 8 levels"),
            (6, 600, "6 of 6 levels"),
            (6, 600, "8 are needed"),
            (8, 400, "the limit can be told"),
        ):
            stairs = (Stretch(stretch="stairs", to=80, steps=steps, seconds=seconds),)
            crowds = tuple(replace(each, profile=stairs) for each in PLAN.crowds)
            found = preflight(
                facts(plan=replace(PLAN, crowds=crowds, profile=() if crowds else stairs))
            )
            said = [each.said for each in found if each.what == "Levels of load"]
            self.assertIn(words, said[0])
        self.assertEqual([each for each in preflight(facts()) if each.what == "Levels of load"], [])

    def lasting(self, seconds: float, *objectives: Objective) -> list[tuple[str, str]]:
        profile = (
            Stretch(stretch="climb", to=4, seconds=0),
            Stretch(stretch="hold", seconds=seconds),
        )
        crowds = tuple(replace(each, profile=profile) for each in PLAN.crowds)
        found = preflight(facts(plan=replace(PLAN, crowds=crowds, objectives=objectives)))
        return [(each.level, each.said) for each in found if each.what == "Measured time"]

    def test_what_is_too_short_says_how_long_is_enough(self) -> None:
        """Four users, of whom 60 % do A of j; a round takes ten seconds, so 0.4 steps A a
        second.
        """
        p99 = Objective(objective="p99", measure="p99", limit=600)
        said = self.lasting(100, p99)
        self.assertEqual([level for level, _ in said], ["warning", "fine"])
        self.assertIn(
            "A p99 of all steps needs 100 samples, and about 40 are expected in the measured 100 s",
            said[0][1],
        )
        self.assertIn(": 250 s would be enough", said[0][1])
        self.assertIn(
            "each step needs 100 samples and 30 s of measured time: about 10.4 min instead",
            said[1][1],
        )
        of_one_row = self.lasting(260, replace(p99, journey="k", step="a"))
        self.assertIn(
            "needs 100 samples, and about 41.6 are expected in the measured 260 s", of_one_row[0][1]
        )
        # long enough, or judged by interval
        self.assertEqual(self.lasting(640, p99, replace(p99, objective="x", every_s=10)), [])

    def test_nothing_in_the_way(self) -> None:
        self.assertEqual(self.levels(), {})

    def test_each_thing_in_the_way(self) -> None:
        bare = JOURNEY.mapped(
            lambda step: replace(step, requests=tuple(replace(r, checks=()) for r in step.requests))
        )
        often = Objective(objective="o", measure="p99", limit=1, every_s=1, row="a")
        arrivals = parse_plan(
            TEXT.replace(
                "    profile", "    load: {workload: arrivals, ceiling: 50}\n    profile"
            ).replace("to: 100", "to: 900")
        )
        cases: tuple[tuple[dict[str, Any], str, str, str], ...] = (
            (
                {"problems": ["The secret x is not there."]},
                "Plan, names and secrets",
                "blocker",
                "secret x",
            ),
            (
                {"unrehearsed": {"j": "It was not."}},
                "Rehearsed since the last change",
                "warning",
                "J: It was not.",
            ),
            ({"journeys": {"j": bare, "k": OTHER}}, "Checks", "warning", "nothing is checked in A"),
            ({"data": [("d", "rows run out at 00:10", True)]}, "Rows of data", "warning", "00:10"),
            ({"knocked": None}, "Targets answer", "warning", "Nobody knocked"),
            (
                {"knocked": [Knocked(origin="o", problem="refused")]},
                "Targets answer",
                "blocker",
                "o: refused",
            ),
            (
                {"knocked": [Knocked(origin="o", certificate_days=3.2)]},
                "Certificates",
                "warning",
                "ends in 3 days",
            ),
            (
                {"knocked": [Knocked(origin="o", certificate_days=-1)]},
                "Certificates",
                "warning",
                "has ended",
            ),
            ({"free": 0}, "Generators", "blocker", "1 are there and 0 of them free"),
            ({"living": 0, "free": 0}, "Generators", "blocker", "No generator is there"),
            ({"users_per_generator": 40}, "Capacity", "warning", "3 would be needed"),
            (
                {"users_per_generator": 40, "may_be_more": True, "carried_by": "by run 7"},
                "Capacity",
                "warning",
                "at least 40 users of this kind, by run 7; each is expected to have 100. Whether "
                "it carries them is not "
                "known; 3 would do.",
            ),
            (
                {"machine": Machine(name="g", descriptors=150, ports=9)},
                "Open files",
                "blocker",
                "164 open files",
            ),
            ({"plan": arrivals}, "Source ports", "blocker", "54,000 of 28,000"),
            (
                {"plan": replace(PLAN, objectives=(often,))},
                "Objectives",
                "warning",
                "6 samples come in 1 s, and p99",
            ),
            ({"plan": replace(PLAN, objectives=())}, "Objectives", "warning", "none"),
            (
                {"capped": capped("http://127.0.0.1:1")},
                "Rate allowed",
                "blocker",
                "5 exchanges/s; the plan comes",
            ),
            ({"capped": capped("http://unknown.example")}, "Rate allowed", "blocker", "about 10"),
            ({"others": [(7, "run 7 may be loading it.")]}, "Other runs", "warning", "run 7"),
            ({"disk_free_bytes": 10, "report_bytes": 11}, "Disk", "blocker", "GB are free"),
            ({"disk_free_bytes": 500_000_000}, "Disk", "warning", "0.5 GB"),
        )
        for given, what, level, words in cases:
            with self.subTest(what, level=level):
                found = self.levels(**given)
                self.assertIn(what, found)
                self.assertEqual(found[what][0], level)
                self.assertIn(words, found[what][1])

    def test_what_is_sent_elsewhere_does_not_count_for_a_target(self) -> None:
        page = JOURNEY.mapped(
            lambda step: step.with_requests(
                lambda request: replace(request, embedded=("/a.css", "https://files.example/b.js"))
            )
        )
        values = {"env.base": "http://shop.example"}
        found = []
        for origin in ("http://shop.example", "https://files.example", "http://other.example"):
            given = {"journeys": {"j": page, "k": page}, "values": values, "capped": capped(origin)}
            found.append(
                next(each for each in preflight(facts(**given)) if each.what == "Rate allowed").said
            )
        for said, per_s in zip(found, ("20", "10", "0"), strict=True):  # ten rounds a second
            self.assertIn(f"about {per_s}.", said)
        self.assertEqual(
            origins_of({"j": page}, values), ["http://shop.example:80", "https://files.example:443"]
        )

    def test_what_stands_in_the_way_comes_first(self) -> None:
        found = [each.level for each in preflight(facts(free=0, knocked=None))]
        self.assertEqual(found, sorted(found, key=("blocker", "warning", "fine").index))
        self.assertEqual({"blocker", "warning", "fine"}, set(found))

    def test_shares(self) -> None:
        self.assertEqual(list(share_doubts(PLAN)), [])
        odd = parse_plan(TEXT.replace("share: 60", "share: 0").replace("journey: k", "journey: j"))
        told = " ".join(said for _, said in share_doubts(odd))
        self.assertIn("come to 40, not 100", told)
        self.assertIn("the row a has a share of 0", told)
        twice = parse_plan(TEXT.replace("journey: k", "journey: j"))
        self.assertIn(
            "a and b are the same journey", " ".join(said for _, said in share_doubts(twice))
        )

    def test_origins(self) -> None:
        values = {"env.base": "https://shop.example:8443/x"}
        self.assertEqual(origins_of({"j": JOURNEY}, values), ["https://shop.example:8443"])
        self.assertEqual(origins_of({"j": JOURNEY}, {}), [])


class Followed(TestCase):
    def test_rows_and_what_they_come_to(self) -> None:
        after = facts().follows
        assert after is not None
        first, second = after.rows  # 100 users, rounds of 10 s
        self.assertEqual((first.users, second.users), (60, 40))
        self.assertAlmostEqual(first.rounds_per_h, 60 / 10 * 3600)
        self.assertAlmostEqual(first.visits_percent, 60)
        self.assertAlmostEqual(after.exchanges_per_s, 10)
        self.assertAlmostEqual(after.bits_per_s, 10 * 8000)

    def test_concurrency_of_poisson_arrivals_has_a_range(self) -> None:
        load = "    load: {workload: arrivals, ceiling: 500, spread: poisson}\n    profile"
        plan = parse_plan(TEXT.replace("    profile", load).replace("to: 100", "to: 10"))
        after = follows(plan, {"j": JOURNEY, "k": OTHER}, lambda key, number: Took(1_000_000))
        self.assertEqual((after.users, after.ceiling), (100, 500))  # 10 a second for 10 s each
        self.assertEqual(after.users_range, (80, 120))  # 1.96 × √100
        self.assertEqual(
            [dataclasses.replace(after, answers_known=known).to_carry for known in (True, False)],
            [120, 500],
        )
        found = [
            each
            for each in preflight(facts(plan=plan, follows=after, users_per_generator=130))
            if each.what == "Capacity"
        ]
        self.assertEqual(
            [(each.level, each.said.endswith("to have 120.")) for each in found], [("fine", True)]
        )

    def test_a_trial_is_the_whole_plan_small(self) -> None:
        made = trial_of(parse_plan(TEXT.replace("share: 40", "share: 0")))
        (crowd,) = made.everybody()
        self.assertEqual(
            (crowd.load, [row.row for row in crowd.rows]), (UserRounds(users=1, rounds=2), ["a"])
        )
        self.assertEqual(trial_of(PLAN).everybody()[0].seats, 2)
