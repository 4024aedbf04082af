"""Recordings with holes, odd addresses and bodies that are not what they say: the search and the
journey never break on them.
"""

import json
import random
from pathlib import Path
from typing import Any
from unittest import TestCase

from dynamikos.core.correlation import accept, find_strands, own_origins
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges import read_har, write_har
from dynamikos.core.journeys import parse_journey, write_journey
from dynamikos.core.journeys.from_recording import journey_from

EXAMPLES = Path(__file__).resolve().parents[3] / "examples"
ADDRESSES = ("/a%ZZ%", "/;;=;?a=%&=b&c", "", "//x//", "/{{ x }}?{{=1")
PLACES = ("http://[bad", "//x", "?", "", "/a b", "http://h:99999/x")
SENT = (
    ("application/json", "{"),
    ("application/json", '{"a":{"b":[null,1e400]}}'),
    ("multipart/form-data; boundary=", "--\r\n\r\n"),
    ("text/xml", "\u0000x"),
)
RECEIVED = (
    ("text/html", "<form><input name=\"a'b\" value=''><input name=form_key value='x\"]'></form>"),
    ("text/html", "<input name=form_key value='{{ x }}'>"),
    ("application/json", '{"a":' * 50),
    ("application/json", "null"),
    ("application/json", '{"%s":1}' % ("k" * 3000)),
)


def broken(file: Path, draw: random.Random) -> bytes:
    har: dict[str, Any] = json.loads(file.read_text())
    entries = har["log"]["entries"]
    for _ in range(draw.randint(3, 20)):
        entry, kind = draw.choice(entries), draw.randint(0, 7)
        request, response = entry.setdefault("request", {}), entry.setdefault("response", {})
        if kind == 0:
            entries.remove(entry)
        elif kind == 1:
            entries.append(json.loads(json.dumps(entry)))
        elif kind == 2:
            response.pop("content", None)
        elif kind == 3 and request:
            request.pop(draw.choice(sorted(request)))
        elif kind == 4:
            response.update(
                status=draw.choice((302, 201)),
                headers=[{"name": "Location", "value": draw.choice(PLACES)}],
            )
        elif kind == 5:
            request["url"] = "http://127.0.0.1:8470" + draw.choice(ADDRESSES)
        elif kind == 6:
            request["postData"] = dict(zip(("mimeType", "text"), draw.choice(SENT), strict=True))
        else:
            response["content"] = dict(
                zip(("mimeType", "text"), draw.choice(RECEIVED), strict=True)
            )
            entry["startedDateTime"] = draw.choice(("2026-01-01T00:00:00Z", "1970-01-01T00:00:00Z"))
    return json.dumps(har).encode()


class Broken(TestCase):
    def test_whatever_is_wrong_with_a_recording(self) -> None:
        searched = 0
        for seed in range(40):
            draw = random.Random(seed)
            try:
                one, other = (
                    read_har(broken(EXAMPLES / name, draw))
                    for name in ("evening-session.har", "second-evening.har")
                )
            except DynamikosError:
                continue
            with self.subTest(seed=seed):
                if seed % 3:
                    found = find_strands([one.exchanges, other.exchanges])
                else:
                    found = find_strands([one.exchanges], rehearsal=other.exchanges)
                journey = journey_from(one, "Broken", own_origins(one.exchanges))
                accepted = accept(
                    journey,
                    [each for each in found if each.proven or each.kind == "client-made"],
                    one.exchanges,
                )
                self.assertEqual(parse_journey(write_journey(accepted.journey)), accepted.journey)
                self.assertEqual(
                    len(read_har(write_har(one.exchanges)).exchanges), len(one.exchanges)
                )
                searched += 1
        self.assertGreater(searched, 30)
