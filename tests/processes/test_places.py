"""A run from two places, one of which is further away: what each place saw, and that they
differ.
"""

import re

from django.urls import reverse
from msgspec.structs import replace

from dynamikos.core.plans.workloads import Arrivals
from dynamikos.core.profiles import Stretch
from dynamikos.web.places.queries import living
from dynamikos.web.plans import actions as plans
from dynamikos.web.plans import queries as plan_queries
from dynamikos.web.runs import actions, analysis, generator_filter, queries
from dynamikos.web.runs.models import Run
from tests.processes.support import ProcessCase, until

FAR_S = 0.12
QUIET = """form: 1
journey: looker
name: Looker
rounds:
  - step: sky
    name: Sky
    requests: [{request: get-sky, address: "{{ env.observatory }}/sky?constellation=lyra&page=1"}]
  - step: object
    name: Object
    requests: [{request: get-object, address: "{{ env.observatory }}/objects/bf-001-cluster"}]
"""


class Places(ProcessCase):
    def test_the_one_that_is_further_away_is_named_with_its_distance(self) -> None:
        from dynamikos.core.journeys import parse_journey
        from dynamikos.web.journeys import actions as journeys

        sample = self.sample
        self.start_fleet()
        distance = ["--place", "far", "--distance-ms", f"{1000 * FAR_S:g}"]
        self.spawn(
            "far",
            "dynamikos.cli",
            "generator",
            *distance,
            DYNAMIKOS_GENERATOR_URL=self.generator_url,
        )
        until(lambda: {each.place for each in living()} == {"here", "far"})
        journey = journeys.create(sample.member, parse_journey(QUIET))
        core = plan_queries.content(sample.plan)
        (crowd,) = core.everybody()
        rows = tuple(replace(row, journey=journey.key) for row in crowd.rows)
        crowd = replace(crowd, load=Arrivals(per="second", ceiling=500), rows=rows,
                        profile=(Stretch(stretch="burst", to=50, seconds=24),))  # fmt: skip
        core = replace(
            core, name="Far side", generators=2, objectives=(), measured=(1, 24)
        ).with_crowds((crowd,))
        run = actions.start(sample.member, plans.add(sample.member, core))
        until(lambda: Run.objects.get(pk=run.pk).is_over)
        run = Run.objects.get(pk=run.pk)
        self.assertEqual(sorted(each.place for each in run.shards.all()), ["far", "here"])

        found, _ = analysis.look(run)
        told = {each.rule: each for each in found}["places-differ"]
        words = re.search(
            r"“Sky” takes .* from far as from here: (\d+) ms more\. “Object” (\d+) ms more\.$",
            told.sentence,
        )
        assert words is not None, told.sentence
        sky, object_ = map(int, words.groups())
        # the one connects, too, and takes two ways more; where this machine is busy, all of it
        # takes longer
        self.assertTrue(
            2000 * FAR_S * 0.9 <= sky < 3000 and 1000 * FAR_S * 0.9 <= object_ < sky, told.sentence
        )

        inputs = queries.frozen(run)
        shards = generator_filter.places(list(run.shards.all()))
        seen = {}
        for place, numbers in shards.items():
            ledger = queries.of_generators(run, inputs, numbers, 0, run.watermark + 1)
            total = ledger.all_of("step")
            seen[place] = total.passed.n, total.moments.mean_us or 0.0
        both = queries.window(run, inputs, 0, run.watermark + 1).all_of("step").passed.n
        self.assertEqual(sum(n for n, _ in seen.values()), both)
        self.assertGreater(seen["far"][1] - seen["here"][1], 0.9e6 * FAR_S)

        self.client.force_login(sample.accounts["bran"])
        tables = self.client.get(
            reverse("run-tables", args=[sample.project.pk, run.pk]), {"generator": "@far"}
        )
        self.assertContains(tables, "all at far")
        shown = sum(step.count for step, _ in tables.context["rows"] if step.level == "step")
        self.assertEqual(shown, self.counted(run, shards["far"], inputs))
        sides = {"a-generator": "@here", "b-generator": "@far"}
        page = self.client.get(reverse("run-sides", args=[sample.project.pk, run.pk]), sides)
        self.assertGreater(
            min(pair.times_as_long for pair in page.context["pairs"] if pair.times_as_long), 1
        )

    def counted(self, run: Run, shards: list[int], inputs) -> int:  # type: ignore[no-untyped-def]
        begin, end = map(int, inputs.measured)
        ledger = queries.of_generators(run, inputs, shards, begin, end)
        return ledger.all_of("step").passed.n + ledger.all_of("step").failures
