"""A project's Python functions in their child process: what they give, what they can't
do, what is said when they fail.
"""

import asyncio
import os
import subprocess
import sys
import time
from unittest import TestCase

from dynamikos.engine.failures import Failure
from dynamikos.engine.functions import Child, box

MODULE = """import json
from other import twice

def total(prices, tax="0"):
    return sum(json.loads(prices)) * (100 + int(tax)) / 100

def listed(n):
    print("not an answer")
    return [int(n), twice(n)]

def broken(n):
    return 1 / int(n)

def slow():
    while True:
        pass

def big():
    return "x" * (2_000_000_000)

def leave():
    import os
    os._exit(3)

def _open(fd):
    import os
    try:
        os.fstat(fd)
    except OSError:
        return False
    return True

def outside():
    found = {}
    import os, socket
    found["environment"] = sorted(os.environ)
    found["user"] = os.geteuid()
    for name, act in {
        "network": lambda: socket.create_connection(("127.0.0.1", PORT), 0.3),
        "keys": lambda: open("/root/.profile" if os.path.exists("/root") else "/etc/shadow"),
        "write": lambda: open("/tmp/dynamikos-function", "w", buffering=1).write("x\\n"),
        "create": lambda: os.close(os.open("/dynamikos-function", os.O_CREAT | os.O_WRONLY)),
        "others": lambda: os.kill(PARENT, 0),
        "fork": lambda: os.fork(),
        "root": lambda: os.setuid(0),
    }.items():
        try:
            act()
            found[name] = "done"
        except Exception as problem:
            found[name] = type(problem).__name__
    found["descriptors"] = sum(1 for fd in range(100) if _open(fd))
    return found
"""
OTHER = "def twice(n):\n    return int(n) * 2\n\ndef _hidden():\n    return 1\n"


def called(
    function: str, *, modules: dict[str, str] | None = None, budget_s: float = 0.5, **given: str
) -> str:
    async def program() -> str:
        child = Child(modules or {"other": OTHER, "sums": MODULE}, budget_s=budget_s, agreed=True)
        try:
            return await child.call(function, given)
        finally:
            await child.close()

    return asyncio.run(program())


