"""The demo survives being used: the second and the third run of a sample plan behave as the
first.
"""

import json
import os
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from unittest import TestCase

from dynamikos.cli.state import ROOT, wait_for_port
from tests.ports import free_port

# those that book leave something behind
PLANS = {
    "evening": ("--users", "6"),
    "arrivals": (),
    "crowd": ("--users", "8"),
    "rounds": (),
    "stairs": ("--users", "4"),
}
OTHERS = ("browser", "odd")  # the tests of browsers look at the one, and the other fails on purpose
PORT = "8470"  # of the practice target, in the examples


class Samples(TestCase):
    def test_each_plan_three_times_in_a_row_fails_nowhere(self) -> None:
        self.assertEqual(
            {each.name.partition(".")[0] for each in (ROOT / "examples").glob("*.plan.yaml")},
            {*PLANS, *OTHERS},
        )
        with ThreadPoolExecutor(len(PLANS)) as threads:
            every = list(threads.map(self.performed, PLANS))
        for plan, told in zip(PLANS, every, strict=True):
            for turn, (done, found) in enumerate(told, 1):
                with self.subTest(plan, turn=turn):
                    self.assertIn(
                        done.returncode, (0, 1, 3), done.stdout[-3000:] + done.stderr[-3000:]
                    )
                    self.assertEqual(found["exchanges"]["failed"], 0)
                    failed = {row["name"]: row["kinds"] for row in found["rows"] if row["failures"]}
                    self.assertEqual(failed, {})
                    self.assertGreater(found["rounds"]["passed_in_all"], 0)

    def performed(self, plan: str) -> list[tuple[subprocess.CompletedProcess[str], dict[str, Any]]]:
        """Three runs of a plan against a practice target of its own: (how the command ended, what
        it told).
        """
        place = Path(self.enterContext(tempfile.TemporaryDirectory())) / "examples"
        shutil.copytree(ROOT / "examples", place)
        port = free_port()
        for file in place.rglob("*.yaml"):
            text = file.read_text().replace(PORT, str(port))
            # people who think less: whole rounds in a short run
            if file.name.endswith(".plan.yaml") and "think_factor" not in text:
                text += "think_factor: 0.2\n"
            file.write_text(text)
        env = {**os.environ, "PYTHONPATH": f"{ROOT / 'src'}{os.pathsep}{ROOT}"}
        target = subprocess.Popen(
            [sys.executable, "-m", "observatory", "--port", str(port)], env=env
        )
        self.addCleanup(target.wait)
        self.addCleanup(target.terminate)
        self.assertTrue(wait_for_port(port, 30))
        made = []
        for turn in (1, 2, 3):
            out = place / f"{plan}-{turn}.json"
            command = [
                sys.executable,
                "-m",
                "dynamikos.cli",
                "run",
                str(place / f"{plan}.plan.yaml"),
                *PLANS[plan],
                "--duration",
                "9",
                "--json",
                str(out),
            ]
            done = subprocess.run(
                command, env=env, capture_output=True, text=True, timeout=180, check=False
            )
            made.append((done, json.loads(out.read_text())))
        return made
