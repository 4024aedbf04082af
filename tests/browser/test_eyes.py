"""A real browser that looks at pages: what it measures, where it does not go, what becomes of it
when it is lost.
"""

import asyncio
import contextlib
import http.server
import json
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
from collections.abc import Awaitable, Callable
from pathlib import Path
from unittest import TestCase, mock, skipUnless

import psutil
import pyarrow.parquet as pq
from aiohttp import web
from django.utils import timezone

from dynamikos.chromium import ACCOUNT, unguarded, unseen
from dynamikos.cli.state import wait_for_port
from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.journeys import parse_journey
from dynamikos.core.plans import Plan, Way, parse_target
from dynamikos.core.probes import Measured, Probe
from dynamikos.core.profiles import Stretch
from dynamikos.core.verdicts.states import STOPPED
from dynamikos.engine.probing import ProbeSecond
from dynamikos.engine.testing import frozen_of_one
from dynamikos.engine.watching import Watcher
from dynamikos.fleet import probing as prober
from dynamikos.fleet.probing import Probed
from dynamikos.web.runs.models import Run
from tests.processes.support import PATIENCE_S, free_port, until

LATE_S, SLOW_S = 0.3, 2.5
PAGE = """<!doctype html><title>Sky</title><style>#late {{ height: 0 }} h1 {{ font-size: 60px }}</style>
<p id="late"></p><h1>Brindle Fell</h1><img src="http://127.0.0.1:{rogue}/pixel.png"><p>{filler}</p>
<script>setTimeout(() => {{ document.getElementById('late').style.height = '300px'; }}, 150);
fetch('http://127.0.0.1:{rogue}/told').catch(() => 0);
try {{ new WebSocket('ws://127.0.0.1:{rogue}/socket'); }} catch (e) {{ }}
navigator.sendBeacon('http://127.0.0.1:{rogue}/beacon', 'x');</script>"""  # noqa: E501
SECRET = "Zk4Wy7pQ2vT"
SIMPLE = {
    "/echo": "<!doctype html><title>Sky</title><p>asked with KEY</p>",
    "/titled": "<!doctype html><title>KEY</title><p>Sky</p>",
    "/quiet": "<!doctype html><title>Sky</title><p>Sky</p>",
    "/busy": "<!doctype html><title>Sky</title><p>Sky</p><script>addEventListener('load',"
    " () => setTimeout(() => { for (;;) ; }, 0))</script>",
}
Work = Callable[[Watcher, list[str]], Awaitable[None]]


