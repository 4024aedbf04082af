"""A run whose generator made a burst of its own: what that alone makes a miss of is not judged, by
the coordinator and when it is judged anew.
"""

from django.utils import timezone
from msgspec.structs import replace

from dynamikos.core.frozen import canonical, every_series
from dynamikos.core.objectives import Objective
from dynamikos.core.reports import Health, SeriesSecond, ShardSecond, encode
from dynamikos.core.statistics import Histogram
from dynamikos.fleet.coordinator.watch import RunWatch
from dynamikos.web.runs import actions, queries, reevaluation
from dynamikos.web.runs.models import Report, Run, Shard
from tests.web.support import Sample, TestCase
from tests.web.test_runs import generator

SECONDS, BURST = 60, 30
GOAL = Objective(objective="p95", measure="p95", limit=200)


class Bursts(TestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        cls.sample = Sample()
        generator()

    def performed(self, stopped_us: int) -> Run:
        """A minute of 20 samples of 50 ms a second, and in one second a hundred more of 600 ms,
        maybe after a stop.
        """
        run = actions.start(self.sample.member, self.sample.plan)
        frozen = queries.frozen(run)
        short = replace(frozen.journey, opening=(), rounds=frozen.journey.rounds[:1], closing=())
        frozen = replace(
            frozen,
            plan=replace(frozen.plan, objectives=(GOAL,)),
            journeys={short.journey: short},
            measured=(0.0, SECONDS),
        )
        run.frozen, run.state, run.begins_at = canonical(frozen), "running", timezone.now()
        run.save()
        shard = Shard.objects.create(
            run=run, number=0, generator_name="g", state="ended", ending={"cause": "finished"}
        )
        for second in range(SECONDS):
            times = [50_000] * 20 + [600_000] * (100 if second == BURST else 0)
            parts = [
                SeriesSecond(
                    no=each.no,
                    n=len(times),
                    sum_us=sum(times),
                    squares=str(sum(us * us for us in times)),
                    hist=Histogram.of(times).to_bytes(),
                )
                for each in every_series(frozen)
            ]
            health = Health(stopped_max_us=stopped_us if second == BURST - 1 else 0)
            Report.objects.create(
                shard=shard,
                second=second,
                body=encode(
                    ShardSecond(
                        shard=0,
                        second=second,
                        users={"thinking": 20},
                        sent=len(times),
                        answered=len(times),
                        series=parts,
                        health=health,
                        last=second == SECONDS - 1,
                    )
                ),
            )
        RunWatch(run).look(may_judge_lost=False)
        return Run.objects.get(pk=run.pk)

    def test_not_judged_after_a_stop_and_on_the_side_of_missed_without_one(self) -> None:
        for stopped_us, word, bursts in ((800_000, "not judged", [BURST]), (0, "not decided", [])):
            with self.subTest(stopped_us=stopped_us):
                run = self.performed(stopped_us)
                (told,) = run.outcome["judgements"]
                self.assertEqual((told["word"], run.outcome["bursts"]), (word, bursts))
                self.assertEqual([each.word for each in reevaluation.judged(run, (GOAL,))], [word])
                if bursts:
                    self.assertIn("missed only with the 1 second after a stop", told["reason"])
