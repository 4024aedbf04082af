"""What an answer asks for (RFC 9110 §9.2.2, §11.6, §15.4), decided without a network."""

from unittest import TestCase

from dynamikos.core.frozen import stream
from dynamikos.core.journeys import parse_journey
from dynamikos.core.values import Maker, Values
from dynamikos.engine.failures import Failure, Reopen
from dynamikos.engine.http.protocol import Reply, ReplyReader
from dynamikos.engine.testing import answer
from dynamikos.engine.users.attempt import Again, Attempt, Fail, Redirect
from dynamikos.engine.users.compiled import compile_journey
from dynamikos.engine.users.judging import Done
from dynamikos.engine.users.kinds import item_of
from dynamikos.engine.users.user_state import UserState

HOME, OTHER = "http://sky.example", "http://other.example"


def holdings() -> UserState:
    maker = Maker(
        lambda: stream(1, "values", "", 1), lambda: 0, run_count=lambda name: "1", known={}
    )
    return UserState(1, Values({}, maker))


def attempt(own: UserState, method: str = "GET", more: str = "", body: str = "") -> Attempt:
    text = "form: 1\njourney: j\nname: J\nrounds:\n  - step: s\n    name: S\n    requests:\n"
    text += (
        f"      - {{request: r, method: {method}, address: '{HOME}/a?b=1', headers: [[X-Own, own], "
        "[Cookie, a=b],"
    )
    text += f" [Authorization, Basic eA==]]{body}{more}}}\n"
    compiled = compile_journey(parse_journey(text), {}, item_of=item_of).rounds[0].requests[0]
    made = Attempt(own)
    made.begin(compiled, compiled.build(own.values), 10.0)
    return made


def reply(status: str, headers: str = "", body: bytes = b"", last: float = 10.5) -> Reply:
    reader = ReplyReader()
    reader.begin(head_only=False, keep=True)
    made = reader.feed(answer(body, status, headers))
    assert made is not None
    made.last_at, made.bytes_out, made.bytes_in = last, 100, 50
    return made


def state(made: Attempt) -> dict[str, object]:
    """All that an attempt remembers, interpreted or as machine code."""
    names = [each for each in dir(made) if not each.startswith("__")]
    return {
        each: getattr(made, each)
        for each in names
        if not callable(getattr(Attempt, each, None))
        and not isinstance(getattr(Attempt, each, None), property)
    }


class Redirects(TestCase):
    def test_method_and_body_by_status(self) -> None:
        # status, method sent, method asked for then, whether the body goes along (RFC 9110 §15.4)
        table = [
            ("301 Moved", "GET", "GET", False),
            ("301 Moved", "POST", "GET", False),
            ("302 Found", "POST", "GET", False),
            ("302 Found", "PUT", "PUT", True),
            ("303 See Other", "PUT", "GET", False),
            ("303 See Other", "HEAD", "HEAD", False),
            ("307 Temporary", "POST", "POST", True),
            ("308 Permanent", "POST", "POST", True),
        ]
        for status, method, then, keeps in table:
            with self.subTest(status=status, method=method):
                body = ", body: {raw: hello, type: text/plain}" if method in ("POST", "PUT") else ""
                made = attempt(holdings(), method, body=body)
                move = made.next(reply(status, "Location: /there\r\n"))
                assert isinstance(move, Redirect)
                origin, head, sent = move.place
                self.assertEqual(
                    (origin, head.base.target, head.base.method),
                    (("http", "sky.example", 80), "/there", then),
                )
                self.assertEqual(bool(sent), keeps)
                self.assertEqual("Content-Type" in dict(head.pairs()), keeps)

    def test_to_another_origin_go_no_credentials(self) -> None:
        for to, private in (
            (f"{HOME}/b", True),
            ("b", True),
            (f"{OTHER}/b", False),
            ("https://sky.example/", False),
        ):
            with self.subTest(to=to):
                move = attempt(holdings()).next(reply("302 Found", f"Location: {to}\r\n"))
                assert isinstance(move, Redirect)
                head = move.place[1]
                names = dict(head.pairs())
                self.assertEqual(
                    ("Authorization" in names, head.cookie == "a=b"), (private, private)
                )
                self.assertEqual(names["X-Own"], "own")
                self.assertEqual(names["Host"], to.split("/")[2] if "//" in to else "sky.example")

    def test_addresses_are_resolved_and_bytes_add_up(self) -> None:
        made = attempt(holdings())
        for to, target in (("?c=2", "/a?c=2"), ("../x y", "/x%20y"), ("#part", "/x%20y")):
            answered = reply("302 Found", f"Location: {to}\r\n")
            move = made.next(answered)
            assert isinstance(move, Redirect)
            made.follow(move, answered)
            self.assertEqual(made.place[1].base.target, target)
        self.assertEqual(
            (made.hop, made.bytes_out, made.bytes_in, len(made.trail or ())), (3, 300, 150, 3)
        )
        self.assertEqual(made.trail, [f"{HOME}/a?b=1", f"{HOME}/a?c=2", f"{HOME}/x%20y"])

    def test_nothing_of_one_request_is_left_for_the_next(self) -> None:
        own = holdings()
        made = attempt(own, more=Asked.DIGEST)
        fresh = state(made)
        made.prove("Digest x")
        made.next(reply("401 Who"))
        made.lost(Reopen("closed-idle"))
        move = made.next(reply("302 Found", f"Location: {OTHER}/\r\n"))
        assert isinstance(move, Redirect)
        made.follow(move, reply("302 Found"))
        left = state(made)
        self.assertGreater(len([name for name in left if left[name] != fresh[name]]), 5)
        made.begin(fresh["compiled"], fresh["place"], fresh["due"])
        self.assertEqual(state(made), fresh)

    def test_they_end(self) -> None:
        made = attempt(holdings())
        for _ in range(10):
            move = made.next(reply("302 Found", "Location: /a\r\n"))
            assert isinstance(move, Redirect)
            made.follow(move, reply("302 Found"))
        move = made.next(reply("302 Found", "Location: /a\r\n"))
        assert isinstance(move, Fail)
        self.assertEqual(move.failure.kind, "redirect-loop")
        move = attempt(holdings()).next(reply("302 Found", "Location: ftp://x/\r\n"))
        assert isinstance(move, Fail)
        self.assertEqual(move.failure.kind, "address")
        self.assertIsInstance(
            attempt(holdings()).next(reply("302 Found")), Done
        )  # without a place it is an answer


