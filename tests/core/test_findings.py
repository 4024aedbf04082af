"""Each rule on a run where it must speak; and all of them on runs where nothing is wrong."""

import itertools
import math
import random
from collections.abc import Sequence
from unittest import TestCase

import numpy as np
from msgspec.structs import replace

from dynamikos.core.analysis.evidence import Evidence, Found, Measured
from dynamikos.core.analysis.findings import RULES, findings
from dynamikos.core.analysis.findings.drift import mann_kendall, theil_sen
from dynamikos.core.failure_kinds import Leaving
from dynamikos.core.objectives import Mark, Objective
from dynamikos.core.profiles import Stretch
from dynamikos.core.reports import Health, KeptExchange
from dynamikos.core.reports.by_value import Failing
from dynamikos.core.statistics import Histogram, bucket_mid_us
from tests.core.scenes import Scene

CLEAR = 12


def named(evidence: Evidence) -> dict[str, Found]:
    return {each.rule: each for each in reversed(findings(evidence))}


class Clear(TestCase):
    def test_nothing_is_found_about_the_target_where_nothing_is_wrong(self) -> None:
        """Seconds of what `bench findings` does with 500 runs."""
        found = []
        for seed in range(CLEAR):
            found += findings(Scene(9000 + seed, users=(25, 45, 65)[seed % 3]).evidence())
        self.assertLessEqual(len([each for each in found if each.about == "target"]), 1, found)
        self.assertEqual([each for each in found if each.about != "target"], [])


