"""HAR in: a real recording, and everything that can be wrong with a file."""

import json
from pathlib import Path
from unittest import TestCase

from dynamikos.core.errors import ImportRefused
from dynamikos.core.exchanges import decode_body, hosts_of, read_har
from dynamikos.core.journeys import write_journey
from dynamikos.core.journeys.from_recording import journey_from

SESSION = (Path(__file__).parents[2] / "examples/evening-session.har").read_bytes()


def entry(**changes: object) -> dict:
    made = {
        "startedDateTime": "2026-11-01T10:00:00.000Z",
        "time": 5,
        "request": {"method": "GET", "url": "http://a.example/x", "headers": []},
        "response": {"status": 200, "headers": [], "content": {"size": 2, "text": "ok"}},
        "timings": {"send": 0, "wait": 3, "receive": 2, "ssl": 4, "connect": 10},
    }
    made.update(changes)
    return made


def har(*entries: dict) -> bytes:
    return json.dumps({"log": {"version": "1.2", "entries": list(entries)}}).encode()


class Session(TestCase):
    def test_steps_hosts_and_think_times(self) -> None:
        recording = read_har(SESSION)
        hosts = hosts_of(recording.exchanges)
        self.assertEqual(
            [(host.origin, host.ours) for host in hosts],
            [("http://127.0.0.1:8470", True), ("https://counter.visitors.example", False)],
        )
        journey = journey_from(
            recording, "Evening", [hosts[0].origin], {hosts[0].origin: "env.observatory"}
        )
        self.assertEqual(
            [len(journey.opening), len(journey.rounds), len(journey.closing)], [3, 5, 1]
        )
        requests = [request for _, step in journey.steps() for request in step.requests]
        self.assertEqual(len(requests), 10)
        self.assertEqual(len(requests[0].embedded), 8)
        self.assertNotIn("visitors.example", write_journey(journey))
        self.assertNotIn("cookie", write_journey(journey).lower())
        post = next(request for request in requests if request.method == "POST")
        self.assertEqual(post.body.form[0][0], "form_key")
        self.assertEqual(post.checks[0].status, 200)  # at the end of its redirect
        self.assertTrue(all(1 <= step.think_s <= 3 for step in journey.rounds[:-1]))

    def test_progress_moves_to_the_end(self) -> None:
        told: list[float] = []
        read_har(SESSION, told.append)
        self.assertEqual(told[-1], 1.0)
        self.assertEqual(told, sorted(told))


class Bad(TestCase):
    def test_says_what_and_where(self) -> None:
        good = har(entry())
        cases = (
            (b"", "empty"),
            (b"<html>", "not JSON (line 1, column 1)"),
            (good[:-20], "cut off"),
            (b"[1, 2]", "not a HAR file"),
            (b'{"log": {}}', "no entries"),
            (b'{"log": {"entries": []}}', "no entries"),
            (b"\xff\xfe{\x00", "not UTF-8"),
            (b'{"log": {"entries": 5}}', "not a HAR file"),
            (b'{\n "log": nope}', "line 2, column 10"),
            (har({"request": 5}), "None of the 1 entries"),
        )
        for data, words in cases:
            with self.subTest(words), self.assertRaises(ImportRefused) as caught:
                read_har(data)
            self.assertIn(words, str(caught.exception))

    def test_one_bad_entry_does_not_lose_the_rest(self) -> None:
        broken = entry(response={"status": 200, "content": {"text": "§§", "encoding": "base64"}})
        recording = read_har(
            har(
                entry(),
                broken,
                {},
                entry(request={"method": "GET", "url": "ftp://a.example/", "headers": []}),
            )
        )
        self.assertEqual(len(recording.exchanges), 1)
        self.assertEqual(len(recording.remarks), 3)
        self.assertIn("entry 1 left out", recording.remarks[0])

    def test_binary_bodies_and_timings(self) -> None:
        answer = {
            "status": 200,
            "headers": [],
            "content": {"size": 3, "text": "AP8Q", "encoding": "base64"},
        }
        found = read_har(
            har(entry(response=answer), entry(response={"status": 0, "_error": "net::ERR"}))
        ).exchanges
        self.assertEqual(found[0].answer.body, b"\x00\xff\x10")
        self.assertEqual(
            (found[0].timings.connect_us, found[0].timings.ssl_us, found[0].timings.total_us),
            (6000, 4000, 15_000),
        )
        self.assertEqual((found[1].answer, found[1].error), (None, "net::ERR"))


class Encodings(TestCase):
    def test_decode(self) -> None:
        import gzip
        import zlib

        import brotli
        import zstandard

        body = b"light" * 50
        raw = zlib.compressobj(wbits=-15)
        cases = {
            "gzip": gzip.compress(body),
            "deflate": zlib.compress(body),
            "br": brotli.compress(body),
            "zstd": zstandard.compress(body),
            "identity": body,
            "": body,
            "gzip, br": brotli.compress(gzip.compress(body)),
        }
        for name, data in cases.items():
            self.assertEqual(decode_body(data, name), body, name)
        self.assertEqual(decode_body(raw.compress(body) + raw.flush(), "deflate"), body)
        for name in ("gzip", "br", "zstd", "deflate", "odd"):
            with self.subTest(name), self.assertRaises(ValueError):
                decode_body(b"not it at all", name)