class Eyes(TestCase):
    def watched(
        self,
        paths: tuple[str, ...],
        work: Work,
        agreed: tuple[str, ...] = (),
        *,
        rogue_too: bool = False,
    ) -> list[str]:
        """Does `work` with a watcher of pages; what came to a server that is agreed to with
        `rogue_too` only.
        """
        port, rogue = free_port(), free_port()

        async def page(request: web.Request) -> web.StreamResponse:
            asked.append(request.path)
            if request.path == "/gone":
                raise web.HTTPNotFound
            if request.path == "/away":
                raise web.HTTPFound(f"http://127.0.0.1:{rogue}/away")
            if request.path in SIMPLE:
                said = SIMPLE[request.path].replace("KEY", request.query.get("key", "").upper())
                return web.Response(text=said, content_type="text/html")
            await asyncio.sleep(LATE_S)
            text = PAGE.format(rogue=rogue, filler="stars " * 400)
            return web.Response(text=text, content_type="text/html")

        async def elsewhere(request: web.Request) -> web.StreamResponse:
            strayed.append(request.path)
            return web.Response(text="")

        asked: list[str] = []
        strayed: list[str] = []

        async def program() -> None:
            runners = []
            for number, handler in ((port, page), (rogue, elsewhere)):
                app = web.Application()
                app.router.add_route("*", "/{tail:.*}", handler)
                runners.append(runner := web.AppRunner(app))
                await runner.setup()
                await web.TCPSite(runner, "127.0.0.1", number).start()
            addresses = tuple(f"{{{{ env.site }}}}{path}" for path in paths)
            probe = Probe(probe="eyes", browser=addresses, every_s=20)
            base = f"http://127.0.0.1:{port}"
            places = (*(agreed or (base,)), *((f"http://127.0.0.1:{rogue}",) if rogue_too else ()))
            values = {"env.site": base, "secrets.key": SECRET}
            watcher = Watcher(probe, values, [parse_target(each) for each in places], Way())
            try:
                await work(watcher, asked)
            finally:
                await watcher.aclose()
                for runner in runners:
                    await runner.cleanup()

        asyncio.run(program())
        return strayed

    def test_times_and_shifts_are_those_of_the_page_and_it_goes_nowhere_else(self) -> None:
        async def work(watcher: Watcher, asked: list[str]) -> None:
            looks, told = 0, {}
            # where the processors are others' a look may end before the page has moved
            while looks < 4 and not told.get('layout shift{page="/sky"}'):
                looks += 1
                with contextlib.suppress(DynamikosError):
                    found = await watcher.read()
                    told = {each.name: value for each, value in found.items()}
            self.assertEqual({each.unit for each in found if each.name.startswith("layout")}, {""})
            first, painted = told['first byte{page="/sky"}'], told['largest paint{page="/sky"}']
            self.assertGreaterEqual(first, 1000 * LATE_S)
            self.assertLess(first, 1000 * LATE_S + 10_000)
            self.assertGreaterEqual(told['first paint{page="/sky"}'], first)
            self.assertGreaterEqual(painted, told['first paint{page="/sky"}'])
            # about 300 of 800 px are moved, by 300 of the larger side
            self.assertGreater(told['layout shift{page="/sky"}'], 0.05)
            self.assertTrue(watcher.shots[0].jpeg.startswith(b"\xff\xd8"))
            await watcher.read()
            self.assertEqual(asked.count("/sky"), looks + 1, "each look is a first visit")

        self.assertEqual(self.watched(("/sky",), work), [])
        everywhere = {"/pixel.png", "/told", "/socket", "/beacon"}
        self.assertEqual(
            set(self.watched(("/sky",), work, rogue_too=True)),
            everywhere,
            "where it may, it does go",
        )

    @skipUnless(os.geteuid() == 0, "only root may start it as another account")
    def test_root_starts_it_as_an_account_of_its_own_with_its_sandbox_or_says_why_not(self) -> None:
        async def work(watcher: Watcher, asked: list[str]) -> None:
            with contextlib.suppress(DynamikosError):
                await watcher.read()
            users, bare = set[int](), False
            for each in psutil.Process().children(recursive=True):
                with contextlib.suppress(psutil.Error):  # one that ends meanwhile
                    if "chromium" in each.name() and (words := each.cmdline()):
                        users.add(each.uids().real)
                        bare = bare or "--no-sandbox" in words
            self.assertEqual((users, bare), ({0}, True) if unguarded() else ({ACCOUNT}, False))

        self.watched(("/quiet",), work)
        with mock.patch("dynamikos.chromium.ACCOUNT", "nobody-of-that-name"):
            unguarded.cache_clear()
            self.addCleanup(unguarded.cache_clear)
            with self.assertLogs("dynamikos.chromium", "WARNING"):
                self.assertIn(
                    "without their sandbox: this machine does not let another account have one",
                    unguarded(),
                )
            self.assertFalse(unseen()["chromium_sandbox"])

    def test_a_page_that_fails_or_leads_away_says_so_and_the_others_are_there(self) -> None:
        async def work(watcher: Watcher, asked: list[str]) -> None:
            found = await watcher.read()
            problems = {each.page: each.problem for each in watcher.shots}
            self.assertEqual(problems["/gone"], "it answered with status 404")
            self.assertTrue(problems["/away"])
            self.assertEqual(problems["/sky"], "")
            self.assertEqual({each.name.partition("{")[2] for each in found}, {'page="/sky"}'})

        self.assertEqual(self.watched(("/gone", "/away", "/sky"), work), [])

    def test_no_picture_shows_a_secret_that_was_sent_and_no_page_is_named_by_it(self) -> None:
        async def work(watcher: Watcher, asked: list[str]) -> None:
            found = await watcher.read()
            self.assertEqual([bool(each.jpeg) for each in watcher.shots], [False, False, True])
            self.assertIn(
                "pictures of /echo?key=•••••, /titled?key=••••• are not kept", watcher.unkept
            )
            told = str([found, watcher.shots, watcher.unkept]).casefold()
            self.assertNotIn(SECRET.casefold(), told)
            self.assertIn("load", told)

        paths = (
            "/echo?key={{ secrets.key }}",
            "/titled?key={{ secrets.key }}",
            "/quiet?key={{ secrets.key }}",
        )
        self.watched(paths, work)

    def test_a_page_that_is_busy_with_itself_takes_nothing_from_the_others(self) -> None:
        async def work(watcher: Watcher, asked: list[str]) -> None:
            async with asyncio.timeout(watcher.longest_s):
                await watcher.read()
            first, second = watcher.shots
            self.assertTrue(first.problem)
            self.assertEqual((second.page, second.problem), ("/quiet", ""))
            self.assertTrue(second.jpeg)
            children = psutil.Process().children(recursive=True)
            before = {each: spent_s(each) for each in children}
            await asyncio.sleep(1)
            spent = [spent_s(each) - took for each, took in before.items()]
            self.assertLess(max(spent, default=0), 0.3, "what was busy has ended")

        self.watched(("/busy", "/quiet"), work)

    def test_what_nobody_agreed_to_is_not_looked_at(self) -> None:
        async def work(watcher: Watcher, asked: list[str]) -> None:
            with self.assertRaisesRegex(DynamikosError, "is not an agreed target"):
                await watcher.read()
            self.assertEqual(asked, [])

        self.watched(("/sky",), work, agreed=("http://elsewhere.example",))

    def test_a_lost_browser_is_said_and_the_next_look_has_another(self) -> None:
        async def at_last(watcher: Watcher) -> dict[Measured, float]:
            """Where the processors are others' a look may take too long, and one at a browser that
            dies tells so.
            """
            for left in reversed(range(4)):
                try:
                    return await watcher.read()
                except DynamikosError:
                    if not left:
                        raise
            raise AssertionError

        async def work(watcher: Watcher, asked: list[str]) -> None:
            await at_last(watcher)
            for child in psutil.Process().children(recursive=True):
                with contextlib.suppress(psutil.NoSuchProcess):
                    if "chromium" in child.name():
                        child.send_signal(signal.SIGKILL)
            self.assertTrue(await at_last(watcher))

        self.watched(("/sky",), work)


