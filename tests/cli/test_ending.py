"""A cancelled pipeline leaves no load behind: signals end a run as Ctrl-C does, and what came of it
is written.
"""

import json
import os
import signal
import subprocess
import sys
from xml.etree import ElementTree

from tests.cli.test_run_command import PLAN, Files


class Signals(Files):
    def begun(self, *words: str, plan: str = "", **more: object) -> "subprocess.Popen[str]":
        self.write("p.yaml", plan or PLAN.replace("seconds: 2}", "seconds: 600}"))
        command = [
            sys.executable,
            "-m",
            "dynamikos.cli",
            "run",
            str(self.folder / "p.yaml"),
            "--json",
            str(self.folder / "o.json"),
            "--junit",
            str(self.folder / "o.xml"),
            *words,
        ]
        env = {**os.environ, "PYTHONPATH": os.pathsep.join(each for each in sys.path if each)}
        # whoever runs the tests may have ignored it
        more.setdefault("preexec_fn", lambda: signal.signal(signal.SIGHUP, signal.SIG_DFL))
        child = subprocess.Popen(
            command, env=env, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, **more
        )  # type: ignore[call-overload]
        self.addCleanup(child.kill)
        return child  # type: ignore[no-any-return]

    def running(self, child: "subprocess.Popen[str]") -> None:
        assert child.stdout is not None
        while "exchanges/s" not in (line := child.stdout.readline()):
            self.assertTrue(line, "it ended by itself")

    def test_each_of_them_ends_a_run_in_files_with_its_files_and_exit_code_4(self) -> None:
        for number in (signal.SIGTERM, signal.SIGHUP, signal.SIGINT):
            with self.subTest(number):
                child = self.begun()
                self.running(child)
                child.send_signal(number)
                said, _ = child.communicate(timeout=60)
                self.assertEqual(child.returncode, 4, said)
                found = json.loads((self.folder / "o.json").read_text())
                self.assertEqual(
                    (found["state"], found["exit_code"], found["ended"]),
                    ("stopped", 4, "stopped gently"),
                )
                self.assertTrue(ElementTree.parse(self.folder / "o.xml").getroot().get("tests"))

    def test_a_hang_up_that_was_ignored_at_the_start_ends_nothing(self) -> None:
        child = self.begun(
            plan=PLAN.replace("seconds: 2}", "seconds: 8}"),
            preexec_fn=lambda: signal.signal(signal.SIGHUP, signal.SIG_IGN),
        )
        self.running(child)
        child.send_signal(signal.SIGHUP)
        said, _ = child.communicate(timeout=60)
        self.assertNotEqual(child.returncode, 4, said)

    def test_before_anything_was_sent_it_says_so(self) -> None:
        pipe = self.folder / "p.yaml"
        pipe.write_text(PLAN)
        env = {**os.environ, "PYTHONPATH": os.pathsep.join(each for each in sys.path if each)}
        program = (
            "import sys, time, dynamikos.cli.plan_files as files\n"
            "def slow(*given):\n    print('loading', flush=True)\n    time.sleep(60)\n"
            "files.load = slow\n"
            "from dynamikos.cli.commands.run import command\n"
            "command(sys.argv[1:])\n"
        )
        command = [sys.executable, "-c", program, str(pipe), "--json", str(self.folder / "o.json")]
        child = subprocess.Popen(
            command, env=env, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )
        self.addCleanup(child.kill)
        assert child.stdout is not None
        while "loading" not in child.stdout.readline():
            self.assertIsNone(child.poll())
        child.send_signal(signal.SIGTERM)
        child.communicate(timeout=30)
        self.assertEqual(child.returncode, 4)
        told = json.loads((self.folder / "o.json").read_text())
        self.assertIn("before anything was sent", told["problem"])
        self.assertEqual(told["exit_code"], 4)
