"""Files from outside: one odd entry poisons nothing, and exchanges have one numbering."""

import json
import os
from pathlib import Path
from tempfile import TemporaryDirectory

from dynamikos.cli.plan_files import load
from dynamikos.core.errors import DynamikosError
from dynamikos.web.journeys import actions as journeys
from dynamikos.web.recordings.actions import import_har
from dynamikos.web.recordings.queries import as_core, exchange
from tests.web.support import EXAMPLES, SESSION, PageCase


def har(*changes: dict[str, object]) -> bytes:
    """A session of as many exchanges, each with its request or response changed."""
    entries = []
    for number, change in enumerate(changes):
        made = {
            "startedDateTime": f"2026-11-20T18:00:{number:02d}.000Z",
            "time": 5,
            "request": {
                "method": "GET",
                "url": f"http://127.0.0.1:9/{number}",
                "headers": [],
                "cookies": [],
                "queryString": [],
                "httpVersion": "HTTP/1.1",
                "headersSize": -1,
                "bodySize": 0,
            },
            "response": {
                "status": 200,
                "statusText": "OK",
                "headers": [],
                "cookies": [],
                "httpVersion": "HTTP/1.1",
                "redirectURL": "",
                "headersSize": -1,
                "bodySize": 0,
                "content": {"size": 2, "mimeType": "text/plain", "text": "ok"},
            },
            "cache": {},
            "timings": {"send": 0, "wait": 5, "receive": 0},
        }
        for part in ("request", "response"):
            made[part].update(change.get(part, {}))  # type: ignore[attr-defined,call-overload]
        made.update(
            {key: value for key, value in change.items() if key not in ("request", "response")}
        )
        entries.append(made)
    return json.dumps(
        {"log": {"version": "1.2", "creator": {"name": "x", "version": "1"}, "entries": entries}}
    ).encode()


class TakingIn(PageCase):
    def test_one_odd_entry_poisons_no_page(self) -> None:
        for method in ("M-SEARCH", "G", "PROPFIND", "no method", "", "GET\r\nX: 1", "Ü"):
            with self.subTest(method):
                try:
                    made = import_har(
                        self.sample.member,
                        har({}, {"request": {"method": method}}),
                        f"m{method}.har"[:20],
                    )
                except DynamikosError:
                    continue  # refused as a whole, with a message
                from_it = self.client.post(
                    self.sample.address(f"journeys/from/{made.pk}"),
                    {"host": ["http://127.0.0.1:9"]},
                )
                self.assertIn(from_it.status_code, (200, 302, 422))
                for tail in ("journeys", "data", "load", f"data/{self.sample.data.pk}"):
                    self.assertEqual(
                        self.client.get(self.sample.address(tail)).status_code, 200, tail
                    )

    def test_figures_no_server_ever_gave_are_a_message(self) -> None:
        cases = (
            {"response": {"status": 10**30}},
            {"response": {"status": -1}},
            {"time": 1e308, "timings": {"send": 0, "wait": 1e308, "receive": 0}},
            {"startedDateTime": "9999999-01-01"},
            {"response": {"content": {"size": 10**30, "mimeType": "a", "text": "x"}}},
        )
        for change in cases:
            with self.subTest(change):
                made = import_har(self.sample.member, har({}, change), "odd.har")
                kept = as_core(made).exchanges
                self.assertGreaterEqual(len(kept), 1)
        nested = b'{"log": {"entries": ' + b"[" * 50_000 + b"]" * 50_000 + b"}}"
        with self.assertRaisesRegex(DynamikosError, "nested|entries|JSON"):
            import_har(self.sample.member, nested, "deep.har")

    def test_entries_have_one_numbering_whatever_was_left_out(self) -> None:
        log = json.loads(SESSION)
        picture = json.loads(har({"request": {"url": "data:image/gif;base64,R0lG"}}))["log"][
            "entries"
        ][0]
        log["log"]["entries"][0:0] = [picture] * 3
        made = import_har(self.sample.member, json.dumps(log).encode(), "with-pictures.har")
        kept = as_core(made).exchanges
        self.assertEqual([each.entry for each in kept], list(range(len(kept))))
        plain = as_core(self.sample.recording).exchanges
        self.assertEqual([each.sent.url for each in kept], [each.sent.url for each in plain])
        for number in (0, 5, len(kept) - 1):
            found = exchange(made.pk, number)
            assert found is not None
            self.assertEqual(found.sent.url, plain[number].sent.url)

    def test_a_pipe_is_no_data_file_and_a_body_is_a_file_beside_the_plan(self) -> None:
        import shutil

        with TemporaryDirectory() as name:
            folder = Path(name) / "examples"
            shutil.copytree(EXAMPLES, folder)
            (folder / "large.bin").write_bytes(b"x" * 3_000_000)
            journey = folder / "journeys/odd.yaml"
            text = journey.read_text().replace(
                '/ping"}', '/ping", method: POST, body: {file: large.bin}}'
            )
            journey.write_text(text)
            found = load(folder / "odd.plan.yaml")
            self.assertEqual(
                found.journeys[found.plan.journey].body_files(),
                [str((folder / "large.bin").resolve())],
            )
            for wrong, words in (("../secret", "leads out of"), ("none.bin", "can't be read")):
                journey.write_text(text.replace("large.bin", wrong))
                with self.assertRaisesRegex(DynamikosError, words):
                    load(folder / "odd.plan.yaml")
            journey.write_text(text)
            os.remove(folder / "data/observers.csv")
            os.mkfifo(folder / "data/observers.csv")
            with self.assertRaisesRegex(DynamikosError, "is not a file"):
                load(folder / "evening.plan.yaml")

    def test_a_body_from_a_file_is_not_sent_from_a_project(self) -> None:
        from dynamikos.core.journeys import parse_journey

        text = (
            "form: 1\njourney: files\nname: Files\nrounds:\n  - step: a\n    name: A\n    "
            "requests:\n"
            '      - {request: post-a, method: POST, address: "{{ env.observatory }}/x", body: '
            "{file: /etc/passwd}}\n"
        )
        made = journeys.create(self.sample.member, parse_journey(text))
        page = self.client.get(self.sample.address(f"journeys/{made.pk}?at=a/post-a"))
        self.assertContains(page, "1 problem")
        answer = self.client.post(self.sample.address(f"journeys/{made.pk}/rehearse"))
        self.assertContains(answer, "plans in a repository", status_code=422)
