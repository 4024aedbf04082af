"""A token that is renewed by each request that sends it: recorded once, performed for a hundred
rounds against a server that accepts the newest only.
"""

import json
from random import Random
from unittest import TestCase

from msgspec.structs import replace

from dynamikos.core.correlation import accept, find_strands
from dynamikos.core.correlation.doing import Replay, doubts_on
from dynamikos.core.exchanges import Answer, Exchange, Recording, Sent
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.journeys import Journey
from dynamikos.core.journeys.from_recording import journey_from
from dynamikos.core.plans import Plan, parse_target
from dynamikos.core.profiles import Stretch
from dynamikos.engine.testing import Scripted, answer, frozen_of_one
from tests.engine.support import BASE, perform, totals

AGREED = parse_target(BASE)
JSON = (("Content-Type", "application/json"),)


class Server:
    """Signs in, renews both tokens at once, refuses whatever is not the newest. `beside`: with an
    access token beside the one that is renewed.
    """

    def __init__(self, seed: int, *, beside: bool = True) -> None:
        self._draw, self._beside = Random(seed), beside
        self.access = self.refresh = ""
        self.renewed = self.refused = 0

    def issued(self) -> dict[str, str]:
        self.access, self.refresh = (f"{self._draw.getrandbits(96):024x}" for _ in range(2))
        given = {"refresh_token": self.refresh}
        return {**given, "access_token": self.access} if self._beside else given

    def answered(self, target: str, proof: str, body: bytes) -> tuple[int, dict[str, object]]:
        if target == "/login":
            return 200, {**self.issued()}
        given = json.loads(body or b"{}")
        if target == "/refresh" and given.get("refresh_token") == self.refresh:
            self.renewed += 1
            return 200, {**self.issued()}
        if target == "/items" and (not self._beside or proof == f"Bearer {self.access}"):
            return 200, {"items": []}
        self.refused += 1
        return 401, {"error": "not the newest"}

    def scripted(self, data: bytes) -> Scripted:
        head, _, body = data.partition(b"\r\n\r\n")
        lines = head.decode().split("\r\n")
        fields = dict(line.split(": ", 1) for line in lines[1:])
        status, told = self.answered(lines[0].split(" ")[1], fields.get("Authorization", ""), body)
        words = {200: "200 OK", 401: "401 Unauthorized"}[status]
        return Scripted(answer(json.dumps(told).encode(), words), 0.05)


def recorded(seed: int, *, beside: bool) -> list[Exchange]:
    """A visit: signing in, then looking and renewing twice."""
    server, made = Server(seed, beside=beside), list[Exchange]()

    def call(method: str, target: str, given: dict[str, str] | None = None) -> None:
        body = json.dumps(given).encode() if given is not None else b""
        headers = [("Content-Type", "application/json")] * (given is not None)
        if beside and server.access and target == "/items":
            headers.append(("Authorization", f"Bearer {server.access}"))
        proof = dict(headers).get("Authorization", "")
        status, told = server.answered(target, proof, body)
        back = json.dumps(told).encode()
        made.append(
            Exchange(
                sent=Sent(method=method, url=BASE + target, headers=tuple(headers), body=body),
                answer=Answer(status=status, headers=JSON, body=back, size_bytes=len(back)),
                started_us=1_790_000_000_000_000 + len(made) * 3_000_000,
                entry=len(made),
            )
        )

    call("POST", "/login", {"user": f"visitor{seed}", "password": f"pass word {seed}"})
    for _ in range(2):
        call("GET", "/items")
        call("POST", "/refresh", {"refresh_token": server.refresh})
    call("GET", "/items")
    return made


def correlated(*, beside: bool = True) -> tuple[Journey, list[Exchange]]:
    tapes = [recorded(seed, beside=beside) for seed in (1, 2)]
    journey = journey_from(Recording(exchanges=tuple(tapes[0]), pages={}), "J", [BASE])
    strands = find_strands(tapes)
    taken = [each for each in strands if each.kind == "issued" and each.proven]
    made = accept(journey, taken, tapes[0])
    assert made.left == (), made.left
    return made.journey, tapes[0]


