"""Messages really sent: to a sink, to webhooks that hang, refuse, redirect or fail, and to a mail
server.
"""

import hashlib
import hmac
import http.server
import json
import socketserver
import threading
import time
from typing import Any
from unittest.mock import patch

from django.utils import timezone

from dynamikos.fleet import telling
from dynamikos.fleet.telling import Came, Teller
from dynamikos.web.environments import actions as environments
from dynamikos.web.notices import actions
from dynamikos.web.notices.models import Sending
from tests.processes.support import PATIENCE_S, ProcessCase, free_port, until


class Hook(http.server.BaseHTTPRequestHandler):
    """Answers as its path says, and remembers what came."""

    came: list[tuple[str, dict[str, str], bytes]] = []

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"]))
        Hook.came.append((self.path, dict(self.headers), body))
        if self.path == "/hang":
            time.sleep(5)
        status = {"/gone": 410, "/broken": 500, "/elsewhere": 302}.get(self.path, 200)
        self.send_response(status)
        if status == 302:
            self.send_header("Location", f"http://127.0.0.1:{self.server.server_address[1]}/taken")
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *_: Any) -> None:
        pass


class Letters(socketserver.StreamRequestHandler):
    """A mail server of a few verbs; refuses whoever is called nobody."""

    came: list[str] = []

    def handle(self) -> None:
        self.wfile.write(b"220 letters\r\n")
        while line := self.rfile.readline().decode():
            verb = line[:4].upper()
            if verb == "DATA":
                self.wfile.write(b"354 go on\r\n")
                text = ""
                while (part := self.rfile.readline().decode()) != ".\r\n":
                    text += part
                Letters.came.append(text)
                self.wfile.write(b"250 taken\r\n")
            elif verb == "QUIT":
                self.wfile.write(b"221 bye\r\n")
                return
            else:
                refused = verb == "RCPT" and "nobody@" in line
                self.wfile.write(b"550 who is that\r\n" if refused else b"250 yes\r\n")


