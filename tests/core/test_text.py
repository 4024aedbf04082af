"""The strict YAML: JSON's scalars, positions, notes, and value → text → value."""

from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from dynamikos.core.captures import BetweenForm, Capture, CssForm, RegexForm
from dynamikos.core.checks import Check, JsonEquals
from dynamikos.core.errors import TextError
from dynamikos.core.journeys import Journey, journey_schema, parse_journey, write_journey
from dynamikos.core.journeys.kinds import Sending
from dynamikos.core.journeys.request import Body, Request
from dynamikos.core.text import read, write

TEXT = st.text(st.characters(exclude_categories=["Cs"]), max_size=30)
LEAF = (
    st.none()
    | st.booleans()
    | st.integers(-(10**20), 10**20)
    | st.floats(allow_nan=False, allow_infinity=False)
    | TEXT
)
VALUE = st.dictionaries(
    TEXT,
    st.recursive(
        LEAF,
        lambda inner: st.lists(inner, max_size=4) | st.dictionaries(TEXT, inner, max_size=4),
        max_leaves=12,
    ),
    min_size=1,
    max_size=4,
)


class Scalars(TestCase):
    def test_json_rules_only(self) -> None:
        cases = {
            "no": "no",
            "12:30": "12:30",
            "010": "010",
            "0x10": "0x10",
            "1_000": "1_000",
            "yes": "yes",
            "~": "~",
            "8": 8,
            "-0.5": -0.5,
            "1e3": 1000.0,
            "true": True,
            "null": None,
            '"8"': "8",
            "2026-01-01": "2026-01-01",
        }
        for written, expected in cases.items():
            with self.subTest(written):
                found = read(f"a: {written}").value
                self.assertEqual(found, {"a": expected})
                self.assertIs(type(found["a"]), type(expected))

    @settings(max_examples=300, deadline=None)
    @given(VALUE)
    def test_value_to_text_to_value_is_the_identity(self, value: dict) -> None:
        self.assertEqual(read(write(value)).value, value)


class Refused(TestCase):
    CASES = (
        ("a: &x 1\nb: *x", "anchors", 1),
        ("a: !!str 1", "tags", 1),
        ("a: 1\na: 2", "twice", 2),
        ("a: {{ name }}", "put quotes around it", 1),
        ("a: 1\n---\nb: 2", "one document", 2),
        ("a: [1, 2", "", 1),
        ("", "empty", 1),
        ("a:\n\t- 1", "", 2),
    )

    def test_says_what_and_where(self) -> None:
        for text, words, line in self.CASES:
            with self.subTest(text), self.assertRaises(TextError) as caught:
                read(text)
            self.assertIn(words, caught.exception.message)
            self.assertEqual(caught.exception.line, line) if line > 1 else None

    def test_depth_and_size_cost_nothing(self) -> None:
        with self.assertRaisesRegex(TextError, "deeper than"):
            read("[" * 100_000)
        with self.assertRaisesRegex(TextError, "longer than"):
            read("a: " + "x" * 5_000_001)


JOURNEY = """form: 1
journey: evening
name: Evening
# what a visitor does
opening:
  # the first thing
  - step: front
    name: Front page
    requests:
      - request: get-front
        address: "{{ env.target }}/"
        checks:
          - status: 200
"""


class JourneyText(TestCase):
    def test_comments_become_notes(self) -> None:
        journey = parse_journey(JOURNEY)
        self.assertEqual(journey.opening[0].note, "the first thing")
        self.assertEqual(journey.note, "what a visitor does")
        self.assertEqual(parse_journey(write_journey(journey)), journey)

    def test_errors_have_line_and_column(self) -> None:
        cases = (
            ("name: Front page", "nmae: Front page", "there is no key `nmae`", 8),
            ("status: 200", 'status: "20x"', "[1-5]", 13),
            ("form: 1", "form: 2", "", 1),
            ("step: front", "step: Front Page", "", 7),
            ("name: Evening", "name: 12", "put quotes around it", 3),
        )
        for old, new, words, line in cases:
            with self.subTest(new), self.assertRaises(TextError) as caught:
                parse_journey(JOURNEY.replace(old, new, 1), file="evening.yaml")
            self.assertIn(words, str(caught.exception))
            self.assertIn("evening.yaml, line", str(caught.exception))
            self.assertEqual(caught.exception.line, line, str(caught.exception))

    def test_schema_accepts_what_is_written(self) -> None:
        import json

        import jsonschema

        journey = parse_journey(JOURNEY)
        jsonschema.validate(
            read(write_journey(journey)).value, json.loads(json.dumps(journey_schema()))
        )
        with self.assertRaises(jsonschema.ValidationError):
            jsonschema.validate({"form": 1, "journey": "x"}, journey_schema())

    def test_published_schema_is_the_one_generated(self) -> None:
        import json
        from pathlib import Path

        from dynamikos.core.personas import persona_schema
        from dynamikos.core.plans import plan_schema
        from dynamikos.core.verdicts.document import run_schema

        docs = Path(__file__).parents[2] / "docs"
        self.assertEqual(
            json.loads((docs / "journey.schema.json").read_text()),
            json.loads(json.dumps(journey_schema())),
        )
        self.assertEqual(
            json.loads((docs / "plan.schema.json").read_text()),
            json.loads(json.dumps(plan_schema())),
        )
        self.assertEqual(
            json.loads((docs / "run.schema.json").read_text()), json.loads(json.dumps(run_schema()))
        )
        published = json.loads((docs / "persona.schema.json").read_text())
        self.assertEqual(published, json.loads(json.dumps(persona_schema())))


PAIRS = st.lists(st.tuples(TEXT, TEXT), max_size=3).map(tuple)
CAPTURE = st.one_of(
    st.builds(Capture, name=TEXT, json=TEXT),
    st.builds(Capture, name=TEXT, css=st.builds(CssForm, selector=TEXT, attribute=TEXT)),
    st.builds(Capture, name=TEXT, between=st.builds(BetweenForm, before=TEXT, after=TEXT)),
    st.builds(Capture, name=TEXT, header=TEXT),
    st.builds(
        Capture, name=TEXT, regex=st.builds(RegexForm, pattern=TEXT, group=st.integers(0, 9))
    ),
)
CHECK = st.one_of(
    st.builds(Check, status=st.integers(100, 599)),
    st.builds(Check, contains=TEXT),
    st.builds(Check, json=st.builds(JsonEquals, path=TEXT, equals=TEXT)),
)
BODY = (
    st.none()
    | st.builds(Body, form=PAIRS)
    | st.builds(Body, json=TEXT)
    | st.builds(Body, raw=TEXT, type=TEXT)
)
REQUEST = st.builds(
    Request,
    request=st.just("r"),
    method=st.sampled_from(["GET", "POST"]),
    address=TEXT,
    query=PAIRS,
    headers=PAIRS,
    body=BODY,
    captures=st.lists(CAPTURE, max_size=2).map(tuple),
    checks=st.lists(CHECK, max_size=2).map(tuple),
    recorded=st.none() | st.integers(0, 99),
    note=TEXT,
)


class Identity(TestCase):
    @settings(max_examples=150, deadline=None)
    @given(st.lists(REQUEST, max_size=1), TEXT, st.floats(0, 1000))
    def test_journey_to_text_to_journey(
        self, requests: list[Request], name: str, think: float
    ) -> None:
        journey = Journey(
            form=1,
            journey="j",
            name=name,
            rounds=(Sending(step="s", name=name, think_s=think, requests=tuple(requests)),),
        )
        self.assertEqual(parse_journey(write_journey(journey)), journey)
