"""What came from a stream, a socket or a host that is left out is not sent again in silence."""

from unittest import TestCase

from dynamikos.core.correlation import Strand, find_strands
from dynamikos.core.correlation.accept import maker_for
from dynamikos.core.correlation.doing import Doubt, Replay, doubts_on
from dynamikos.core.exchanges import Recording
from dynamikos.core.journeys.from_recording import journey_from
from tests.core.correlation.recordings import Tape

BASE, OTHER = "http://desk.example", "http://counts.example"
STREAM = {"Content-Type": "text/event-stream"}


def visit(seed: int, *, how: str) -> Tape:
    """A ticket is told by `how`, and confirmed; a note is typed besides."""
    t = Tape(BASE, seed)
    ticket = t.hex(16)
    t.call("GET", "/", page="<form><input name=note></form>")
    if how == "stream":
        t.call("GET", "/events", headers=STREAM, gives={"ticket": ticket})
        answer = t.exchanges[-1].answer
        assert answer is not None
        back = tuple(pair for pair in answer.headers if pair[1] != "application/json")
        _changed(t, headers=back)
    elif how == "socket":
        t.call("GET", "/socket", sent={"Upgrade": "websocket"}, status=101)
    elif how == "other":
        t.call("GET", f"{OTHER}/ticket", gives={"ticket": ticket})
    elif how == "lost":
        t.call("GET", "/ticket", gives={"ticket": ticket})
        _changed(t, body=b"")
    elif how == "page":
        t.call("GET", "/ticket", gives={"ticket": ticket})
    note = ("ten past", "noon")[seed % 2]
    t.call("POST", "/confirm", form={"ticket": ticket, "note": note}, page="<p>kept</p>")
    return t


def _changed(t: Tape, **changes: object) -> None:
    from msgspec.structs import replace

    last = t.exchanges[-1]
    t.exchanges[-1] = replace(last, answer=replace(last.answer, **changes))  # type: ignore[type-var, arg-type]


class Found(TestCase):
    def ticket(self, how: str, seeds: tuple[int, ...] = (1, 2)) -> Strand:
        found = find_strands([visit(seed, how=how).exchanges for seed in seeds], origins=[BASE])
        self.assertEqual([e.doubt for e in found if e.name == "note"], [""])  # a person's words
        return next(each for each in found if each.name == "ticket")

    def test_what_is_known_to_stand_there_is_the_servers(self) -> None:
        for how, said in (
            ("stream", "stands in the stream of server-sent events of entry 1 (GET /events)"),
            ("other", "stands in the answer of counts.example of entry 1 (GET /ticket), a host"),
        ):
            for seeds in ((1, 2), (1,)):
                with self.subTest(how=how, seeds=seeds):
                    strand = self.ticket(how, seeds)
                    self.assertEqual((strand.kind, strand.proven), ("issued", False))
                    self.assertIn(said, strand.doubt)

    def test_what_may_have_come_from_there(self) -> None:
        for how, said in (
            ("socket", "may come from the WebSocket of entry 1 (GET /socket)"),
            ("lost", "may come from the answer of entry 1 (GET /ticket), whose body"),
        ):
            with self.subTest(how=how):
                self.assertIn(said, self.ticket(how).doubt)

    def test_silent_where_an_answer_issues_it_or_nothing_was_left_out(self) -> None:
        for how in ("page", "nowhere"):
            with self.subTest(how=how):
                self.assertEqual(self.ticket(how).doubt, "")

    def test_an_id_of_a_script_is_no_counters(self) -> None:
        """A host that counts visitors, without its bodies, issues no request ids; a socket may."""
        for how, is_doubted in ((f"{OTHER}/count", False), ("/socket", True)):
            tapes = []
            for seed in (1, 2):
                t = Tape(BASE, seed)
                t.call("GET", "/", page="<p>welcome</p>")
                sent = {"Upgrade": "websocket"} if is_doubted else {}
                t.call("GET", how, sent=sent, status=101 if is_doubted else 200, gives={})
                _changed(t, body=b"")
                t.call("POST", "/do", form={"request": t.uuid()}, page="ok")
                tapes.append(t)
            found = find_strands([t.exchanges for t in tapes], origins=[BASE])
            self.assertEqual([bool(e.doubt) for e in found if e.name == "request"], [is_doubted])

    def test_a_word_that_another_host_says_too_is_no_secret(self) -> None:
        t = Tape(BASE, 1)
        t.call("GET", "/", page="<p>welcome</p>")
        t.call("GET", f"{OTHER}/count", gives={"stage": "production"})
        t.call("POST", "/do", form={"stage": "production"}, page="ok")
        found = find_strands([t.exchanges], origins=[BASE])
        self.assertEqual(
            [(e.kind, e.doubt) for e in found if e.name == "stage"], [("constant", "")]
        )

    def test_words_in_the_stream_are_taken_for_no_origin(self) -> None:
        """What a person typed is told to all by a stream, and typed again."""
        tapes = []
        for seed in (1, 2):
            t = Tape(BASE, seed)
            t.call("GET", "/", page="<form><input name=text></form>")
            t.call("GET", "/events", headers=STREAM)
            text = ("Copper lamp", "Telescope")[seed - 1]
            _changed(t, body=f'data: {{"text": "{text}"}}\n\n'.encode())
            t.call("POST", "/say", form={"text": text}, page="ok")
            tapes.append(t)
        found = find_strands([t.exchanges for t in tapes], origins=[BASE])
        self.assertEqual([e.doubt for e in found], [""] * len(found))


