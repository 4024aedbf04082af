"""What was recorded twice on applications that nobody here wrote: each issued value is found, and
nothing else.
"""

import json
import re
from pathlib import Path
from unittest import TestCase

from msgspec.structs import replace

from dynamikos.core.correlation import find_strands
from dynamikos.core.correlation.value_shapes import weak
from tests.core.correlation.trimmed import BASE, exchanges_of

FOLDER = Path(__file__).parent / "recorded"


class Trimmed(TestCase):
    def test_all_that_the_server_issues_and_nothing_else(self) -> None:
        files = sorted(FOLDER.glob("*.json"))
        self.assertGreaterEqual(len(files), 6)
        for path in files:
            with self.subTest(path.stem):
                document = json.loads(path.read_text())
                recordings = [exchanges_of(rows) for rows in document["recordings"]]
                proven = [
                    each
                    for each in find_strands(recordings, origins=[BASE])
                    if each.kind == "issued" and each.proven and not each.followed
                ]
                places = {
                    each.name: [f"{use.context} {use.place}" for use in each.uses]
                    for each in proven
                }
                for name, form in document["issued"].items():
                    self.assertTrue(
                        any(re.search(form, place) for every in places.values() for place in every),
                        name,
                    )
                for name, every in places.items():
                    known = any(
                        re.search(form, place)
                        for form in document["issued"].values()
                        for place in every
                    )
                    self.assertTrue(known, f"{name} is none: {every[0]}")

    def test_with_one_recording_nothing_short_is_proven(self) -> None:
        for path in sorted(FOLDER.glob("*.json")):
            with self.subTest(path.stem):
                alone = exchanges_of(json.loads(path.read_text())["recordings"][0])
                found = find_strands([alone], origins=[BASE])
                self.assertEqual(
                    [each.value for each in found if each.proven and weak(each.value)], []
                )

    def test_what_counts_is_no_id(self) -> None:
        document = json.loads((FOLDER / "office.json").read_text())
        first, second = (exchanges_of(rows) for rows in document["recordings"])
        # the second asks for the page that is as large as the number of rows by chance
        turned = [
            replace(
                each, sent=replace(each.sent, url=each.sent.url.replace("__page=1", "__page=2"))
            )
            for each in second
        ]
        self.assertNotEqual(turned, second)
        page = next(
            each
            for each in find_strands([first, turned], origins=[BASE])
            if each.values == ("1", "2")
        )
        self.assertNotEqual((page.kind, page.proven), ("issued", True))
