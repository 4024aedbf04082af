"""What a step can do: read by its keys, walked over once, and known to whoever performs and
shows it.
"""

from unittest import TestCase

import msgspec
from django.http import QueryDict
from msgspec.structs import replace

from dynamikos.core.captures import KINDS as CAPTURES
from dynamikos.core.captures import BetweenForm, Capture, CssForm, RegexForm, compile_capture
from dynamikos.core.captures import described as expression
from dynamikos.core.checks import KINDS as CHECKS
from dynamikos.core.checks import (
    Bounds,
    Check,
    Comparing,
    CssText,
    HeaderText,
    JsonEquals,
    compile_check,
    described,
)
from dynamikos.core.errors import TextError
from dynamikos.core.forms import Unfit
from dynamikos.core.frozen import FrozenRun, canonical
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.journeys import Journey, Request, Step, parse_journey, write_journey
from dynamikos.core.journeys.kinds import KINDS, Sending, new_step
from dynamikos.core.journeys.text import JOURNEY
from dynamikos.core.plans import Plan
from dynamikos.core.profiles import Stretch
from dynamikos.core.text.template_walk import texts_in
from dynamikos.engine.testing import frozen_of_one
from dynamikos.engine.users.kinds import DOING
from dynamikos.web.journeys.forms.captures import BOXES as CAPTURE_BOXES
from dynamikos.web.journeys.forms.captures import capture_rows, captures_from
from dynamikos.web.journeys.forms.checks import BOXES, check_rows, checks_from
from dynamikos.web.journeys.forms.kinds import FIELDS

HEAD = "form: 1\njourney: j\nname: J\nrounds:\n"
ALL = (
    HEAD
    + """
  - step: ask
    name: Ask
    requests:
      - request: r
        method: POST
        address: http://x/{{ a }}
        query: [["{{ b }}", "{{ c }}"]]
        headers: [[X-One, "{{ d }}"]]
        body: {form: [["{{ e }}", "{{ f }}"]]}
        authorization: {basic: {user: "{{ g }}", password: "{{ h }}"}}
        embedded: ["http://x/{{ i }}.css"]
        captures: [{name: one, json: $.one}]
        checks:
          - {contains: "{{ j }}"}
          - {json: {path: $.a, equals: "{{ k }}"}}
          - {css: {selector: p, matches: "{{ l }}"}}
          - {value: {left: "{{ m }}", right: "{{ n }}"}}
      - {request: s, method: POST, address: http://x/, body: {parts: [{name: p, value: "{{ o }}"}]}}
      - {request: t, method: POST, address: http://x/, body: {json: '{"a": {{ p }}}'}}
      - {request: u, method: POST, address: http://x/, body: {raw: "{{ q }}"}, authorization: {bearer: "{{ r }}"}}
  - {step: set, name: Set, set: [[x, "{{ s }}"]], off: true, note: kept}
  - {step: pause, name: Pause, pause: "{{ t }}"}
  - {step: log, name: Log, log: "{{ u }}"}
  - {step: call, name: Call, call: {function: a.b, with: [[p, "{{ v }}"]], into: w}}
  - {step: keep, name: Keep, keep: {into: rows, row: [[c, "{{ x }}"]]}}
  - step: repeat
    name: Repeat
    repeat: {until: "{{ y }}"}
    steps: [{step: inner, name: Inner, log: "{{ z }}"}]
  - step: each
    name: Each
    each: {name: one, in: "{{ aa }}"}
    steps: [{step: inner-2, name: Inner, pause: "{{ bb }}"}]
  - step: if
    name: If
    branches: [{when: "{{ cc }}", steps: [{step: inner-3, name: Inner, log: "{{ dd }}"}]}, {}]
  - {step: choose, name: Choose, choose: evenly, branches: [{name: a}, {name: b, weight: 2}]}
"""  # noqa: E501
)


def frozen(journey: Journey) -> FrozenRun:
    plan = Plan(
        form=2,
        plan="p",
        name="P",
        journey="j",
        environment="e",
        profile=(Stretch(stretch="hold", seconds=1),),
    )
    return frozen_of_one(plan, journey)


