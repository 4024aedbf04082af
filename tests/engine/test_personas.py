"""Personas in virtual time: pace, patience, first visits, headers; and in real time what a line
does to a download.
"""

import asyncio
import random
import socket
import ssl
import statistics
import threading
import time
from typing import Any
from unittest import TestCase

import trustme
import uvloop
from msgspec.structs import replace

from dynamikos.core.frozen import FrozenRun, every_series
from dynamikos.core.journeys import parse_journey
from dynamikos.core.personas import LINES, Line, Pace, Patience, Persona, Visit
from dynamikos.core.personas.model import parse_persona, persona_problems, write_persona
from dynamikos.core.plans import Way, parse_target
from dynamikos.core.plans.workloads import Arrivals, UserRounds, Users
from dynamikos.core.reports import Ledger
from dynamikos.core.verdicts import conclude
from dynamikos.core.verdicts.ending import of_words
from dynamikos.engine.http.messages import Base, Head
from dynamikos.engine.http.shaping import Line as Slow
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.testing import Scripted, answer
from tests.engine.support import perform
from tests.engine.test_workloads import after, crowd, hold, inputs

TWO = """form: 1
journey: a
name: A
rounds:
  - {step: s, name: S, think_s: 1, requests: [{request: r, address: "{{ env.base }}/one"}]}
  - {step: t, name: T, think_s: 1, requests: [{request: r, address: "{{ env.base }}/two"}]}
"""


def persona(**more: Any) -> Persona:
    return Persona(form=1, persona="p", **more)


def made(load: Any, *profile: Any, who: Persona | None, text: str = TWO, **more: Any) -> FrozenRun:
    one = crowd(load, *profile)
    frozen = inputs(one, journeys=[parse_journey(text)], **more)
    if who is None:
        return frozen
    crowds = tuple(
        replace(each, rows=(replace(each.rows[0], persona="p"),)) for each in frozen.crowds
    )
    return replace(frozen, crowds=crowds, personas={"p": who})


def ledger_of(frozen: FrozenRun, sink: Any) -> Ledger:
    found = Ledger(every_series(frozen))
    for message in sink.messages:
        found.add(message)
    return found


