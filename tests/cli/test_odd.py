"""The plan of odd answers: each comes to the outcome that its step says, and the target counted
what the run sent.
"""

import json
import shutil
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path
from unittest import TestCase

from click.testing import CliRunner

from dynamikos.cli.commands.run import command
from dynamikos.core.journeys import parse_journey
from tests.ports import free_port

EXAMPLES = Path(__file__).parents[2] / "examples"


class Odd(TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory())) / "examples"
        shutil.copytree(EXAMPLES, self.folder)
        self.port = free_port()
        place = self.folder / "environments/practice.yaml"
        place.write_text(place.read_text().replace("8470", str(self.port)))
        self.target = subprocess.Popen(
            [sys.executable, "-m", "observatory", "--port", str(self.port)]
        )
        self.addCleanup(self.target.wait)
        self.addCleanup(self.target.terminate)
        for _ in range(200):
            try:
                self.truth()
                return
            except OSError:
                time.sleep(0.05)

    def truth(self) -> dict[str, int]:
        with urllib.request.urlopen(f"http://127.0.0.1:{self.port}/truth") as answer:
            return dict(json.load(answer)["requests"])

    def test_each_odd_answer_has_the_outcome_that_its_step_says(self) -> None:
        told = self.folder / "o.json"
        done = CliRunner().invoke(
            command,
            [
                str(self.folder / "odd.plan.yaml"),
                "--users",
                "3",
                "--duration",
                "8",
                "--json",
                str(told),
            ],
        )
        self.assertIn(done.exit_code, (0, 3), done.output)
        found = json.loads(told.read_text())
        kinds = {
            (row["step"], kind)
            for row in found["rows"]
            if row["level"] == "request"
            for kind in row["kinds"]
        }
        rows = {row["step"]: row for row in found["rows"] if row["level"] == "request"}
        steps = [
            step
            for _, step in parse_journey((self.folder / "journeys/odd.yaml").read_text()).steps()
            if step.note
        ]
        self.assertEqual(len(steps), 12)
        for step in steps:
            with self.subTest(step.step):
                self.assertGreater(rows[step.step]["count"], 0)
                expected = (
                    {(step.step, step.note.removeprefix("fails as "))}
                    if step.note != "passes"
                    else set()
                )
                self.assertEqual({pair for pair in kinds if pair[0] == step.step}, expected)
        sums = found["exchanges"]
        self.assertEqual(sums["sent"], sums["answered"] + sums["failed"] + sums["in_flight"])
        truth = self.truth()
        counted = sum(
            number for kind, number in truth.items() if kind == "still" or kind.startswith("odd-")
        )
        # what meets a kept connection that closes without a byte is sent once more, on a new one
        # (RFC 9112 §9.3.1): one exchange
        self.assertEqual(counted, sums["sent"] + sums["reopened"])
        self.assertGreater(sums["reopened"], 0)
