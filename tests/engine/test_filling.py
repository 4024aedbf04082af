"""What fills a hole is encoded for the place it stands in, after it was computed."""

import json
from hashlib import sha256
from unittest import TestCase

from dynamikos.core.errors import TemplateError
from dynamikos.engine.users.filling import filler, in_header, json_filler

TITLE = 'a "quoted"\\ title\n'
VALUES = {"title": TITLE, "n": "4", "list": '["p", "q"]'}


class Json(TestCase):
    CASES = (
        ('{"title": "{{ title }}"}', {"title": TITLE}),
        ('{"title": "{{ title }}", "n": {{ n }}}', {"title": TITLE, "n": 4}),
        ('{"sum": "{{ title | sha256 }}"}', {"sum": sha256(TITLE.encode()).hexdigest()}),
        ('{"t": "\\"{{ title | upper }}"}', {"t": '"' + TITLE.upper()}),
        ('{"list": {{ list }}}', {"list": ["p", "q"]}),
        (
            '{"list": {{ list | from_json | to_json }}, "n": "{{ n }}"}',
            {"list": ["p", "q"], "n": "4"},
        ),
        ('{"at": "{{ env.at }}"}', {"at": 'c:\\"x"'}),
        # JSON written into a string of JSON
        ('{"inner": "{\\"t\\": \\"{{ title | json }}\\"}"}', {"inner": json.dumps({"t": TITLE})}),
    )

    def test_what_is_sent_is_json_whatever_the_values_are(self) -> None:
        for source, expected in self.CASES:
            with self.subTest(source):
                filled = json_filler(source, {"env.at": 'c:\\"x"'})(VALUES)
                self.assertEqual(json.loads(filled), expected)

    def test_what_is_missing_is_named(self) -> None:
        for source in ('{"a": "{{ nope }}"}', '{"a": "{{ nope | upper }}"}'):
            with self.subTest(source), self.assertRaisesRegex(TemplateError, "nope has no value"):
                json_filler(source, {})(VALUES)


class Headers(TestCase):
    def test_no_line_break_gets_into_one_by_a_value_or_by_computing(self) -> None:
        for source in ("{{ title }}", "x {{ title | lower }}", "{{ 'YQ0KYg' | unbase64 }}"):
            with self.subTest(source), self.assertRaisesRegex(TemplateError, "line break"):
                filler(source, in_header)(VALUES)
        self.assertEqual(filler("{{ n + 1 }}", in_header)(VALUES), "5")