class BeyondAScript(TestCase):
    """Signatures of devices, CAPTCHAs and codes are named, and no random text is put there."""

    def found(self, **fields: str) -> list[Strand]:
        tapes = []
        for seed in (1, 2):
            t = Tape(BASE, seed)
            t.call("GET", "/", page="<p>welcome</p>")
            drawn = {
                name: t.number(100_000, 999_999) if value == "code" else t.hex(40)
                for name, value in fields.items()
            }
            t.call("POST", "/sign-in", body=drawn, gives={"ok": True})
            tapes.append(t)
        return find_strands([t.exchanges for t in tapes], origins=[BASE])

    def test_each_is_named_with_what_can_be_done(self) -> None:
        for name, kind, what in (
            ("clientDataJSON", "text", "signed by a security key"),
            ("captchaResponse", "text", "the answer to a CAPTCHA"),
            ("otp", "code", "a one-time code: where it is computed"),
            ("two_factor_code", "code", "a one-time code"),
        ):
            with self.subTest(name):
                strand = next(e for e in self.found(**{name: kind}) if e.uses)
                self.assertIn(what, strand.doubt)
                self.assertEqual((strand.kind, maker_for(strand)), ("client-made", ""))

    def test_silent_elsewhere(self) -> None:
        found = self.found(voucher="text", amount="code", option="code", tangent="code")
        self.assertEqual([each.doubt for each in found], [""] * len(found))


class Rehearsed(TestCase):
    def doubts(self, how: str, *, again: bool) -> list[Doubt]:
        """Replayed with the recorded ticket, or with another one."""
        recorded = visit(1, how=how)
        played = visit(1 if again else 2, how=how)
        replays = [
            Replay(at=f"s/r{n}", round=1, recorded=n, exchange=each)
            for n, each in enumerate(played.exchanges)
            if each.sent.url.startswith(BASE) and "events" not in each.sent.url
        ]
        return doubts_on(replays, recorded.exchanges)

    def test_green_with_the_recorded_value_is_doubted(self) -> None:
        for how, kind in (
            ("stream", "not-replayed"),
            ("other", "not-replayed"),
            ("socket", "may-not-be-replayed"),
        ):
            with self.subTest(how=how):
                told = self.doubts(how, again=True)
                self.assertEqual([each.kind for each in told], [kind])
                self.assertEqual(told[0].is_grave, kind == "not-replayed")
                self.assertIn("is sent as it was recorded (form ticket)", told[0].words)

    def test_silent_with_a_fresh_value_or_without_a_stream(self) -> None:
        for how in ("stream", "other", "socket"):
            self.assertEqual(self.doubts(how, again=False), [], how)
        self.assertEqual(self.doubts("nowhere", again=True), [])


class Said(TestCase):
    def test_a_journey_says_what_it_leaves_out_and_over_what_it_was_recorded(self) -> None:
        from msgspec.structs import replace

        exchanges = tuple(replace(e, http="h2") for e in visit(1, how="stream").exchanges)
        recording = Recording(exchanges=exchanges, pages={})
        note = journey_from(recording, "Visit", [BASE]).note
        self.assertIn("Left out: a stream of server-sent events", note)
        self.assertIn("Recorded over HTTP/2: 3 of 3 requests. Replayed over HTTP/1.1", note)
        plain = tuple(replace(e, http="http/1.1") for e in visit(1, how="page").exchanges)
        self.assertEqual(journey_from(Recording(exchanges=plain, pages={}), "V", [BASE]).note, "")