class Lost(TestCase):
    def test_what_is_sent_once_more(self) -> None:
        table = [
            ("GET", True),
            ("HEAD", True),
            ("PUT", True),
            ("DELETE", True),
            ("POST", False),
            ("PATCH", False),
        ]
        for method, again in table:
            with self.subTest(method=method):
                made = attempt(holdings(), method)
                self.assertEqual(made.lost(Reopen("closed-idle")) is Again.RETRY, again)
                self.assertIsInstance(made.lost(Reopen("closed-idle")), Fail)  # once only
                self.assertIsInstance(
                    attempt(holdings(), method).lost(Failure("timeout-whole")), Fail
                )

    def test_each_redirect_may_be_tried_again(self) -> None:
        made = attempt(holdings())
        self.assertIs(made.lost(Reopen("closed-idle")), Again.RETRY)
        move = made.next(reply("302 Found", "Location: /b\r\n"))
        assert isinstance(move, Redirect)
        made.follow(move, reply("302 Found"))
        self.assertIs(made.lost(Reopen("closed-idle")), Again.RETRY)


class Asked(TestCase):
    DIGEST = ", authorization: {digest: {user: u, password: p}}"

    def test_a_proof_is_asked_for_once_and_at_home_only(self) -> None:
        made = attempt(holdings(), more=self.DIGEST)
        self.assertTrue(made.wants_proof)
        self.assertIs(made.next(reply("401 Who")), Again.PROVE)
        made.prove("Digest x")
        self.assertEqual(dict(made.place[1].pairs())["Authorization"], "Digest x")
        done = made.next(reply("401 Who"))
        assert isinstance(done, Done)
        self.assertEqual(done.kind, "status-401")

        away = attempt(holdings(), more=self.DIGEST)
        away.prove("Digest x")
        move = away.next(reply("302 Found", f"Location: {OTHER}/\r\n"))
        assert isinstance(move, Redirect)
        away.follow(move, reply("302 Found"))
        self.assertFalse(away.wants_proof)
        self.assertNotIn("Authorization", dict(away.place[1].pairs()))
        self.assertIsInstance(away.next(reply("401 Who")), Done)

    def test_without_a_proof_a_401_is_an_answer(self) -> None:
        done = attempt(holdings(), more=", checks: [{status: 401}]").next(reply("401 Who"))
        assert isinstance(done, Done)
        self.assertEqual(done.kind, "")


class Answers(TestCase):
    def test_what_they_are_worth(self) -> None:
        table = [  # captures and checks, status, body, kind, what it means
            ("", "200 OK", b"", "", "round"),
            ("", "500 Broken", b"", "status-500", "round"),
            (", checks: [{contains: hell}]", "200 OK", b"hello", "", "round"),
            (", checks: [{contains: hell}]", "404 Gone", b"hello", "status-404", "round"),
            (", checks: [{status: 404}]", "404 Gone", b"", "", "round"),
            (
                ", checks: [{contains: no, then: step}, {status: 200}]",
                "200 OK",
                b"x",
                "check-contains",
                "step",
            ),
            (", checks: [{contains: no, then: count}]", "200 OK", b"x", "", "round"),
            (
                ", checks: [{contains: n, then: step}, {contains: o, then: user}]",
                "200 OK",
                b"",
                "check-contains",
                "user",
            ),
            (
                ", captures: [{name: a, between: {before: '(', after: ')'}}]",
                "200 OK",
                b"(7)",
                "",
                "round",
            ),
            (
                ", captures: [{name: a, between: {before: '(', after: ')'}}]",
                "200 OK",
                b"7",
                "capture-a",
                "round",
            ),
            (", checks: [{time: {at_most: 499}}]", "200 OK", b"", "check-time", "round"),
            (", checks: [{time: {at_most: 501}}]", "200 OK", b"", "", "round"),
        ]
        for more, status, body, kind, then in table:
            with self.subTest(more=more, status=status):
                own = holdings()
                done = attempt(own, more=more).next(reply(status, body=body))
                assert isinstance(done, Done)
                self.assertEqual((done.kind, done.then), (kind, then))
                self.assertEqual(own.values.get("a"), "7" if body == b"(7)" else None)

    def test_a_value_that_was_replaced_is_remembered(self) -> None:
        own = holdings()
        own.values["a"] = "old"
        more = ", captures: [{name: a, between: {before: '(', after: ')'}}]"
        done = attempt(own, more=more).next(reply("200 OK", body=b"(new)"))
        assert isinstance(done, Done)
        self.assertEqual(
            (done.captured, done.replaced, own.values["a"]), ({"a": "new"}, {"a": "old"}, "new")
        )