class Known(TestCase):
    def test_every_kind_is_performed_and_has_fields(self) -> None:
        self.assertEqual({*DOING, Sending}, set(KINDS.values()))
        self.assertEqual(list(FIELDS), list(KINDS))
        for kind, made in KINDS.items():
            self.assertEqual(made.__struct_config__.tag, kind)
            self.assertEqual(new_step(kind, "s").kind, kind)


class Written(TestCase):
    def test_every_kind_as_text_and_as_documents(self) -> None:
        journey = parse_journey(ALL)
        self.assertEqual({step.kind for _, step in journey.steps()}, set(KINDS))
        text = write_journey(journey)
        self.assertNotIn("does", text)
        self.assertEqual(parse_journey(text), journey)
        self.assertEqual(JOURNEY.read(canonical(journey)), journey)
        self.assertEqual(JOURNEY.of(JOURNEY.plain(journey)), journey)
        self.assertEqual(FROZEN.read(canonical(frozen(journey))).journey, journey)
        self.assertEqual(
            msgspec.msgpack.decode(msgspec.msgpack.encode(journey), type=Journey), journey
        )

    def test_what_is_said_about_a_step_comes_after_what_it_does(self) -> None:
        lines = write_journey(parse_journey(ALL)).splitlines()
        at = next(n for n, line in enumerate(lines) if "step: set" in line)
        keys = [
            line.strip().split(":")[0] for line in lines[at : at + 8] if line.startswith("    ")
        ]
        self.assertLess(keys.index("set"), keys.index("off"))

    def test_a_new_one_of_each_kind(self) -> None:
        for kind in KINDS:
            journey = replace(
                parse_journey(HEAD + "  - {step: a, name: A}"), rounds=(new_step(kind, "s"),)
            )
            self.assertEqual(parse_journey(write_journey(journey)), journey, kind)

    def test_a_step_does_one_thing_and_says_which_two_it_does_and_where(self) -> None:
        cases = {
            "set: [[x, a]]\n    pause: '1'": ("one thing; this one has set and pause", 8),
            "pause: '1'\n    requests: [{request: r, address: http://x/}]": (
                "has pause and requests",
                8,
            ),
            "choose: evenly\n    log: x": ("has log and branches", 7),
            "steps: [{step: t, name: T}]": ("a step that repeats them", 7),
            "does: pause\n    pause: '1'": ("there is no key `does`", 7),
        }
        for text, (words, line) in cases.items():
            with self.subTest(text), self.assertRaises(TextError) as caught:
                parse_journey(HEAD + f"  - step: s\n    name: S\n    {text}\n")
            self.assertIn(words, str(caught.exception))
            self.assertEqual(caught.exception.line, line)
        with self.assertRaisesRegex(Unfit, r"one thing.*rounds\.0"):
            JOURNEY.read(
                b'{"form":1,"journey":"j","name":"J","rounds":[{"step":"s","name":"S","log":"a","pause":"1"}]}'
            )

    def test_an_empty_one_is_a_step_without_requests(self) -> None:
        for empty in ("pause: ''", "set: []", "requests: []", "log: ''\n    requests: []"):
            made = parse_journey(HEAD + f"  - step: s\n    name: S\n    {empty}\n").rounds[0]
            self.assertEqual((made.kind, made.requests), ("step", ()))


class Texts(TestCase):
    def test_each_is_visited_once_and_can_be_changed(self) -> None:
        journey = parse_journey(ALL)
        holes = [text for _, text in journey.texts() if "{{" in text]
        self.assertEqual(len(holes), ALL.count("{{"))
        self.assertEqual(len(set(holes)), len(holes))
        self.assertEqual(journey.with_texts(lambda what, text: text), journey)
        changed = journey.with_texts(lambda what, text: text.replace("{{", "{{ was."))
        self.assertEqual(write_journey(changed).count("{{ was."), ALL.count("{{"))
        self.assertEqual(
            [text for _, text in changed.texts()],
            [text.replace("{{", "{{ was.") for _, text in journey.texts()],
        )

    def test_a_kind_has_only_its_own_and_says_what_they_are(self) -> None:
        found: dict[str, list[str]] = {}
        step: Step
        for _, step in parse_journey(ALL).steps():
            found[step.step] = [what for what, _ in texts_in(step)]
        self.assertEqual(found["ask"], [])
        self.assertEqual(
            (
                found["set"],
                found["call"],
                found["keep"],
                found["repeat"],
                found["each"],
                found["if"],
                found["choose"],
            ),
            (["set x"], ["call, p"], ["row, c"], ["repeat"], ["for each"], ["when"], []),
        )


