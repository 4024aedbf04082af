"""Bodies of recorded requests: the bytes that were sent, or what of them was lost."""

import base64
import random
from typing import Any
from unittest import TestCase

from dynamikos.core.exchanges import Recording, read_har
from dynamikos.core.exchanges.posted import posted
from dynamikos.core.journeys.from_recording import journey_from
from tests.core.test_har import entry, har

BINARY = random.Random(5).randbytes(100_000)
BOUNDARY = "----edge7"
FORM = f"multipart/form-data; boundary={BOUNDARY}"
PICTURE = b"\x89PNG\r\n\x1a\n" + BINARY[:500]
PARTS = (
    (
        f'--{BOUNDARY}\r\nContent-Disposition: form-data; name="key"\r\n\r\nk-77\r\n'
        f'--{BOUNDARY}\r\nContent-Disposition: form-data; name="picture"; filename="a.png"\r\n'
        "Content-Type: image/png\r\n\r\n"
    ).encode()
    + PICTURE
    + f"\r\n--{BOUNDARY}--\r\n".encode()
)


def request(kind: str, size: int = -1, **data: Any) -> dict[str, Any]:
    made = {"headers": [{"name": "Content-Type", "value": kind}], "bodySize": size}
    return {**made, "postData": {"mimeType": kind, **data}}


class Octets(TestCase):
    def test_a_character_a_byte(self) -> None:
        text = BINARY.decode("latin-1")
        for size in (len(BINARY), -1):
            with self.subTest(size=size):
                body, lost = posted(request("application/octet-stream", size, text=text))
                self.assertEqual((body == BINARY, lost), (True, ""))
        length = [{"name": "Content-Length", "value": str(len(BINARY))}]
        self.assertEqual(posted({"headers": length, "postData": {"text": text}})[0], BINARY)

    def test_base64(self) -> None:
        text = base64.b64encode(BINARY).decode()
        body = posted(request("image/png", text=text, encoding="base64"))[0]
        self.assertEqual(body, BINARY)

    def test_a_text_stays_one(self) -> None:
        for text in ("grüße an den Hafen", "café", '{"a": "ü"}', "plain"):
            for kind in ("text/plain; charset=utf-8", "application/json"):
                for size in (-1, len(text.encode())):
                    with self.subTest(text=text, kind=kind, size=size):
                        made = posted(request(kind, size, text=text))
                        self.assertEqual(made, (text.encode(), ""))

    def test_what_was_lost_is_named(self) -> None:
        text = BINARY.decode("utf-8", "replace")
        lost = posted(request("application/octet-stream", len(BINARY), text=text))[1]
        self.assertIn("bytes are lost", lost)
        self.assertIn("Give the body or its file", lost)
        self.assertIn(
            "had 900 bytes, the recording holds 3", posted(request("a/b", 900, text="abc"))[1]
        )
        self.assertEqual(posted({"headers": []}), (b"", ""))


class Forms(TestCase):
    def test_a_form_with_a_file_keeps_its_bytes(self) -> None:
        text = PARTS.decode("latin-1")
        body, lost = posted(request(FORM, len(PARTS), text=text))
        self.assertEqual((body == PARTS, lost), (True, ""))

    def test_a_list_of_fields_becomes_the_form_again(self) -> None:
        fields = [
            {"name": "key", "value": "k-77"},
            {
                "name": "picture",
                "fileName": "a.png",
                "contentType": "image/png",
                "value": PICTURE.decode("latin-1"),
            },
        ]
        body, lost = posted(request(FORM, params=fields))
        self.assertEqual((body == PARTS, lost), (True, ""))
        fields[1]["value"] = ""
        self.assertIn("the content of a.png is missing", posted(request(FORM, params=fields))[1])

    def test_other_fields_are_encoded(self) -> None:
        kind = "application/x-www-form-urlencoded"
        fields = [{"name": "a b", "value": "c&d"}]
        self.assertEqual(posted(request(kind, params=fields)), (b"a+b=c%26d", ""))


class Journeys(TestCase):
    def made(self, given: dict[str, Any]) -> Any:
        given = {"method": "POST", "url": "http://a.example/x", **given}
        recording: Recording = read_har(har(entry(request=given)))
        self.remarks = recording.remarks
        journey = journey_from(recording, "X", ["http://a.example"])
        return next(request for _, request in journey.requests())

    def test_bytes_are_sent_as_bytes(self) -> None:
        made = self.made(request("image/png", len(BINARY), text=BINARY.decode("latin-1")))
        self.assertEqual(base64.b64decode(made.body.base64), BINARY)
        self.assertEqual((made.body.type, made.note, list(made.problems())), ("image/png", "", []))

    def test_a_forms_parts_keep_field_and_file(self) -> None:
        made = self.made(request(FORM, len(PARTS), text=PARTS.decode("latin-1")))
        key, picture = made.body.parts
        self.assertEqual((key.name, key.value), ("key", "k-77"))
        self.assertEqual(base64.b64decode(picture.base64), PICTURE)

    def test_what_was_lost_stands_in_the_request_and_in_the_remarks(self) -> None:
        made = self.made(request("a/b", 900, text="abc"))
        self.assertIn("Its body had 900 bytes, the recording holds 3", made.note)
        self.assertIn("entry 0: its body had 900 bytes", self.remarks[0])


class Sockets(TestCase):
    def test_a_socket_is_an_exchange_with_what_it_received(self) -> None:
        messages = [
            {"type": "send", "data": "mine"},
            {"type": "receive", "data": "ticket t-1"},
            {"type": "receive", "data": "ticket t-2"},
        ]
        given = {"method": "GET", "url": "wss://a.example/live", "headers": []}
        exchange = read_har(
            har(entry(request=given, response={"status": 0}, _webSocketMessages=messages))
        ).exchanges[0]
        self.assertEqual(exchange.sent.url, "https://a.example/live")
        assert exchange.answer is not None
        self.assertEqual(exchange.answer.status, 101)
        self.assertEqual(exchange.answer.body, b"ticket t-1\nticket t-2")
        page = {"method": "GET", "url": "https://a.example/", "headers": []}
        recording = read_har(har(entry(request=page), entry(request=given)))
        journey = journey_from(recording, "X", ["https://a.example"])
        self.assertEqual(len(list(journey.requests())), 1)
        self.assertIn("Left out: a WebSocket handshake", journey.note)

    def test_the_protocol_is_read(self) -> None:
        cases = {
            "HTTP/1.1": "http/1.1", "h2": "h2", "HTTP/2": "h2", "http/2.0": "h2", "h3": "h3",
            "HTTP/3": "h3", "": "", "unknown": "", "http/1.0": "http/1.0",
        }  # fmt: skip
        for given, expected in cases.items():
            answer = {"status": 200, "headers": [], "content": {}, "httpVersion": given}
            exchange = read_har(har(entry(response=answer))).exchanges[0]
            self.assertEqual(exchange.http, expected, given)
