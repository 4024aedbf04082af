"""The recorder's process: a doorway asked for, clicked through, named, dropped, paused
and stopped; a proxy; a restart.
"""

import base64
import os
import socket
import urllib.error
import urllib.request
import uuid
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from django.utils import timezone

from dynamikos.core.errors import DynamikosError
from dynamikos.web.journeys.actions import create_from_recording
from dynamikos.web.journeys.queries import content
from dynamikos.web.recordings import actions
from dynamikos.web.recordings.models import Session
from dynamikos.web.recordings.queries import as_core, strip
from dynamikos.web.streams.models import Message
from tests.processes.support import ProcessCase, until


class Recording(ProcessCase):
    def setUp(self) -> None:
        super().setUp()
        self.member = self.sample.member
        self.base = f"http://127.0.0.1:{self.target_port}"
        self.spawn("recorder", "dynamikos.cli", "recorder")

    def opened(self, kind: str) -> Session:
        session = actions.begin(self.member, kind, self.base, "By hand")
        return until(lambda: Session.objects.filter(pk=session.pk, state="recording").first())  # type: ignore[return-value]

    def count(self, pk: uuid.UUID) -> int:
        return Session.objects.get(pk=pk).recording.exchanges.count()

    def click(self, session: Session, path: str) -> bytes:
        """As a browser would: the doorway's name is resolved to loopback by it, not by Python."""
        name, port = session.address.removeprefix("http://").split(":")
        with socket.create_connection(("127.0.0.1", int(port)), 5) as link:
            link.sendall(
                f"GET {path} HTTP/1.1\r\nHost: {name}:{port}\r\nConnection: close\r\n\r\n".encode()
            )
            return b"".join(iter(lambda: link.recv(65_536), b""))

    def test_through_the_doorway_to_a_journey(self) -> None:
        session = self.opened("doorway")
        actions.mark(session.pk, "Arrive", "opening")
        self.assertIn(b"Borrow a telescope", self.click(session, "/"))
        self.click(session, "/style.css")
        until(lambda: self.count(session.pk) == 2)
        actions.mark(session.pk, "Look around", "rounds")
        self.click(session, "/sky?constellation=lyra&page=1")
        until(lambda: self.count(session.pk) == 3)
        actions.control(self.member, session.pk, "pause")
        until(lambda: Message.objects.filter(subject=session.pk).exists())
        import time

        time.sleep(0.6)  # the recorder looks every 0.2 s
        self.click(session, "/sky?constellation=lyra&page=9")
        actions.control(self.member, session.pk, "resume")
        time.sleep(0.6)
        self.click(session, "/objects/none")
        until(lambda: self.count(session.pk) == 4)
        actions.control(self.member, session.pk, "drop")
        self.assertEqual(self.count(session.pk), 3)
        drawn = strip(Session.objects.get(pk=session.pk))
        self.assertEqual(
            [(name, part) for _, _, name, part in drawn.stretches],
            [("Arrive", "opening"), ("Look around", "rounds")],
        )
        self.assertEqual(sorted(tick.height for tick in drawn.ticks), [12, 34, 34])
        ended = actions.control(self.member, session.pk, "stop")
        until(lambda: Message.objects.filter(subject=session.pk, event="end").exists())
        with self.assertRaises(OSError):
            self.click(session, "/")  # the doorway ends with the recording
        core = content(create_from_recording(self.member, ended.recording, "By hand", [self.base]))
        self.assertEqual(
            [(part, step.name, len(step.requests)) for part, step in core.steps()],
            [("opening", "Arrive", 1), ("rounds", "Look around", 1)],
        )
        self.assertEqual(core.opening[0].requests[0].embedded, ("{{ env.observatory }}/style.css",))

    def test_through_the_proxy_and_a_recorder_that_dies(self) -> None:
        session = self.opened("proxy")
        self.assertIn("BEGIN CERTIFICATE", session.authority)
        opener = urllib.request.build_opener(urllib.request.ProxyHandler({"http": session.address}))
        with opener.open(self.base + "/sky?constellation=orion&page=1", timeout=5) as answer:
            self.assertIn(b"orion", answer.read())
        until(lambda: self.count(session.pk) == 1)
        self.children["recorder"].kill()
        self.children["recorder"].wait()
        self.spawn("recorder", "dynamikos.cli", "recorder")
        ended = until(lambda: Session.objects.filter(pk=session.pk, state="ended").first())
        self.assertIn("what was recorded stays", ended.problem)  # type: ignore[attr-defined]
        self.assertEqual(self.count(session.pk), 1)

    def test_in_a_browser_that_is_started_for_it(self) -> None:
        session = self.opened("browser")
        self.assertRegex(session.window, r"http://127\.0\.0\.1:\d+")
        until(
            lambda: self.count(session.pk) >= 3
        )  # the front page and what it embeds, opened by itself
        actions.mark(session.pk, "Look around", "rounds")

        def drive() -> None:  # the sync API keeps a loop of its own in its thread
            from playwright.sync_api import sync_playwright

            with sync_playwright() as play:
                browser = play.chromium.connect_over_cdp(session.window)
                page = browser.contexts[0].pages[0]
                page.goto(f"{self.base}/sky?constellation=lyra&page=1")
                page.click("a.object >> nth=0")
                browser.close()

        with ThreadPoolExecutor(1) as pool:
            pool.submit(drive).result(60)

        def addresses() -> list[str]:
            return [
                each.sent.url
                for each in as_core(Session.objects.get(pk=session.pk).recording).exchanges
            ]

        until(lambda: any("/objects/" in url for url in addresses()))
        actions.control(self.member, session.pk, "stop")
        # none of the browser's own calls
        self.assertTrue(all(url.startswith(self.base) for url in addresses()), addresses())
        recording = Session.objects.get(pk=session.pk).recording
        made = create_from_recording(self.member, recording, "In a browser", [self.base])
        self.assertEqual([step.name for step in content(made).rounds], ["Look around"])
        profile = Path(os.environ["DYNAMIKOS_STATE_FOLDER"]) / "recorder" / f"browser-{session.pk}"
        until(lambda: not profile.exists())

    def test_for_a_device_with_a_word_and_an_end(self) -> None:
        session = self.opened("device")
        self.assertEqual(len(session.word), 12)
        place = session.address.removeprefix("http://")
        page = f"{self.base}/sky?page=1"

        def through(word: str) -> int:
            proxy = urllib.request.ProxyHandler({"http": f"http://recorder:{word}@{place}"})
            try:
                return int(urllib.request.build_opener(proxy).open(page, timeout=10).status)
            except urllib.error.HTTPError as refused:
                return int(refused.code)

        self.assertEqual((through("guess"), through(session.word)), (407, 200))
        until(lambda: self.count(session.pk) == 1)
        # what the recording does not name and only this machine can reach stays out of the device's
        # reach
        with socket.create_server(("127.0.0.1", 0)) as inside:
            page = f"http://127.0.0.1:{inside.getsockname()[1]}/"
            self.assertEqual(through(session.word), 502)
            with socket.create_connection(("127.0.0.1", int(place.rpartition(":")[2])), 5) as link:
                word = base64.b64encode(f"recorder:{session.word}".encode()).decode()
                link.sendall(
                    f"CONNECT 127.0.0.1:{inside.getsockname()[1]} HTTP/1.1\r\n"
                    f"Proxy-Authorization: Basic {word}\r\n\r\n".encode()
                )
                self.assertIn(b"502", link.recv(100))
            inside.settimeout(0.2)
            with self.assertRaises(TimeoutError):
                inside.accept()
        self.assertEqual(self.count(session.pk), 1)
        Session.objects.filter(pk=session.pk).update(until=timezone.now())
        until(lambda: Session.objects.get(pk=session.pk).state == "ended")
        self.assertIn("time was over", Session.objects.get(pk=session.pk).problem)
        self.assertEqual(self.count(session.pk), 1)
        with self.assertRaises(OSError):
            until(lambda: urllib.request.urlopen(session.address, timeout=2) and False, 5)

    def test_wrong_turns(self) -> None:
        for kind, address, what in (
            ("doorway", "", "Give its address"),
            ("doorway", "ftp://x", "can't be recorded"),
            ("magic", self.base, "not a way"),
            ("doorway", "http://*.x.example", "whole host names"),
        ):
            with self.assertRaisesRegex(DynamikosError, what):
                actions.begin(self.member, kind, address, "")
        session = self.opened("doorway")
        with self.assertRaisesRegex(DynamikosError, "needs a name"):
            actions.mark(session.pk, " ", "rounds")
        with self.assertRaisesRegex(DynamikosError, "not a part"):
            actions.mark(session.pk, "x", "middle")
        with self.assertRaisesRegex(DynamikosError, "can't be done"):
            actions.control(self.member, session.pk, "explode")
        self.assertIn(
            b"421",
            self.click(
                Session(address=f"http://other.localhost:{session.address.rpartition(':')[2]}"), "/"
            ),
        )

    def test_naming_a_stretch_afterwards(self) -> None:
        session = self.opened("doorway")
        for at, name in ((1000, "One"), (5000, "Two")):
            actions.mark(session.pk, name, "rounds", at)
        marks = actions.mark(session.pk, "Between", "closing", 2000, 3000).marks
        self.assertEqual(
            [(each["at_us"], each["name"]) for each in marks],
            [(1000, "One"), (2000, "Between"), (3000, "One"), (5000, "Two")],
        )
        marks = actions.mark(session.pk, "Over all", "rounds", 1500, 6000).marks
        self.assertEqual(
            [(each["at_us"], each["name"]) for each in marks],
            [(1000, "One"), (1500, "Over all"), (6000, "Two")],
        )