class Calls(TestCase):
    def test_what_they_return_becomes_text(self) -> None:
        self.assertEqual(called("sums.total", prices="[10, 20]", tax="10"), "33.0")
        self.assertEqual(called("sums.listed", n="4"), "[4, 8]")
        self.assertEqual(asyncio.run(Child({"other": OTHER}, agreed=True).load()), ("other.twice",))

    def test_what_fails_is_said_with_its_line(self) -> None:
        cases = (
            ("sums.broken", {"n": "0"}, None, "function", "sums.py, line 12: ZeroDivisionError"),
            ("sums.slow", {}, None, "function-time", "longer than 0.5 s"),
            ("sums.big", {}, None, "function", "MemoryError"),
            ("sums.leave", {}, None, "function", "its process ended"),
            ("sums.none", {}, None, "function", "there is no function sums.none"),
            (
                "sums.total",
                {},
                None,
                "function",
                "missing 1 required positional argument: 'prices'",
            ),
            ("x.y", {}, {"x": "def y(:\n"}, "function", "x.py, line 1"),
            ("x.y", {}, {"x": "a = 1\nb = a / 0\n"}, "function", "x.py, line 2: ZeroDivisionError"),
            ("x.y", {}, {"x": "import os\nos._exit(1)"}, "function", "ended"),
        )
        for function, given, modules, kind, words in cases:
            with self.subTest(function, words=words), self.assertRaises(Failure) as said:
                called(function, modules=modules, **given)
            self.assertEqual(said.exception.kind, kind)
            self.assertIn(words, said.exception.detail)

    def test_after_one_that_never_ends_the_next_works(self) -> None:
        async def program() -> tuple[str, float]:
            child = Child({"other": OTHER, "sums": MODULE}, budget_s=0.3, agreed=True)
            try:
                with self.assertRaises(Failure):
                    await child.call("sums.slow", {})
                begun = time.monotonic()
                return await child.call("other.twice", {"n": "4"}), time.monotonic() - begun
            finally:
                await child.close()

        found, took = asyncio.run(program())
        self.assertEqual(found, "8")
        self.assertLess(took, 5)

    def test_waiting_for_its_turn_is_told(self) -> None:
        async def program() -> list[float]:
            child, told = (
                Child(
                    {"pause": "import time\n\ndef rest():\n    time.sleep(0.1)\n    return 1\n"},
                    agreed=True,
                ),
                list[float](),
            )
            try:
                await child.load()
                await asyncio.gather(*(child.call("pause.rest", {}, told.append) for _ in range(4)))
            finally:
                await child.close()
            return told

        told = asyncio.run(program())
        self.assertLess(told[0], 0.1)
        for at, waited in enumerate(
            told
        ):  # each waits for those before it, a tenth of a second each
            self.assertGreaterEqual(waited, 0.1 * at - 0.02)

    def test_nothing_outside_can_be_reached(self) -> None:
        async def program() -> dict[str, object]:
            server = await asyncio.start_server(lambda reader, writer: None, "127.0.0.1", 0)
            port = server.sockets[0].getsockname()[1]
            child = Child(
                {
                    "other": OTHER,
                    "sums": MODULE.replace("PORT", str(port)).replace("PARENT", str(os.getpid())),
                },
                budget_s=3,
            )
            try:
                import json

                return {**json.loads(await child.call("sums.outside", {})), "alone": child.alone}
            finally:
                await child.close()
                server.close()

        os.environ["DYNAMIKOS_TEST_SECRET"] = "x"
        found = asyncio.run(program())
        self.assertEqual(found["environment"], [])
        self.assertLessEqual(found["descriptors"], 6)  # type: ignore[operator]
        if os.geteuid() == 0:
            self.assertNotEqual(found["user"], 0)
            self.assertIn(found["root"], ("PermissionError", "OSError"))
        for what in ("write", "create", "fork", "keys", "others", "network"):
            self.assertNotEqual(found[what], "done", what)
        self.assertFalse(os.path.exists("/tmp/dynamikos-function"))

    def test_an_ordinary_account_loses_its_files_too_or_is_asked(self) -> None:
        """As an account that owns a key: closed off by the kernel it can't be read; where that
        can't be done, nothing is run at all.
        """
        program = """
import asyncio, os, sys, tempfile
from dynamikos.engine import functions
from dynamikos.engine.failures import Failure

if os.geteuid() == 0:
    os.setgroups([]); os.setresgid(12345, 12345, 12345); os.setresuid(12345, 12345, 12345)
with tempfile.TemporaryDirectory() as folder:
    key = os.path.join(folder, "sealing.key")
    os.close(os.open(key, os.O_CREAT | os.O_WRONLY, 0o600))
    if sys.argv[1] == "without":
        functions.box = lambda: ()
    source = f"import os\\n\\ndef act(how):\\n    return getattr(os, how)({key!r}) or 'done'\\n"

    async def called(how, agreed):
        child = functions.Child({"m": source}, budget_s=3, agreed=agreed)
        try:
            return await child.call("m.act", {"how": how})
        except Failure as failure:
            return failure.detail
        finally:
            await child.close()

    stat = asyncio.run(called("stat", False)).partition("(")[0]
    print(stat, "|", asyncio.run(called("unlink", sys.argv[1] == "agreed")), "|", os.path.exists(key))
"""  # noqa: E501
        for how in ("with", "without"):
            done = subprocess.run(
                [sys.executable, "-c", program.replace("\\\\n", "\\n"), how],
                env={**os.environ, "PYTHONPATH": ":".join(sys.path)},
                capture_output=True,
                text=True,
                timeout=60,
                check=True,
                cwd="/",
            )
            stat, unlinked, there = done.stdout.strip().split(" | ")
            self.assertEqual(there, "True")
            if how == "without" or not box():
                self.assertIn("the key that opens the secrets", stat)
                self.assertIn("an owner has to agree to exactly that", unlinked)
            else:
                self.assertIn("FileNotFoundError", stat)
                self.assertIn("FileNotFoundError", unlinked)