class Speaking(TestCase):
    def test_a_gust_its_seconds_and_its_step(self) -> None:
        found = named(Scene(1, stall=("book", 120, 126)).evidence())
        self.assertEqual(found["gust"].step, "book")
        begin, end = found["gust"].window or (0, 0)
        self.assertLessEqual(abs(begin - 120), 2)
        self.assertLessEqual(abs(end - 127), 3)
        self.assertEqual({each for each in found if each not in ("gust", "open-at-the-end")}, set())

    def test_a_level_that_shifts(self) -> None:
        found = named(
            Scene(
                2, users=40, slower=lambda step, at, n: 1.6 if step == "search" and at > 130 else 1
            ).evidence()
        )
        self.assertEqual(found["shift"].step, "search")
        self.assertIn("rose", found["shift"].sentence)
        second = int(found["shift"].sentence.split("second ")[1].split(",")[0])
        self.assertLessEqual(abs(second - 130), 10)

    def test_a_drift_in_one_step_only(self) -> None:
        scene = Scene(
            3, users=40, slower=lambda step, at, n: 1 + n / 4000 if step == "search" else 1
        )
        found = [each for each in findings(scene.evidence()) if each.rule == "drift"]
        self.assertEqual([each.step for each in found], ["search"])

    def test_two_humps_and_rows_that_differ(self) -> None:
        draw = random.Random(5)
        humps = Scene(
            4,
            users=40,
            stations={"look": (90, 0.03), "search": (90, 0.04), "book": (90, 0.05)},
            slower=lambda step, at, n: 60.0 if step == "look" and draw.random() < 0.3 else 1.0,
        )
        self.assertIn(
            "look",
            {each.request for each in findings(humps.evidence()) if each.rule == "two-humps"},
        )
        rows = Scene(5, users=60, rows=2, row_factor=lambda row: 1 + row)
        found = named(rows.evidence())
        self.assertIn("row-1 as for row-0", found["rows-differ"].sentence)

    def test_places_that_differ_are_said_once_with_how_much(self) -> None:
        evidence = Scene(5, users=60, rows=2, row_factor=lambda row: 1 + row).evidence()
        evidence.by_place = [
            ("far" if line.series.row == "row-1" else "here", line) for line in evidence.by_row
        ]
        told = [each for each in findings(evidence) if each.rule == "places-differ"]
        self.assertEqual(len(told), 1)
        self.assertRegex(
            told[0].sentence,
            r"as long from far as from here: \d+\S* ms more\. “.* ms, “.* ms more\.$",
        )
        evidence.by_place = [
            (place, line) for line in evidence.steps() for place in ("one", "other")
        ]
        self.assertNotIn("places-differ", {each.rule for each in findings(evidence)})

    def test_failures_from_the_first_on_by_value_and_at_a_load(self) -> None:
        always = named(
            Scene(
                6, fails=lambda step, at, users, draw: "status 404" if step == "search" else ""
            ).evidence()
        )
        self.assertEqual(
            (always["failing-from-the-first"].about, always["failing-from-the-first"].request),
            ("script", "search"),
        )
        by_value = Scene(
            7,
            kept=True,
            fails=lambda s, at, u, d: "status 500" if s == "search" and d.random() < 0.1 else "",
        )
        self.assertIn(
            "where term is “cygnus”", named(by_value.evidence())["failures-by-value"].sentence
        )
        climbs = (Stretch(stretch="climb", to=60, seconds=240),)
        loaded = Scene(
            8,
            users=60,
            arrives=lambda user: user * 4.0,
            profile=climbs,
            fails=lambda s, at, now, d: "status 503" if now > 40 and d.random() < 0.2 else "",
        )
        self.assertRegex(
            named(loaded.evidence())["errors-at-a-load"].sentence, r"at about (39|4\d) users"
        )

    def failing(self, seed: int, fails, **more: object) -> dict[str, Found]:  # type: ignore[no-untyped-def]
        return named(Scene(seed, users=40, fails=fails, **more).evidence())  # type: ignore[arg-type]

    def test_a_step_that_fails_is_named_with_its_share_its_kind_and_since_when(self) -> None:
        """76 % of a step's requests failed and nothing was said."""
        found = self.failing(
            20, lambda s, at, u, d: "status-500" if s == "book" and d.random() < 0.76 else ""
        )
        self.assertEqual(found["failing-steps"].step, "book")
        self.assertRegex(
            found["failing-steps"].sentence,
            r"“Book” failed in [\d,]+ of [\d,]+ \(7\d\.?\d* %\), mostly by status-500",
        )
        late = self.failing(
            21, lambda s, at, u, d: "dns" if s == "book" and at > 150 and d.random() < 0.1 else ""
        )
        self.assertRegex(late["failing-steps"].sentence, "from second 15\\d on")
        burst = self.failing(
            22,
            lambda s, at, u, d: (
                "dns" if s == "look" and 100 < at < 112 and d.random() < 0.6 else ""
            ),
        )
        begin, end = burst["failing-steps"].window or (0, 0)
        self.assertTrue(99 <= begin <= 103 and 109 <= end <= 114, (begin, end))
        few = self.failing(
            23, lambda s, at, u, d: "dns" if s == "look" and d.random() < 0.004 else ""
        )
        self.assertNotIn("failing-steps", few)

    def test_a_missed_failure_objective_has_a_finding_however_few_failed(self) -> None:
        scene = Scene(
            24,
            users=40,
            fails=lambda s, at, u, d: "dns" if s == "look" and d.random() < 0.003 else "",
        )
        plan = replace(
            scene.frozen.plan,
            objectives=(Objective(objective="o", measure="failure-rate", limit=0.1),),
        )
        scene.frozen = replace(scene.frozen, plan=plan)
        found = named(scene.evidence())["failing-steps"]
        self.assertEqual((found.step, found.evidence["missed"]), ("look", "its failure objective"))

    def test_19_failures_of_2_users_are_said_to_be_theirs(self) -> None:
        scene = Scene(25, users=40)
        for at in range(19):
            second, no = (
                20 + 10 * at,
                next(e.no for e in scene.series if (e.level, e.step) == ("step", "book")),
            )
            scene.failed.setdefault((second, no), {})["status-500"] = 1
            scene.kept.append(
                KeptExchange(
                    second=second,
                    series=0,
                    step="book",
                    request="book",
                    reason="failed: status-500",
                    user=(3, 17)[at % 2],
                    round=1,
                    method="GET",
                    url="http://127.0.0.1:9/book",
                )
            )
        found = named(scene.evidence())["failing-steps"]
        self.assertIn("19 of 19 of them of user 3, 17", found.sentence)
        self.assertEqual(found.evidence["first kept"], "second 20, user 3")

    def test_failures_of_one_row_of_the_crowd(self) -> None:
        scene = Scene(26, users=40, rows=4, fails=lambda s, at, u, d: "")
        no = next(
            e.no for e in scene.series if (e.level, e.step, e.row) == ("step", "book", "row-2")
        )
        for second in range(20, 220, 10):
            scene.failed.setdefault((second, no), {})["status-500"] = 1
        self.assertIn(
            "20 of 20 of them of visitors row-2", named(scene.evidence())["failing-steps"].sentence
        )

    def test_a_server_that_answers_nobody_for_ten_seconds_is_found_and_what_that_meant(
        self,
    ) -> None:
        """A closed load all stood still for 10 s: p95 met, nothing said."""
        still = Scene(
            27, users=40, stations={"look": (40, 0.03), "search": (40, 0.04), "book": (40, 0.05)}
        )
        for (second, no), values in list(still.parts.items()):
            if 100 <= second < 110:
                still.parts.setdefault((110, no), []).extend(values)
                del still.parts[second, no]
        goal = Objective(objective="o", measure="p95", limit=1000)
        still.frozen = replace(still.frozen, plan=replace(still.frozen.plan, objectives=(goal,)))
        found = named(still.evidence())["standstill"]
        self.assertIn("Nothing passed from second 100 to 110: 10 of 230", found.sentence)
        self.assertIn("whoever was there waited", found.sentence)
        self.assertIn(
            "In 3.91 % of the time a visitor who came waited longer than p95 of all steps ≤ 1000 "
            "ms",
            found.means,
        )
        refused = self.failing(28, lambda s, at, u, d: "connect-refused" if 100 <= at < 110 else "")
        self.assertIn("steps failed meanwhile", refused["standstill"].sentence)

    def test_failures_that_are_flat_over_the_run_are_no_value_s_although_the_earliest_are_kept(
        self,
    ) -> None:
        """Kept failures are the earliest; what passed was of the whole run, and `round.number = 1`
        was blamed.
        """
        scene = Scene(
            29,
            users=40,
            fails=lambda s, at, u, d: "status-500" if s == "book" and d.random() < 0.05 else "",
        )
        for at in range(200):
            is_failed = at < 20
            scene.kept.append(
                KeptExchange(
                    second=12 + at,
                    series=0,
                    step="book",
                    request="book",
                    reason="failed: dns" if is_failed else "sample",
                    user=at % 40,
                    round=1,
                    method="GET",
                    url="http://127.0.0.1:9/book",
                    variables={"round.number": str(1 + at // 25)},
                )
            )
        self.assertNotIn("failures-by-value", named(scene.evidence()))

    def test_by_value_what_failed_of_what_was_dealt_is_held_against_all_other_values(self) -> None:
        asked = ("evening", "search", "search")
        evidence = Scene(30, users=40).evidence()
        evidence.failing = [Failing(asked, "terms.q", "cygnus", 30, 60, 50, 500, 10),
                            Failing(asked, "terms.q", "lyra", 30, 60, 450, 500, 10)]  # fmt: skip
        found = named(evidence)["failures-by-value"]
        self.assertIn(
            "30 times of 50 that it was dealt, all other values 30 of 450", found.sentence
        )
        evidence.failing = [Failing(asked, "terms.q", "cygnus", 6, 60, 50, 500, 10)]
        self.assertNotIn("failures-by-value", named(evidence))

    def test_an_incident_is_no_second_kind_of_answer(self) -> None:
        humps = Scene(
            31,
            users=40,
            stations={"look": (90, 0.03), "search": (90, 0.04), "book": (90, 0.05)},
            slower=lambda step, at, n: 60.0 if step == "look" and 100 < at < 130 else 1.0,
        )
        self.assertNotIn("two-humps", named(humps.evidence()))

    def test_what_touches_a_missed_objective_stands_first(self) -> None:
        scene = Scene(
            32,
            users=40,
            fails=lambda s, at, u, d: "dns" if s == "book" and d.random() < 0.05 else "",
            slower=lambda step, at, n: 1.7 if step == "search" and at > 130 else 1,
        )
        for limit, first in ((1.0, "failing-steps"), (90.0, None)):
            goal = Objective(objective="o", measure="failure-rate", limit=limit, step="book")
            scene.frozen = replace(
                scene.frozen, plan=replace(scene.frozen.plan, objectives=(goal,))
            )
            found = findings(scene.evidence())
            if first is not None:
                self.assertEqual(found[0].rule, first)

    def test_a_resource_that_runs_full_and_throughput_that_stays_flat(self) -> None:
        climbs = (Stretch(stretch="climb", to=80, seconds=200), Stretch(stretch="hold", seconds=40))
        small = {"look": (6, 0.03), "search": (1, 0.04), "book": (4, 0.05)}
        scene = Scene(9, users=80, arrives=lambda user: user * 2.5, profile=climbs, stations=small)
        busy = np.array(scene.busy["search"][:240]) * 100
        measure = Measured("search utilization", "%", busy)
        found = named(scene.evidence(measures=[measure, Measured("idle", "%", busy * 0.3)]))
        self.assertIn("search utilization ran full", found["saturation"].sentence)
        self.assertIn("the limit is reached", found["flat-throughput"].sentence)
        self.assertNotIn(
            "saturation", named(scene.evidence(measures=[Measured("m", "%", busy, is_host=True)]))
        )

    def test_what_is_about_the_measurement_or_the_script(self) -> None:
        scene = Scene(10, users=20)
        messages = scene.messages()
        for message in messages[60:80]:
            message.health = Health(stopped_max_us=300_000, wait_share=0.4)
            message.users = {"in a round": 90}
        for part in (each for message in messages for each in message.series if each.n):
            less = Histogram.of(  # a third of each time may be the generator's
                bucket_mid_us(at) * 2 // 3
                for at, n in Histogram.from_bytes(part.hist).counts.items()
                for _ in range(n)
            )
            part.low_hist = less.to_bytes()
        messages[100].leavings = [Leaving("rows", "rows of observers used up", 3)]
        messages[-1].open = [(2, 9_000_000)]
        for message in messages:
            message.judged = {0: 1}
        from dynamikos.core.analysis.gathering import evidence_of

        evidence = evidence_of(scene.frozen, messages, silent=[("Servers", 50, "status 500")])
        for each in evidence.lines:
            if each.series.level == "request" and each.series.request == "book":
                evidence.ledger.totals[each.series.no].failed = {"own-limit-ports": 7}
        found = named(evidence)
        self.assertIn("The generators' own delay may be up to", found["late-generators"].sentence)
        self.assertIn("could not run for up to 300 ms", found["late-generators"].sentence)
        self.assertIn("no more ports", found["own-limits"].sentence)
        self.assertIn("3 times a user left", found["data-ran-out"].sentence)
        self.assertIn("the oldest for 9.0 s", found["open-at-the-end"].sentence)
        self.assertIn("Servers told nothing from second 50", found["probe-silent"].sentence)
        self.assertIn("2 checks were never asked", found["never-asked"].sentence)
        self.assertEqual(found["late-generators"].about, "measurement")

    def test_littles_law_where_users_waited_unseen(self) -> None:
        scene = Scene(11, users=20)
        messages = scene.messages()
        for message in messages:
            message.users = {"in a round": 30}
        from dynamikos.core.analysis.gathering import evidence_of

        found = named(evidence_of(scene.frozen, messages))
        self.assertIn("don't agree", found["littles-law"].sentence)

    def test_an_objective_that_was_missed_in_part(self) -> None:
        from msgspec.structs import replace

        evidence = Scene(12, users=20).evidence()
        objective = Objective(objective="o", measure="p95", limit=100, every_s=10)
        evidence.frozen = replace(
            evidence.frozen, plan=replace(evidence.frozen.plan, objectives=(objective,))
        )
        marks = [
            Mark(from_s=10 * n, to_s=10 * n + 10, word="missed" if n in (5, 6) else "met")
            for n in range(12)
        ]
        found = [each for each in findings(evidence, {0: marks}) if each.rule == "missed-in-part"]
        self.assertIn("missed in 2 of 12 intervals, from second 50 to 70", found[0].sentence)
        self.assertEqual(
            [f for f in findings(evidence, {0: marks[:4]}) if f.rule == "missed-in-part"], []
        )

    def test_a_rule_that_breaks_keeps_nobody_from_the_others(self) -> None:
        evidence = Scene(1, seconds=150, stall=("book", 70, 76)).evidence()
        evidence.names = None  # type: ignore[assignment]
        self.assertIn("gust", {each.rule for each in findings(evidence)})
        self.assertGreaterEqual(len(RULES), 19)


class Trends(TestCase):
    def test_slopes_and_their_chance(self) -> None:
        at = np.arange(10)
        self.assertAlmostEqual(
            theil_sen(3.0 * at + np.array([0, 9, 0, 0, 0, 0, -9, 0, 0, 0]), at), 3.0
        )
        self.assertLess(mann_kendall(at.astype(float)), 1e-4)
        self.assertGreater(mann_kendall(np.array([1.0, 3, 2, 4, 1.5, 3.5, 2.5, 1.2])), 0.3)

    def test_the_chance_of_a_trend_is_that_of_all_orders(self) -> None:
        """Counted by going through the 720 orders of six values; and the normal law goes on where
        counting ends.
        """

        def score(order: Sequence[float]) -> int:
            return sum((b > a) - (b < a) for a, b in itertools.combinations(order, 2))

        orders = [abs(score(order)) for order in itertools.permutations(range(6))]
        for values in (
            [0, 1, 2, 3, 4, 5],
            [5, 4, 3, 2, 0, 1],
            [0, 2, 1, 3, 5, 4],
            [2, 0, 4, 1, 5, 3],
            [0, 3, 1, 2, 5, 0],
        ):
            expected = sum(each >= abs(score(values)) for each in orders) / 720
            self.assertAlmostEqual(mann_kendall(np.array(values, float)), expected, msg=f"{values}")
        self.assertAlmostEqual(mann_kendall(np.arange(9.0)), 2 / math.factorial(9))
        self.assertEqual(mann_kendall(np.zeros(9)), 1.0)
        draw = np.random.default_rng(5)
        for _ in range(20):
            few = np.arange(30.0) + draw.normal(0, 30, 30)
            counted, by_law = mann_kendall(few), mann_kendall(np.append(few, np.median(few)))
            self.assertLess(abs(math.log(counted + 0.01) - math.log(by_law + 0.01)), 0.3)