class ProbeProcess(TestCase):
    """Browsers in a process of their own, as the prober has them."""

    def setUp(self) -> None:
        port = free_port()
        target = subprocess.Popen([sys.executable, "-m", "observatory", "--port", str(port)])
        self.addCleanup(target.wait)
        self.addCleanup(target.terminate)
        self.assertTrue(wait_for_port(port, PATIENCE_S))
        self.base = f"http://127.0.0.1:{port}"

    def frozen(self, path: str, every_s: float) -> FrozenRun:
        """A run whose only probe is a browser that opens a page."""
        journey = parse_journey(
            "form: 1\njourney: j\nname: J\nrounds:\n  - step: s\n    name: S\n    requests:\n"
            f'      - {{request: r, address: "{self.base}/"}}\n'
        )
        plan = Plan(
            form=2,
            plan="p",
            name="P",
            journey="j",
            environment="e",
            profile=(Stretch(stretch="climb", to=1, seconds=60),),
            probes=(Probe(probe="eyes", browser=(self.base + path,), every_s=every_s),),
        )
        return frozen_of_one(plan, journey, agreed=(parse_target(self.base),))

    def test_a_process_that_is_lost_is_said_and_another_tells_on(self) -> None:
        probed = Probed(Run(begins_at=timezone.now()), self.frozen("/", 2))

        def told() -> list[ProbeSecond]:
            def more() -> bool:
                prober._watch(probed, frozenset())
                return not probed.told.empty()

            until(more)
            return [probed.told.get() for _ in range(probed.told.qsize())]

        try:
            until(lambda: any(not each.problem for each in told()))
            assert probed.apart is not None
            probed.apart._process.kill()
            probed.apart._process.wait()
            until(
                lambda: (
                    "its process was lost, and is started again"
                    in [each.problem for each in told()]
                )
            )
            until(lambda: any('load{page="/"}' in each.values for each in told()))
        finally:
            if probed.apart is not None:
                probed.apart.end()

    def test_a_look_of_somebody_who_tries_tells_what_it_saw_or_why_not(self) -> None:
        def look(path: str, told: str) -> str:
            """Where the processors are others' a look may take too long."""

            def found() -> str:
                answer = str(prober._look(self.frozen(path, 20), frozenset()))
                return answer if told in answer else ""

            return str(until(found))

        self.assertIn("'values'", look("/", 'largest paint{page="/"}'))
        self.assertEqual(
            look("/nowhere", "404"), "{'problem': '/nowhere: it answered with status 404'}"
        )

    def test_a_page_that_is_tried_may_take_as_long_as_in_the_run(self) -> None:
        class Slow(http.server.BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                time.sleep(SLOW_S)
                self.send_response(200)
                self.end_headers()
                self.wfile.write(b"<h1>Brindle Fell</h1>")

        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Slow)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        self.base = f"http://127.0.0.1:{server.server_address[1]}"

        def first_byte() -> float:
            values = prober._look(self.frozen("/", 20), frozenset()).get("values", [])
            return next((value for name, _, value in values if name.startswith("first byte")), 0.0)

        self.assertGreaterEqual(until(first_byte), 1000 * SLOW_S)