class Checks(TestCase):
    ONE_OF_EACH = (
        Check(status=(200, "3xx")),
        Check(type="text/html"),
        Check(contains=" {{ a }} "),
        Check(regex="a+"),
        Check(json=JsonEquals(path="$.a", equals="{{ b }}")),
        Check(json=JsonEquals(path="$.a", type="list")),
        Check(json=JsonEquals(path="$.a")),
        Check(json=JsonEquals(path="$.a", count=3), never=True, then="count"),
        Check(css=CssText(selector="p a", attribute="href", matches="{{ c }}")),
        Check(header=HeaderText(name="X-A", above=3.0)),
        Check(size=Bounds(at_least=1.0, at_most=2000.0)),
        Check(time=Bounds(at_most=300.0)),
        Check(value=Comparing(left="{{ d }}", right="{{ e }} + 1", compare="≥")),
    )

    def test_every_kind_stands_in_a_row_and_comes_back(self) -> None:
        self.assertEqual(list(BOXES), list(CHECKS))
        self.assertEqual({check.form for check in self.ONE_OF_EACH}, set(CHECKS))
        sent = QueryDict(mutable=True)
        for row in check_rows(Request(request="r", address="http://x/", checks=self.ONE_OF_EACH)):
            for name, value in row.items():
                sent.appendlist(f"check-{name}", value)
        self.assertEqual(checks_from(sent), self.ONE_OF_EACH)

    def test_every_kind_is_made_and_says_what_it_expects(self) -> None:
        for check in self.ONE_OF_EACH:
            compile_check(check)
            self.assertGreater(len(described(check)), 4)
        self.assertEqual(described(self.ONE_OF_EACH[0]), "status 200 or 3xx")
        self.assertEqual(described(self.ONE_OF_EACH[5]), "$.a is a list")
        self.assertEqual(described(self.ONE_OF_EACH[7]), "not: $.a so many: 3")

    def test_texts_of_every_kind(self) -> None:
        texts = [text for check in self.ONE_OF_EACH for _, text in texts_in(check)]
        self.assertEqual(texts, [" {{ a }} ", "{{ b }}", "{{ c }}", "{{ d }}", "{{ e }} + 1"])
        for check in self.ONE_OF_EACH:
            self.assertEqual(check.with_texts(lambda what, text: text), check)


class Captures(TestCase):
    ONE_OF_EACH = (
        Capture(name="a", json="$.a", pick="all", decode="base64"),
        Capture(name="b", css=CssForm(selector="p a", attribute="href"), otherwise=""),
        Capture(
            name="c", between=BetweenForm(before="<b>", after="</b>"), pick=3, otherwise="none"
        ),
        Capture(name="d", regex=RegexForm(pattern="a(b)", group=0, header="Link")),
        Capture(name="e", regex=RegexForm(pattern="a(b)")),
        Capture(name="f", header="Location"),
        Capture(name="g", cookie="session"),
        Capture(name="h", address="id=([0-9]+)", pick="last"),
    )

    def test_every_kind_stands_in_a_row_and_comes_back(self) -> None:
        self.assertEqual(list(CAPTURE_BOXES), list(CAPTURES))
        self.assertEqual({capture.form for capture in self.ONE_OF_EACH}, set(CAPTURES))
        sent = QueryDict(mutable=True)
        for row in capture_rows(
            Request(request="r", address="http://x/", captures=self.ONE_OF_EACH)
        ):
            for name, value in row.items():
                sent.appendlist(f"capture-{name}", value)
        self.assertEqual(captures_from(sent), self.ONE_OF_EACH)

    def test_every_kind_is_made_and_says_its_expression(self) -> None:
        for capture in self.ONE_OF_EACH:
            compile_capture(capture)
        self.assertEqual(
            [": ".join(expression(capture)) for capture in self.ONE_OF_EACH[:5]],
            [
                "json: $.a, all, decoded from base64",
                "css: p a @href",
                "between: <b> … </b>, 3",
                "regex: a(b) in header Link",
                "regex: a(b)",
            ],
        )