class Renewed(TestCase):
    def run_of(self, journey: Journey) -> FrozenRun:
        quick = journey.mapped(lambda step: replace(step, think_s=1.0))
        plan = Plan(
            form=2,
            plan="p",
            name="P",
            journey="j",
            environment="e",
            profile=(
                Stretch(stretch="climb", to=1, seconds=0),
                Stretch(stretch="hold", seconds=1000),
            ),
        )
        return frozen_of_one(plan, quick, seed=1, values={"env.base": BASE}, agreed=(AGREED,))

    def test_a_hundred_rounds_send_the_newest(self) -> None:
        for beside in (True, False):
            with self.subTest(beside=beside):
                journey, _ = correlated(beside=beside)
                made, server = self.run_of(journey), Server(9, beside=beside)
                _, sink, _ = perform(made, server.scripted)
                passed, failed = totals(made, sink).rounds
                self.assertGreater(passed, 100)
                self.assertEqual(failed, 0)
                self.assertGreater(server.renewed, 200)
                self.assertEqual(server.refused, 0)

    def test_one_name_for_all_links(self) -> None:
        """Also for the last answer, whose refresh token the recording did not send any more."""
        journey, _ = correlated()
        names = [each.name for _, r in journey.requests() for each in r.captures]
        self.assertEqual(sorted(names), ["authorization"] * 3 + ["refresh_token"] * 3)

    def test_records_that_others_come_from_are_none(self) -> None:
        """A thread's id, and that of the answer to it, live on beside each other."""

        def spoken(seed: int) -> list[Exchange]:
            draw, made = Random(seed), list[Exchange]()

            def call(method: str, target: str, given: dict[str, str] | None) -> str:
                number = f"{draw.getrandbits(64):016x}"
                body = json.dumps(given).encode() if given else b""
                back = json.dumps({"id": number}).encode()
                made.append(
                    Exchange(
                        sent=Sent(method=method, url=BASE + target, headers=JSON, body=body),
                        answer=Answer(status=200, headers=JSON, body=back, size_bytes=len(back)),
                        started_us=1_790_000_000_000_000 + len(made) * 3_000_000,
                        entry=len(made),
                    )
                )
                return number

            thread = call("POST", "/threads", {"title": f"thread {seed}"})
            first = call("POST", "/answers", {"parent": thread})
            call("POST", "/answers", {"parent": first})
            call("POST", "/answers", {"parent": thread})
            return made

        tapes = [spoken(seed) for seed in (1, 2)]
        journey = journey_from(Recording(exchanges=tuple(tapes[0]), pages={}), "J", [BASE])
        taken = [each for each in find_strands(tapes) if each.kind == "issued" and each.proven]
        made = accept(journey, taken, tapes[0]).journey
        bodies = [r.body.json for _, r in made.requests() if r.body is not None]
        self.assertEqual(bodies[1], bodies[3])
        self.assertNotEqual(bodies[1], bodies[2])

    def test_no_round_is_doubted_for_the_token_it_begins_with(self) -> None:
        """What a round captured last is what the next begins with."""
        _, tape = correlated()
        server, replays = Server(5), list[Replay]()

        def captured(told: dict[str, object]) -> dict[str, str]:
            return {
                name: str(told[name]) for name in ("access_token", "refresh_token") if name in told
            }

        for turn in (0, 1, 2, 3):
            calls = [0] if turn == 0 else range(1, len(tape))
            for at in calls:
                proof, body = f"Bearer {server.access}", {"refresh_token": server.refresh}
                sent = tape[at].sent
                if sent.url.endswith("/refresh"):
                    sent = replace(sent, body=json.dumps(body).encode())
                if sent.url.endswith("/items"):
                    sent = replace(sent, headers=(("Authorization", proof),))
                status, told = server.answered(sent.url.removeprefix(BASE), proof, sent.body)
                back = Answer(status=status, headers=JSON, body=json.dumps(told).encode())
                replays.append(
                    Replay(
                        at=f"s/r{at}",
                        round=turn,
                        recorded=at,
                        exchange=replace(tape[at], sent=sent, answer=back),
                        captured=captured(told),
                    )
                )
        self.assertEqual(server.refused, 0)
        self.assertEqual([each.words for each in doubts_on(replays, tape)], [])

    def test_a_form_before_the_chain_is_none_of_it(self) -> None:
        """The key of a form that answers with the page it stands on, then an order whose pages
        each answer with the next key: what the first form answers need not be taken.
        """

        def ordered(seed: int) -> list[Exchange]:
            draw, made = Random(seed), list[Exchange]()

            def call(target: str, key: str = "", *, last: bool = False) -> str:
                given = f"{draw.getrandbits(96):024x}"
                page = "<p>thanks</p>" if last else f'<input name="form_key" value="{given}">'
                form = (("Content-Type", "application/x-www-form-urlencoded"),) if key else ()
                made.append(
                    Exchange(
                        sent=Sent(
                            method="POST" if key else "GET",
                            url=BASE + target,
                            headers=form,
                            body=f"form_key={key}".encode() if key else b"",
                        ),
                        answer=Answer(
                            status=200,
                            headers=(("Content-Type", "text/html"),),
                            body=page.encode(),
                            size_bytes=len(page),
                        ),
                        started_us=1_790_000_000_000_000 + len(made) * 3_000_000,
                        entry=len(made),
                    )
                )
                return given

            call("/basket/add", call("/lamp"))
            key = call("/order")
            for target in ("/order", "/address"):
                key = call(target, key)
            call("/done", key, last=True)
            return made

        tapes = [ordered(seed) for seed in (1, 2)]
        journey = journey_from(Recording(exchanges=tuple(tapes[0]), pages={}), "J", [BASE])
        taken = [each for each in find_strands(tapes) if each.kind == "issued" and each.proven]
        made = accept(journey, taken, tapes[0]).journey
        captures = [len(request.captures) for _, request in made.requests()]
        self.assertEqual(captures, [1, 0, 1, 1, 1, 0])