class Told(ProcessCase):
    def setUp(self) -> None:
        super().setUp()
        Hook.came, Letters.came = [], []
        self.hook = self.serve(http.server.ThreadingHTTPServer(("127.0.0.1", 0), Hook))
        self.teller = Teller()
        self.addCleanup(self.teller.close)
        environments.agree(self.sample.member, self.sample.environment, self.hook)

    def serve(self, server: Any) -> str:
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        return f"http://127.0.0.1:{server.server_address[1]}"

    def tell(self, to: str, kind: str = "webhook") -> tuple[Sending, str]:
        notice, key = actions.add(self.sample.member, {"kind": kind, "to": to}, ["ended"])
        return actions.test(self.sample.member, notice), key

    def tried(self, sending: Sending) -> tuple[str, int, str]:
        Sending.objects.filter(pk=sending.pk).update(due_at=timezone.now())
        self.teller.tick()
        self.teller.wait()
        sending.refresh_from_db()
        return sending.state, sending.tries, sending.said

    def test_a_message_is_signed_as_its_reader_can_check(self) -> None:
        sending, key = self.tell(f"{self.hook}/taken")
        self.assertEqual(self.tried(sending), ("sent", 1, "answered 200"))
        _, heads, body = Hook.came[0]
        at, made = (part.partition("=")[2] for part in heads["Dynamikos-Signature"].split(","))
        self.assertEqual(
            made, hmac.new(key.encode(), f"{at}.".encode() + body, hashlib.sha256).hexdigest()
        )
        self.assertLess(abs(time.time() - int(at)), 60)
        self.assertEqual(heads["Dynamikos-Delivery"], str(sending.pk))
        self.assertEqual(json.loads(body)["event"], "test")

    def test_one_that_hangs_takes_no_place_of_the_others(self) -> None:
        kept = threading.Event()
        self.addCleanup(kept.set)
        started: list[tuple[int, str]] = []

        def send(sending: Sending, ports: object) -> Came:
            started.append((sending.notice_id, sending.event))
            if sending.notice.to.endswith("/hangs"):
                kept.wait(PATIENCE_S)
            return Came(True, "answered 200")

        hangs, _ = actions.add(
            self.sample.member, {"kind": "webhook", "to": f"{self.hook}/hangs"}, ["ended"]
        )
        for _ in range(20):
            actions.test(self.sample.member, hangs)
        fine, _ = self.tell(f"{self.hook}/taken")
        with patch("dynamikos.fleet.telling.send", send):
            self.teller.tick()
            until(lambda: Sending.objects.get(pk=fine.pk).state == "sent")
            self.teller.tick()
            self.assertEqual([of for of, _ in started].count(hangs.pk), 1)
            kept.set()
            self.teller.wait()

    def test_what_fails_is_tried_again_later_and_given_up_in_the_end(self) -> None:
        sending, _ = self.tell(f"{self.hook}/broken")
        waits = []
        for tries in range(1, 7):
            before = timezone.now()
            state, counted, said = self.tried(sending)
            self.assertEqual((counted, said), (tries, "answered 500"))
            waits.append((sending.due_at - before).total_seconds())
            self.assertEqual(state, "waiting" if tries < 6 else "given up")
        self.assertEqual([round(each, -1) for each in waits[:5]], [10, 60, 300, 1800, 7200])
        self.assertEqual(len(Hook.came), 6)

    def test_what_is_refused_for_good_is_not_tried_again_and_says_why(self) -> None:
        for path, said in (("/gone", "answered 410"), ("/elsewhere", "which is not followed")):
            with self.subTest(path):
                state, tries, words = self.tried(self.tell(f"{self.hook}{path}")[0])
                self.assertEqual((state, tries), ("given up", 1))
                self.assertIn(said, words)
        self.assertEqual([path for path, _, _ in Hook.came], ["/gone", "/elsewhere"])

    def test_every_status_is_taken_given_up_or_tried_again(self) -> None:
        taken = {status for status in range(200, 600) if telling.judged(status).taken}
        again = {
            status
            for status in range(200, 600)
            if telling.judged(status).again and status not in taken
        }
        self.assertEqual(taken, set(range(200, 300)))
        self.assertEqual(again, {408, 425, 429, *range(500, 600)})

    def test_a_target_that_is_agreed_no_more_is_sent_nothing(self) -> None:
        sending, _ = self.tell(f"{self.hook}/taken")
        self.sample.environment.targets.all().delete()
        state, _, said = self.tried(sending)
        self.assertEqual(state, "given up")
        self.assertIn("not-agreed", said)
        self.assertEqual(Hook.came, [])

    def test_one_that_hangs_and_one_that_is_gone_hold_nobody_up(self) -> None:
        gone = f"http://127.0.0.1:{free_port()}"
        environments.agree(self.sample.member, self.sample.environment, gone)
        sendings = [
            self.tell(f"{at}")[0] for at in (f"{self.hook}/hang", f"{gone}/x", f"{self.hook}/taken")
        ]
        with patch.object(telling, "LONGEST_S", 1.0):
            begun = time.monotonic()
            self.teller.tick()
            self.assertLess(time.monotonic() - begun, 1.0)
            self.teller.wait()
        found = [Sending.objects.get(pk=each.pk) for each in sendings]
        self.assertEqual([each.state for each in found], ["waiting", "waiting", "sent"])
        self.assertIn("1 s", found[0].said)
        self.assertIn("refused", found[1].said)

    def test_letters_go_out_by_the_mail_server_of_the_installation(self) -> None:
        sending, _ = self.tell("nights@brindle-fell.example", "e-mail")
        self.assertIn("no mail server", self.tried(sending)[2])
        port = int(
            self.serve(socketserver.ThreadingTCPServer(("127.0.0.1", 0), Letters)).rpartition(":")[
                2
            ]
        )
        backend = "django.core.mail.backends.smtp.EmailBackend"
        given = {"EMAIL_HOST": "127.0.0.1", "EMAIL_PORT": port, "EMAIL_BACKEND": backend}
        with self.settings(**given, DEFAULT_FROM_EMAIL="load@brindle-fell.example"):
            self.assertEqual(
                self.tried(self.tell("nights@brindle-fell.example", "e-mail")[0])[0], "sent"
            )
            state, _, said = self.tried(self.tell("nobody@brindle-fell.example", "e-mail")[0])
        self.assertEqual(state, "given up")
        self.assertIn("550", said)
        self.assertIn("From: load@brindle-fell.example", Letters.came[0])
        self.assertIn("This is a test", Letters.came[0])

    def test_a_real_run_is_told_to_the_sink_when_it_is_over(self) -> None:
        from dynamikos.web.runs import actions as runs

        self.start_fleet()
        actions.add(
            self.sample.member,
            {"kind": "webhook", "to": f"http://127.0.0.1:{self.target_port}/sink"},
            ["ended"],
        )
        run = runs.start(self.sample.member, self.sample.plan)
        until(lambda: run.commands.exists() or self.target("/truth/log"))
        runs.stop(self.sample.member, run, now=True)
        until(lambda: Sending.objects.filter(run=run, state="sent").exists())
        told = json.loads(self.target("/sink/log")[0]["body"])
        run.refresh_from_db()
        self.assertEqual(
            (told["event"], told["run"], told["verdict"]), ("ended", run.number, "stopped")
        )
        self.assertIn("by hand", told["sentence"])