class Manners(TestCase):
    def test_text_form_and_what_is_wrong(self) -> None:
        who = persona(
            name="Phone on a train",
            client="phone",
            headers=(("X-App", "1"),),
            connections=2,
            pace=Pace(factor=1.5, spread=0.3),
            patience=Patience(seconds=8, spread=0.5, then="reload", reloads=2),
            line=Line(line="field radio", jitter_ms=5),
            visit=Visit(visit="return", away_s=60, cookies=(("a", "b"),)),
        )
        self.assertEqual(parse_persona(write_persona(who)), who)
        self.assertEqual(list(persona_problems(who)), [])
        wrong = persona(client="toaster", headers=(("bad name", "x"),), line=Line(line="string"))
        self.assertEqual(len(list(persona_problems(wrong))), 3)
        self.assertEqual(len(list(persona_problems(persona(line=Line(down_kbit_s=1))))), 1)

    def test_think_times_times_the_users_own_factor(self) -> None:
        for pace, low, high in ((Pace(factor=3), 3.0, 3.0), (Pace(factor=2, spread=0.5), 1.4, 2.9)):
            frozen = made(
                Users(),
                hold(200, 60),
                who=persona(pace=pace),
                text=TWO.replace("think_s: 1", "think_s: 5"),
            )
            _, sink, _ = perform(frozen, after(0.0))
            rounds = sum(ledger_of(frozen, sink).rounds)
            self.assertTrue(
                200 * 60 / 10 / high * 0.9 <= rounds <= 200 * 60 / 10 / low * 1.1, rounds
            )

    def test_who_is_out_of_patience_leaves_and_is_no_failure(self) -> None:
        def server(data: bytes) -> Scripted:
            return Scripted(answer(b"fine"), 9.0 if b"/two" in data else 0.1)

        frozen = made(
            Arrivals(ceiling=50), hold(1, 20), who=persona(patience=Patience(seconds=2)), grace_s=20
        )
        ended, sink, _ = perform(frozen, server)
        found = ledger_of(frozen, sink)
        self.assertEqual(
            (ended, found.left, found.abandoned, found.failed), ("finished", 20, 20, 0)
        )
        self.assertEqual((found.rounds, found.sent, found.answered), ([0, 0], 40, 20))
        self.assertEqual((found.all_of("step", "t").left, found.all_of("step", "s").left), (20, 0))
        self.assertEqual(found.all_of("round").left, 20)
        self.assertEqual(found.sent, found.answered + found.failed + found.abandoned)
        outcome = conclude(frozen, found, found, ending=of_words(ended), in_flight=0, peak_users=3)
        self.assertEqual((outcome.left, outcome.rounds_failed), (20, 0))

    def test_who_reloads_begins_the_step_anew_and_then_leaves(self) -> None:
        asked: list[bytes] = []

        def server(data: bytes) -> Scripted:
            asked.append(data)
            slow = (
                b"/two" in data and sum(b"/two" in each for each in asked) % 3
            )  # the third try is answered
            return Scripted(answer(b"fine"), 9.0 if slow else 0.1)

        who = persona(patience=Patience(seconds=2, then="reload", reloads=2))
        frozen = made(UserRounds(users=1, rounds=3), hold(1, 60), who=who)
        _, sink, _ = perform(frozen, server)
        found = ledger_of(frozen, sink)
        self.assertEqual(
            (found.left, found.reloaded, found.abandoned, found.rounds), (0, 6, 6, [3, 0])
        )
        never = made(UserRounds(users=1, rounds=3), hold(1, 60), who=who)
        _, sink, _ = perform(never, lambda data: Scripted(answer(b""), 9.0))
        found = ledger_of(never, sink)
        self.assertEqual((found.left, found.reloaded, found.abandoned), (1, 2, 3))

    def test_patience_follows_its_distribution(self) -> None:
        frozen = made(
            Arrivals(ceiling=500), hold(20, 20), grace_s=60,
            who=persona(patience=Patience(seconds=3, spread=0.5)),
            text=TWO.replace("think_s: 1", "think_s: 0"),
        )  # fmt: skip
        _, sink, _ = perform(frozen, after(3.0))  # the median: half of them leave at the first step
        found = ledger_of(frozen, sink)
        share = found.all_of("step", "s").left / 400
        self.assertAlmostEqual(share, 0.5, delta=0.08)  # three standard errors

    def test_at_once_and_a_placed_user_who_left_is_replaced(self) -> None:
        text = TWO.replace("rounds:\n", "rounds:\n").replace(
            '{step: s, name: S, think_s: 1, requests: [{request: r, address: "{{ env.base '
            '}}/one"}]}',
            '{step: s, name: S, at_once: true, requests: [{request: q, address: "{{ env.base '
            '}}/q"},'
            ' {request: r, address: "{{ env.base }}/one"}]}',
        )
        frozen = made(Users(), hold(2, 29.5), who=persona(patience=Patience(seconds=2)), text=text)

        def server(data: bytes) -> Scripted:
            return Scripted(answer(b""), 9.0 if b"/one" in data else 0.1)

        _, sink, _ = perform(frozen, server)
        found = ledger_of(frozen, sink)
        self.assertEqual(
            found.left, 2 * 10
        )  # two seconds of patience, and one until the next comes
        self.assertEqual((found.all_of("request", "s").passed.n, found.failed), (20, 0))

    def test_first_visits_are_new_users_and_clients_say_who_they_are(self) -> None:
        who = persona(
            visit=Visit(visit="first"), client="phone", headers=(("Accept-Language", "fi"),)
        )
        text = TWO.replace(
            "rounds:\n",
            "opening:\n  - {step: o, name: O, requests: [{request: r, address: "
            '"{{ env.base }}/open"}]}\nrounds:\n',
        )
        frozen = made(UserRounds(users=2, rounds=3), hold(1, 60), who=who, text=text)
        _, _, network = perform(frozen, after(0.1))
        opened = [each for each in network.requests if b"/open" in each]
        self.assertEqual((len(opened), len(network.requests)), (6, 18))
        self.assertIn(b"Mobile", opened[0])
        self.assertIn(b"Accept-Language: fi\r\n", opened[0])
        self.assertEqual(opened[0].count(b"Accept-Language"), 1)