class FromFiles(TestCase):
    def test_a_run_keeps_what_a_browser_saw_and_leaves_no_browser_behind(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        port = free_port()
        target = subprocess.Popen([sys.executable, "-m", "observatory", "--port", str(port)])
        self.addCleanup(target.wait)
        self.addCleanup(target.terminate)
        wait_for_port(port, 60)
        (folder / "j.yaml").write_text(
            "form: 1\njourney: j\nname: J\nrounds:\n  - step: s\n    name: S\n    think_s: 0.5\n   "
            " requests:\n"
            '      - {request: r, address: "{{ env.base }}/ping"}\n'
        )
        (folder / "e.yaml").write_text(
            f'form: 1\nenvironment: e\naddresses: {{base: "http://127.0.0.1:{port}"}}\n'
            f'agreed: ["http://127.0.0.1:{port}"]\n'
        )
        (folder / "p.yaml").write_text(
            "form: 1\nplan: p\nname: P\njourney: j.yaml\nenvironment: e.yaml\n"
            "profile: [{stretch: climb, to: 1, seconds: 1}, {stretch: hold, seconds: 280}]\n"
            'probes: [{probe: eyes, browser: ["{{ env.base }}/", "{{ env.base }}/nowhere"], '
            "every_s: 6}]\n"
        )
        command = [
            sys.executable,
            "-m",
            "dynamikos.cli",
            "run",
            str(folder / "p.yaml"),
            "--keep",
            str(folder / "out"),
        ]
        running = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )
        self.addCleanup(running.kill)

        def looks() -> int:
            """How often the browser came, which alone asks for the front page."""
            with urllib.request.urlopen(f"http://127.0.0.1:{port}/truth/log") as answer:
                return sum(each["path"] == "/" for each in json.load(answer))

        until(lambda: running.poll() is not None or looks() > 1, 270)  # the first look is over
        running.send_signal(signal.SIGINT)
        said = running.communicate(timeout=120)[0]
        self.assertEqual(running.returncode, STOPPED, said)
        told = pq.read_table(folder / "out" / "probes.parquet").to_pylist()
        names = {each["measure"] for each in told}
        self.assertIn('eyes: largest paint{page="/"}', names)
        self.assertTrue(list((folder / "out" / "shots").glob("*.jpg")))
        self.assertIn("/nowhere) told nothing", said)
        end = time.monotonic() + 20
        while (left := browsers()) and time.monotonic() < end:
            time.sleep(0.2)
        self.assertEqual(left, [])


def spent_s(process: psutil.Process) -> float:
    """Processor time of a process; one that has ended spends no more."""
    try:
        return float(sum(process.cpu_times()[:2]))
    except psutil.NoSuchProcess:
        return 0.0


def browsers() -> list[str]:
    """Those that a process which is gone has left behind."""
    return [
        " ".join(each.info["cmdline"])[:100]
        for each in psutil.process_iter(["name", "cmdline", "ppid"])
        if "chromium" in (each.info["name"] or "")
        and each.info["ppid"] == 1
        and "127.0.0.1" in " ".join(each.info["cmdline"] or [])
    ]
