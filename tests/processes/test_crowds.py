"""A run of several crowds on two generators, from the plan to the figures, against the target's own
log.
"""

from collections import Counter

from msgspec.structs import replace

from dynamikos.core.dealing import Deal
from dynamikos.core.journeys import parse_journey
from dynamikos.core.plans import Crowd, CrowdRow
from dynamikos.core.plans.workloads import Arrivals, UserRounds, Users
from dynamikos.core.profiles import Stretch
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.web.datasets.actions import set_deal
from dynamikos.web.datasets.uploads import import_csv
from dynamikos.web.journeys import actions as journeys
from dynamikos.web.places.queries import living
from dynamikos.web.plans import actions as plans
from dynamikos.web.plans import queries as plan_queries
from dynamikos.web.runs import actions, queries
from dynamikos.web.runs.models import Run
from tests.processes.support import ProcessCase, until

TEXT = """form: 1
journey: KEY
name: KEY
rounds:
  - step: s
    name: S
    think_s: 0.2
    requests: [{request: r, address: "{{ env.observatory }}/api/objects?q=KEYMORE", checks: [{status: 200}]}]
"""  # noqa: E501


class Crowds(ProcessCase):
    def journey(self, key: str, more: str = "") -> str:
        text = TEXT.replace("KEY", key).replace("MORE", more)
        return journeys.create(self.sample.member, parse_journey(text)).key

    def asked(self) -> Counter[str]:
        """Searches that the target answered, by what was searched for."""
        return Counter(
            record["path"]
            for record in self.target("/truth/log")
            if record["kind"] == "objects search"
        )

    def test_rows_arrivals_and_rounds_on_two_generators(self) -> None:
        names = import_csv(
            self.sample.member, b"word\n" + b"".join(b"w%d\n" % at for at in range(30)), "words.csv"
        )
        set_deal(self.sample.member, names, Deal(when="round", then="stop"))
        plain, other, rows = (
            self.journey("plain"),
            self.journey("other"),
            self.journey("dealt", "{{ words.word }}"),
        )
        hold = Stretch(stretch="burst", to=6, seconds=6)
        crowds = (
            Crowd(
                crowd="both",
                load=Users(shares="users"),
                profile=(hold,),
                rows=(
                    CrowdRow(row="a", journey=plain, share=2),
                    CrowdRow(row="b", journey=other, share=1),
                ),
            ),
            Crowd(
                crowd="come",
                starts_s=1,
                load=Arrivals(ceiling=20),
                profile=(Stretch(stretch="burst", to=5, seconds=4),),
                rows=(CrowdRow(row="c", journey=plain),),
            ),
            Crowd(
                crowd="dealt",
                load=UserRounds(users=10, rounds=3),
                profile=(Stretch(stretch="hold", seconds=30),),
                rows=(CrowdRow(row="d", journey=rows),),
            ),
        )
        core = replace(
            plan_queries.content(self.sample.plan),
            name="Crowds",
            objectives=(),
            generators=2,
            grace_s=5,
        ).with_crowds(crowds)
        self.start_fleet()
        self.spawn(
            "second", "dynamikos.cli", "generator", DYNAMIKOS_GENERATOR_URL=self.generator_url
        )
        until(lambda: len(living()) == 2)
        run = actions.start(self.sample.member, plans.add(self.sample.member, core))
        until(lambda: Run.objects.get(pk=run.pk).is_over)
        run = Run.objects.get(pk=run.pk)
        outcome, inputs = OUTCOME.of(run.outcome), queries.frozen(run)
        self.assertEqual(
            (run.ended, outcome.failed, outcome.in_flight), ("finished", 0, 0), outcome
        )
        assert outcome.arrivals is not None
        self.assertEqual((outcome.arrivals.planned, outcome.arrivals.started), (20, 20))

        # every row of data once, whichever generator; the series of each row as the target has it
        dealt = [
            (shard, row)
            for _, shard, name, _, _, row in queries.all_dealt(run, inputs)
            if name == "words"
        ]
        self.assertEqual(sorted(row for _, row in dealt), list(range(1, 31)))
        self.assertEqual({shard for shard, _ in dealt}, {0, 1})
        ledger = queries.window(run, inputs, 0, 60)
        of_rows = {row: queries.window(run, inputs, 0, 60, row) for row in "abcd"}
        counts = {row: each.all_of("request", row=row).passed.n for row, each in of_rows.items()}
        self.assertEqual(ledger.all_of("request").passed.n, sum(counts.values()))
        self.assertEqual((counts["c"], counts["d"]), (20, 30))
        self.assertEqual(sum(counts.values()), outcome.answered)
        self.assertEqual(sum(self.asked().values()), outcome.answered)
        words = Counter(record["status"] for record in self.target("/truth/log"))
        self.assertEqual(set(words), {200})
        self.assertEqual({row.row for row in outcome.crowd}, set("abcd"))
        page = queries.crowd(run, inputs, ledger, is_measured=False)
        self.assertEqual(
            {row.row: row.rounds for row in page if row.row in "cd"}, {"c": 20, "d": 30}
        )