BODY = b"x" * 200_000


class Lines(TestCase):
    """Against a real server on loopback, timed by the server's own socket as well, on the loop that
    runs have.
    """

    def _server(self, secure: ssl.SSLContext | None) -> tuple[int, list[float]]:
        """(its port, how long its blocking socket took each answer in)."""
        sent: list[float] = []
        bound = socket.socket()
        bound.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 8192)
        bound.bind(("127.0.0.1", 0))
        bound.listen()

        def serve() -> None:
            link, _ = bound.accept()
            if secure is not None:
                link = secure.wrap_socket(link, server_side=True)
            with link, bound:
                while link.recv(10_000):
                    begun = time.perf_counter()
                    link.sendall(
                        b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n" % len(BODY) + BODY
                    )
                    sent.append(time.perf_counter() - begun)

        thread = threading.Thread(target=serve, daemon=True)
        thread.start()
        self.addCleanup(thread.join, 5)
        return bound.getsockname()[1], sent

    async def _download(self, *, tls: bool) -> tuple[list[float], list[float], Any]:
        secure = None
        if tls:
            authority = trustme.CA()
            secure = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            authority.issue_cert("127.0.0.1").configure_cert(secure)
        port, sent = self._server(secure)
        scheme = "https" if tls else "http"
        network = RealNetwork(
            [parse_target(f"{scheme}://127.0.0.1:{port}")], way=Way(trust="anything")
        )
        down, up, latency, _ = LINES["field radio"]

        line = Slow(down * 125, up * 125, latency / 1000, 0.0, random.Random(1))
        link = await network.open((scheme, "127.0.0.1", port), {}, line)
        took = []
        for _ in range(2):
            took.append(await self._one(link, port))
        link.close()
        await network.aclose()
        return took, sent, link.connect_parts_us

    async def _one(self, link: Any, port: int) -> float:
        over = asyncio.get_running_loop().create_future()

        class Taker:
            def arrived(self, reply: Any, link: Any) -> None:
                over.set_result(reply)

            def lost(self, failure: Any, link: Any) -> None:
                over.set_exception(failure)

        begun = time.perf_counter()
        link.send(Head(Base("GET", "/", f"127.0.0.1:{port}")), b"", Taker(), "", "", 1, True, begun)
        reply = await over
        self.assertEqual(len(reply.body), len(BODY))
        return float(reply.last_at - begun)

    def test_a_download_takes_what_arithmetic_says(self) -> None:
        wanted = 0.150 + len(BODY) / (1_600 * 125)  # a round trip, and 200 kB at 1,600 kbit/s
        for tls in (False, True):
            with self.subTest(tls=tls):
                # a starved machine adds to a time, and takes nothing away
                for _ in range(20):
                    took, sent, parts = uvloop.run(self._download(tls=tls))
                    if max(took) <= 1.05 * wanted and parts[1] <= 165_000:
                        break
                for each in took:
                    self.assertAlmostEqual(each / wanted, 1.0, delta=0.05)
                # the server's socket takes it in no faster, but for what lies in buffers: with TLS
                # half of it
                self.assertGreater(statistics.mean(sent), (0.3 if tls else 0.55) * wanted)
                self.assertAlmostEqual(parts[1] / 150_000, 1.0, delta=0.1)
                if tls:
                    self.assertGreater(parts[2], 150_000)
