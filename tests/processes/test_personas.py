"""Returning visitors against the stand-in, by its own log: they ask only for what has expired."""

from collections import Counter

from dynamikos.cli.file_run import perform
from dynamikos.core.frozen.freeze import Inputs, freeze
from dynamikos.core.journeys import parse_journey
from dynamikos.core.personas import Persona, Visit
from dynamikos.core.plans import Crowd, CrowdRow, Plan, parse_target
from dynamikos.core.plans.workloads import UserRounds
from dynamikos.core.profiles import Stretch
from tests.processes.support import ProcessCase

TEXT = """form: 1
journey: j
name: J
rounds:
  - step: s
    name: S
    requests:
      - request: r
        address: "{{ env.base }}/"
        embedded: [/style.css, /script.js, /pictures/1.svg]
        checks: [{status: 200}]
"""


class Returning(ProcessCase):
    def asked(self, visit: Visit) -> tuple[Counter[tuple[str, int]], int]:
        """(paths and statuses that the stand-in logged of three users, resources from their
        caches).
        """
        base = f"http://127.0.0.1:{self.target_port}"
        row = CrowdRow(row="r", journey="j", persona="p")
        load = UserRounds(users=3, rounds=1)
        crowd = Crowd(
            crowd="c", load=load, profile=(Stretch(stretch="hold", seconds=8),), rows=(row,)
        )
        plan = Plan(
            form=2, plan="p", name="P", environment="e", crowds=(crowd,), measured=(0.0, 8.0)
        )
        inputs = Inputs(
            plan=plan,
            journeys={"j": parse_journey(TEXT)},
            values={"env.base": base},
            agreed=(parse_target(base),),
            personas={"p": Persona(form=1, persona="p", visit=visit)},
        )
        outcome, _ = perform(freeze(inputs, run="r", seed=1), {}, {}, lambda line: None)
        self.assertEqual((outcome.rounds_passed, outcome.rounds_failed), (3, 0), outcome.doubts)
        logged = [
            each for each in self.target("/truth/log") if each["id"]
        ]  # what primed caches has no number
        cached = sum(row.cached for row in outcome.rows)
        return Counter((each["path"], each["status"]) for each in logged), cached

    def test_what_is_fresh_is_not_asked_for_and_what_is_not_is_asked_about(self) -> None:
        found, cached = self.asked(Visit(visit="return", away_s=60))
        self.assertEqual(([path for path, _ in found], cached), (["/"], 9))
        found, cached = self.asked(Visit(visit="return", away_s=400))
        self.assertEqual(
            (found[("/style.css", 304)], found[("/style.css", 200)], cached), (3, 0, 9 - 9)
        )
        found, _ = self.asked(Visit(visit="first"))
        self.assertEqual(found[("/style.css", 200)], 3)
