"""The one command: from an empty state folder to a page, a process that dies started again,
everything ended, and found again.
"""

import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from pathlib import Path
from unittest import TestCase

import psutil

from dynamikos.cli.state import ROOT, State
from tests.processes.support import free_port, until


class Demo(TestCase):
    def setUp(self) -> None:
        folder = tempfile.mkdtemp(prefix="dynamikos-demo-")
        os.chmod(folder, 0o755)  # the database's own user goes through it
        self.state = State.open(Path(folder))
        self.said = self.state.folder / "said.txt"
        self.port, self.target_port = free_port(), free_port()
        self.demo: subprocess.Popen[bytes] | None = None

    def start(self) -> str:
        """The address, once the demo says that it is ready."""
        kept = {
            name: value
            for name, value in os.environ.items()
            if name not in ("DATABASE_URL", "DJANGO_SETTINGS_MODULE")
            and not name.startswith("DYNAMIKOS")
        }
        command = [
            sys.executable,
            "-m",
            "dynamikos.cli",
            "demo",
            "--port",
            str(self.port),
            "--target-port",
            str(self.target_port),
        ]
        with self.said.open("wb") as out:
            self.demo = subprocess.Popen(
                command,
                cwd=ROOT,
                env=kept
                | {"DYNAMIKOS_STATE": str(self.state.folder), "PYTHONPATH": str(ROOT / "src")},
                stdout=out,
                stderr=out,
            )
        until(
            lambda: (
                b"Ctrl-C ends" in self.said.read_bytes()
                or (self.demo and self.demo.poll() is not None)
            ),
            every=0.2,
        )
        self.assertIsNone(self.demo.poll(), self.said.read_text())
        found = re.search(r"open +(http://\S+)", self.said.read_text())
        assert found is not None
        return found.group(1)

    def end(self) -> None:
        assert self.demo is not None
        self.demo.send_signal(signal.SIGINT)
        self.demo.wait(30)

    def tearDown(self) -> None:
        if self.demo is not None and self.demo.poll() is None:
            self.end()
        shutil.rmtree(self.state.folder, ignore_errors=True)

    def pid(self, name: str) -> int:
        return int(self.state._read("processes.json")[name]["pid"])

    def alive(self, names: set[str]) -> list[psutil.Process]:
        """All of them; nothing while one is being started again, since another took its port,
        say.
        """
        try:
            return [psutil.Process(self.pid(name)) for name in names]
        except psutil.NoSuchProcess:
            return []

    @staticmethod
    def answers(address: str) -> bool:
        try:
            with urllib.request.urlopen(address, timeout=2) as page:
                return b"Dynamikos" in page.read()
        except (urllib.error.URLError, OSError):
            return False

    def test_from_nothing_to_a_page_and_back(self) -> None:
        address = self.start()
        password = re.search(r"ada / (\S+)", self.said.read_text())
        self.assertTrue(self.answers(address + "sign-in/"))
        names = set(self.state._read("processes.json"))
        self.assertTrue(
            {"demo", "web", "coordinator", "generator", "prober", "recorder", "target"} <= names,
            names,
        )
        web, children = self.pid("web"), until(lambda: self.alive(names - {"demo"}), every=0.2)
        os.kill(web, signal.SIGKILL)
        until(lambda: self.pid("web") != web and self.answers(address + "sign-in/"), every=0.2)
        self.assertIn("web ended (code -9); starting it again", self.said.read_text())
        children.append(psutil.Process(self.pid("web")))
        log = self.state.log("coordinator")
        self.assertNotIn("failed", log.read_text() if log.exists() else "")
        self.end()
        self.assertEqual(
            re.findall(r"(\w+) ended \(code", self.said.read_text()),
            ["web"],
            "nobody else was started again",
        )
        self.assertEqual(
            [
                each.name()
                for each in children
                if each.is_running() and each.status() != psutil.STATUS_ZOMBIE
            ],
            [],
        )
        self.assertEqual(self.start(), address)  # everything is found as it was left
        again = re.search(r"ada / (\S+)", self.said.read_text())
        assert password is not None and again is not None
        self.assertEqual(again.group(1), password.group(1))
        self.assertNotIn("is taken by another", self.said.read_text())

    def test_what_dies_again_and_again_is_left_alone(self) -> None:
        from dynamikos.cli.processes import Supervisor

        supervisor = Supervisor(self.state)
        child = supervisor.add("short", ["this_module_is_nowhere"], dict(os.environ))
        begun = time.monotonic()
        before = {each: signal.getsignal(each) for each in (signal.SIGINT, signal.SIGTERM)}
        try:
            supervisor.watch(lambda: child.process is None or time.monotonic() - begun > 30)
        finally:
            for each, handler in before.items():
                signal.signal(each, handler)
        supervisor.end()
        self.assertEqual((child.process, len(child.restarts)), (None, 6))
        self.assertIn("this_module_is_nowhere", self.state.log("short").read_text())
