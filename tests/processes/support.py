"""Real processes on the test database: stand-in, coordinator, generator; ended by id after each
test.
"""

import json
import os
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable

import psutil
import psycopg
from django.db import connection
from django.test import TransactionTestCase

from dynamikos.cli.processes import GRANTS
from dynamikos.cli.state import wait_for_port
from tests.ports import free_port
from tests.web.support import Sample

ENDS = (
    "answered",
    "failed",
    "abandoned",
    "in_flight",
)  # each exchange that was sent is one of these
PATIENCE_S = 120  # a machine that others keep busy is slow, not wrong: only what never comes fails


def until(what: Callable[[], object], seconds: float = PATIENCE_S, every: float = 0.05) -> object:
    """Waits for `what` to be true; fails with its last value."""
    end = time.monotonic() + seconds
    while True:
        found = what()
        if found:
            return found
        if time.monotonic() > end:
            raise AssertionError(f"waited {seconds} s in vain; the last value was {found!r}")
        time.sleep(every)


class Machine:
    """Whether this machine gave us its processors since then: a bound on seconds is held to only if
    it did.
    """

    def __init__(self) -> None:
        self._before = psutil.cpu_times()

    def was_ours(self) -> bool:
        now = psutil.cpu_times()
        total = sum(now) - sum(self._before)
        if total <= 0:
            return True
        free = (now.idle - self._before.idle) / total  # none: others have them
        return (now.steal - self._before.steal) / total < 0.05 and free > 0.15


class ProcessCase(TransactionTestCase):
    """Commits for real; the generator connects with its own role, so what it may do is tested
    too.
    """

    def setUp(self) -> None:
        self.children: dict[str, subprocess.Popen[bytes]] = {}
        made = connection.settings_dict
        self.owner_url = f"postgresql://{made['USER']}:{made['PASSWORD']}@{made['HOST']}:{made['PORT']}/{made['NAME']}"
        self.generator_url = os.environ["DYNAMIKOS_TEST_GENERATOR"].replace(
            "DATABASE", str(made["NAME"])
        )
        with psycopg.connect(self.owner_url, autocommit=True) as link:
            for statement in GRANTS:
                link.execute(statement)
        self.target_port = free_port()
        self.spawn(
            "target", "observatory", "--port", str(self.target_port), OBSERVATORY_MAIL_S="0.1 0.6"
        )
        self.assertTrue(wait_for_port(self.target_port, PATIENCE_S))
        self.sample = Sample(f"http://127.0.0.1:{self.target_port}")

    def tearDown(self) -> None:
        for child in self.children.values():
            if child.poll() is None:
                child.terminate()
        for child in self.children.values():
            try:
                child.wait(5)
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait()

    def spawn(self, name: str, *command: str, **environment: str) -> subprocess.Popen[bytes]:
        log = open(f"{os.environ['DYNAMIKOS_STATE_FOLDER']}/log/test-{name}.log", "ab")  # noqa: SIM115  (lives as long as the child)
        self.addCleanup(log.close)
        made = {**os.environ, "DATABASE_URL": self.owner_url, "DYNAMIKOS_POOL": "0", **environment}
        self.children[name] = subprocess.Popen(
            [sys.executable, "-m", *command],
            env=made,
            stdout=log,
            stderr=log,
            stdin=subprocess.DEVNULL,
        )
        return self.children[name]

    def start_fleet(self) -> None:
        from dynamikos.web.places.queries import living

        self.spawn("coordinator", "dynamikos.cli", "coordinator")
        self.spawn(
            "generator", "dynamikos.cli", "generator", DYNAMIKOS_GENERATOR_URL=self.generator_url
        )
        until(living)

    def target(self, path: str):  # type: ignore[no-untyped-def]
        with urllib.request.urlopen(
            f"http://127.0.0.1:{self.target_port}{path}", timeout=5
        ) as answer:
            return json.loads(answer.read())
