"""Before a start and at an early end, with real processes: a generator knocks, a trial is small,
objectives stop.
"""

import socket

from msgspec import to_builtins
from msgspec.structs import replace

from dynamikos.core.errors import PlanError
from dynamikos.core.objectives import Objective
from dynamikos.core.plans.model import Repeat
from dynamikos.core.profiles import Stretch
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.web.environments import actions as environments
from dynamikos.web.environments.models import AgreedTarget
from dynamikos.web.places.models import Knock
from dynamikos.web.plans import queries as plans
from dynamikos.web.runs import actions, queries
from dynamikos.web.runs.models import Run
from dynamikos.web.runs.preflight import Looked, look
from tests.processes.support import PATIENCE_S, ProcessCase, until


class Before(ProcessCase):
    def look(self) -> Looked:
        return look(self.sample.member, self.sample.plan, plans.content(self.sample.plan))

    def said(self, looked: Looked, what: str) -> tuple[str, str]:
        found = next(each for each in looked.findings if each.what == what)
        return found.level, found.said

    def over(self, run: Run) -> Run:
        until(lambda: Run.objects.get(pk=run.pk).is_over, PATIENCE_S)
        return Run.objects.get(pk=run.pk)

    def test_a_generator_knocks_and_an_objective_a_cap_or_a_person_stops(self) -> None:
        self.start_fleet()
        looked = self.look()
        self.assertFalse(looked.stands_in_the_way, looked.findings)
        self.assertLess(looked.seconds, 3)
        self.assertIn("was connected to in", self.said(looked, "Targets answer")[1])
        self.assertEqual(Knock.objects.count(), 0)
        self._gone_target()
        self._trial()
        self._objective()
        self._cap()
        self._stop_all()
        self._set()

    def _gone_target(self) -> None:
        there = dict(self.sample.environment.values)
        bound = socket.socket()
        bound.bind(("127.0.0.1", 0))  # and listens to nobody
        gone = f"http://127.0.0.1:{bound.getsockname()[1]}"
        environments.set_values(
            self.sample.member, self.sample.environment, ["observatory"], [gone]
        )
        environments.agree(self.sample.member, self.sample.environment, gone)
        level, said = self.said(self.look(), "Targets answer")
        self.assertEqual((level, "efused" in said), ("blocker", True), said)
        bound.close()
        environments.set_values(
            self.sample.member, self.sample.environment, list(there), list(there.values())
        )

    def _trial(self) -> None:
        core = replace(plans.content(self.sample.plan), think_factor=0.05)
        run = self.over(actions.start(self.sample.member, self.sample.plan, core, trial=True))
        outcome = OUTCOME.of(run.outcome)
        self.assertEqual(
            (outcome.rounds_passed, outcome.rounds_failed, outcome.exit_code),
            (2, 0, 0),
            outcome.doubts,
        )
        self.assertEqual({each.word for each in outcome.judgements}, {"not judged"})
        self.assertGreaterEqual(
            run.kept.count(), outcome.answered - 2
        )  # all that was exchanged, for reading

    def run_of(self, *objectives: Objective) -> Run:
        profile = (Stretch(stretch="climb", to=5, seconds=0), Stretch(stretch="hold", seconds=60))
        core = replace(
            plans.content(self.sample.plan),
            profile=profile,
            think_factor=0.1,
            objectives=objectives,
            measured=(0.0, 60.0),
        )
        return actions.start(self.sample.member, self.sample.plan, core)

    def _objective(self) -> None:
        slow = Objective(
            objective="o", measure="p95", limit=0.001, every_s=1, then="stop now", in_a_row=3
        )
        run = self.over(self.run_of(slow))
        outcome = OUTCOME.of(run.outcome)
        self.assertEqual(
            (outcome.exit_code, outcome.ended[:19]), (1, "stopped: objective:"), outcome
        )
        self.assertIn("It stopped the run at second", outcome.sentence)
        marks = [each.word for each in outcome.judgements[0].marks if each.word != "not judged"]
        self.assertEqual(set(marks), {"missed"})
        first = next(each.to_s for each in outcome.judgements[0].marks if each.word == "missed")
        self.assertLessEqual(
            outcome.stopped_s - (first + 2), 3 + 1
        )  # the last second of a shard is begun, not over
        page = queries.judgements(
            run,
            queries.frozen(run),
            queries.window(run, queries.frozen(run), 0, 60),
            0,
            60,
            is_measured=True,
        )
        self.assertEqual(page[0].word, "missed")

    def _set(self) -> None:
        """Twice the same with another seed; both judged, the set by its worst."""
        profile = (Stretch(stretch="climb", to=2, seconds=0), Stretch(stretch="hold", seconds=3))
        core = replace(
            plans.content(self.sample.plan),
            profile=profile,
            think_factor=0.1,
            objectives=(),
            repeat=Repeat(times=2),
        )
        run = self.over(actions.start(self.sample.member, self.sample.plan, core))
        until(lambda: Run.objects.filter(of_set=run.of_set, state="ended").count() == 2, PATIENCE_S)
        runs, word = queries.siblings(run)
        self.assertEqual([each.set_place for each in runs], [1, 2])
        self.assertEqual(len({actions.frozen_of(each).seed for each in runs}), 2)
        self.assertIn(word, ("met", "not judged"))  # a starved machine is late
        self.assertTrue(all(OUTCOME.of(each.outcome).rounds_in_all for each in runs))

    def _cap(self) -> None:
        target = AgreedTarget.objects.get(
            port=int(self.sample.environment.values["observatory"].rpartition(":")[2])
        )
        environments.cap(self.sample.member, self.sample.environment, target.pk, 3)
        run = self.over(self.run_of())
        self.assertIn("3 requests/s that may be sent to", run.ended)
        environments.cap(self.sample.member, self.sample.environment, target.pk, 0)

    def _stop_all(self) -> None:
        """A load that is doubled, held, and then stopped with all others on its target."""
        run = self.run_of()
        until(lambda: Run.objects.get(pk=run.pk).watermark >= 1, PATIENCE_S)
        at_s = actions.change_load(self.sample.member, run, "raise", 100)
        held_s = actions.change_load(self.sample.member, run, "hold")
        self.assertRaises(PlanError, actions.change_load, self.sample.member, run, "hold")
        until(lambda: Run.objects.get(pk=run.pk).watermark >= held_s + 2, PATIENCE_S)
        frames = {frame.second: to_builtins(frame) for frame in queries.every_frame(run)}
        self.assertEqual(
            [frames[second][1] for second in (at_s - 2, at_s + 1, held_s + 1)], [5, 10, 10]
        )
        self.assertEqual(sum(frames[held_s + 1][2:6]), 10)
        target = AgreedTarget.objects.get(
            port=int(self.sample.environment.values["observatory"].rpartition(":")[2])
        )
        self.assertEqual(actions.stop_all(self.sample.member, target.pk), 1)
        self.assertEqual(self.over(run).ended, "stopped now")
