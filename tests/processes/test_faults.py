"""What dies, hangs or goes away in the middle of a run: it ends with a right sentence, its counts
agree with the target's, and the next run is clean.
"""

import os
import signal
import time
from pathlib import Path

import psutil
from django.db import DatabaseError, connection
from msgspec.structs import replace

from dynamikos.cli.state import is_free, wait_for_port
from dynamikos.core.profiles import Stretch
from dynamikos.web.places.models import Generator
from dynamikos.web.places.queries import living
from dynamikos.web.plans import queries as plans
from dynamikos.web.runs import actions
from dynamikos.web.runs.models import Run, Shard
from tests.processes.support import ENDS, PATIENCE_S, ProcessCase, free_port, until


class Faults(ProcessCase):
    def fleet(self, **environment: str) -> None:
        self.spawn("coordinator", "dynamikos.cli", "coordinator", **environment)
        self.generator(**environment)

    def generator(self, **environment: str) -> None:
        known = set(Generator.objects.values_list("pk", flat=True))
        self.spawn(
            "generator",
            "dynamikos.cli",
            "generator",
            DYNAMIKOS_GENERATOR_URL=self.generator_url,
            **environment,
        )
        until(lambda: any(each.pk not in known for each in living()))

    def start(self, seconds: float) -> Run:
        profile = (
            Stretch(stretch="climb", to=3, seconds=1),
            Stretch(stretch="hold", seconds=seconds),
        )
        core = replace(
            plans.content(self.sample.plan),
            profile=profile,
            think_factor=0.1,
            grace_s=5,
            objectives=(),
        )
        run = actions.start(self.sample.member, self.sample.plan, core)
        until(lambda: Run.objects.get(pk=run.pk).watermark >= 2)
        return run

    def over(self, run: Run, seconds: float = PATIENCE_S) -> Run:
        until(lambda: Run.objects.get(pk=run.pk).is_over, seconds)
        return Run.objects.get(pk=run.pk)

    def counted(self) -> int:
        return sum(1 for record in self.target("/truth/log") if record["id"])

    def holds(self, run: Run) -> int:
        """How many exchanges the target has counted beyond what the run says it sent.

        Each sent one is accounted for.
        """
        outcome = run.outcome
        self.assertEqual(outcome["sent"], sum(outcome[each] for each in ENDS))
        return self.counted() - int(outcome["sent"]) - self.before

    def next_is_clean(self) -> None:
        self.before = self.counted()
        run = self.over(self.start(2))
        self.assertEqual((run.ended, run.outcome["failed"]), ("finished", 0))
        self.assertEqual(self.holds(run), 0)

    before = 0

    def test_a_killed_generator(self) -> None:
        self.fleet()
        run = self.start(60)
        self.children["generator"].kill()
        run = self.over(run)
        self.assertIn("was lost", run.outcome["doubts"][0])
        unreported = self.holds(run)  # of the seconds it had not reported yet
        self.assertTrue(
            0 <= unreported <= 4 * run.outcome["sent"] / (run.watermark + 1) + 10,
            (unreported, run.outcome["sent"], run.watermark),
        )
        self.generator()
        self.next_is_clean()

    def test_a_killed_coordinator(self) -> None:
        self.fleet()
        run = self.start(5)
        self.children["coordinator"].kill()
        time.sleep(1)
        self.spawn("coordinator", "dynamikos.cli", "coordinator")
        run = self.over(run)
        self.assertEqual(run.ended, "finished")
        self.assertEqual(self.holds(run), 0)
        self.next_is_clean()

    def test_a_killed_web_process(self) -> None:
        port = free_port()
        self.fleet()
        self.spawn("web", "dynamikos.cli", "web", "--port", str(port))
        self.assertTrue(wait_for_port(port, PATIENCE_S))
        run = self.start(5)
        self.children["web"].kill()
        self.children["web"].wait()
        self.spawn("web", "dynamikos.cli", "web", "--port", str(port))
        self.assertTrue(wait_for_port(port, PATIENCE_S))  # it comes back, and serves
        run = self.over(run)
        self.assertEqual(run.ended, "finished")
        self.assertEqual(self.holds(run), 0)
        self.next_is_clean()

    def test_postgresql_stopped_for_ten_seconds(self) -> None:
        self.fleet(DYNAMIKOS_CUT_OFF_S="60", DYNAMIKOS_LOST_CLOSE_S="10")
        run = self.start(20)
        port = str(connection.settings_dict["PORT"])
        mother = next(
            each
            for each in psutil.process_iter(["name", "cmdline"])
            if each.info["name"] == "postgres"
            and "-D" in each.info["cmdline"]
            and port in each.info["cmdline"]
        )
        # while it is there the server is not started again
        hold = Path(os.environ["DYNAMIKOS_HOLD"])
        hold.touch()
        self.addCleanup(hold.unlink, missing_ok=True)
        connection.close()
        mother.send_signal(signal.SIGINT)
        time.sleep(10)
        self.assertTrue(is_free(int(port)))
        hold.unlink()
        self.assertTrue(wait_for_port(int(port), PATIENCE_S))
        until(answers)
        run = self.over(run)
        self.assertEqual(run.ended, "finished")
        self.assertEqual(self.holds(run), 0)
        self.assertEqual(run.outcome["failed"], 0)
        self.next_is_clean()

    def test_a_generator_that_hangs_for_longer_than_the_loss_time_sends_nothing_when_it_wakes(
        self,
    ) -> None:
        self.fleet(DYNAMIKOS_LOST_CLOSE_S="20", DYNAMIKOS_CUT_OFF_S="60")
        run = self.start(60)
        self.children["generator"].send_signal(signal.SIGSTOP)
        until(lambda: Shard.objects.get(run=run).state == "lost")
        time.sleep(1.0)  # what it had sent is answered
        counted = self.counted()
        self.children["generator"].send_signal(signal.SIGCONT)
        until(
            lambda: not Generator.objects.get().busy
        )  # its heart beats again, and its users have gone
        self.assertEqual(self.counted(), counted)
        run = self.over(run)
        self.assertEqual(Shard.objects.get(run=run).state, "lost")
        self.assertIn("was lost", run.outcome["doubts"][0])
        self.assertEqual(run.outcome["exit_code"], 3)
        self.next_is_clean()

    def test_a_generator_that_hangs_until_its_run_is_closed_sends_nothing_more(self) -> None:
        self.fleet(DYNAMIKOS_LOST_CLOSE_S="0.2")
        run = self.start(60)
        self.children["generator"].send_signal(signal.SIGSTOP)
        run = self.over(run)
        self.assertIn("was lost", run.outcome["doubts"][0])
        self.children["generator"].send_signal(signal.SIGCONT)
        ended = run.ended_at
        assert ended is not None
        until(lambda: any(each.last_seen > ended for each in living()))
        time.sleep(1.5)
        counted = self.counted()
        time.sleep(3)
        self.assertEqual(self.counted(), counted)  # its users have stopped
        run = Run.objects.get(pk=run.pk)
        self.assertLess(self.holds(run), 30)
        self.assertEqual(Shard.objects.get(run=run).state, "lost")
        self.next_is_clean()


def answers() -> bool:
    try:
        living()
        return True
    except DatabaseError:
        connection.close()
        return False
