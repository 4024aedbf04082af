"""The demo survives being used: the second and the third run of a sample plan behave as the first."""

import json
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from unittest import TestCase

from dynamikos.cli.state import ROOT, wait_for_port
from tests.ports import free_port

PLANS = {"evening": ("--users", "6")}  # those that book leave something behind
PORT = "8470"  # of the practice target, in the examples


class Samples(TestCase):
    def test_each_plan_three_times_in_a_row_fails_nowhere(self) -> None:
        place = Path(self.enterContext(tempfile.TemporaryDirectory())) / "examples"
        shutil.copytree(ROOT / "examples", place)
        port = free_port()
        for file in place.rglob("*.yaml"):
            text = file.read_text().replace(PORT, str(port))
            # people who think less: whole rounds in a short run
            file.write_text(text + "think_factor: 0.2\n" if file.name == "evening.plan.yaml" else text)
        env = {**os.environ, "PYTHONPATH": f"{ROOT / 'src'}{os.pathsep}{ROOT}"}
        target = subprocess.Popen([sys.executable, "-m", "observatory", "--port", str(port)], env=env)
        self.addCleanup(target.wait)
        self.addCleanup(target.terminate)
        self.assertTrue(wait_for_port(port, 30))
        for plan, more in PLANS.items():
            for turn in (1, 2, 3):
                out = place / f"{plan}-{turn}.json"
                command = [sys.executable, "-m", "dynamikos.cli", "run", str(place / f"{plan}.plan.yaml"), *more,
                           "--duration", "9", "--json", str(out)]  # fmt: skip
                done = subprocess.run(command, env=env, capture_output=True, text=True, timeout=180, check=False)
                told = json.loads(out.read_text())
                with self.subTest(plan, turn=turn):
                    self.assertIn(done.returncode, (0, 3), done.stdout[-3000:])  # 3: this machine was busy
                    self.assertEqual(told["exchanges"]["failed"], 0)
                    failed = {row["name"]: row["kinds"] for row in told["rows"] if row["failures"]}
                    self.assertEqual(failed, {})
                    self.assertGreater(told["rounds"]["passed_in_all"], 0)
