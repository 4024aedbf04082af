"""Changes to a journey: whatever is done in whatever order, it stays one that can be written, read
and verified.
"""

from collections import Counter
from pathlib import Path
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from dynamikos.core.journeys import Journey, Problem, editing, parse_journey, verify, write_journey
from dynamikos.core.journeys.columns import matches, occurrences, put_column, renamed, sent_texts
from dynamikos.core.journeys.editing import ITEMS, EditError, Home
from dynamikos.core.journeys.kinds import NESTING
from dynamikos.core.journeys.model import PARTS, walk

EVENING = parse_journey(
    (Path(__file__).parents[2] / "examples/journeys/evening-booking.yaml").read_text()
)
SMALL = parse_journey("""
form: 1
journey: small
name: Small
opening:
  - {step: arrive, name: Arrive, requests: [{request: get-front, address: http://x/}]}
rounds:
  - {step: look, name: Look, think_s: 2, requests: [{request: a, address: http://x/a}, {request: b, address: http://x/b}]}
  - step: perhaps
    name: Perhaps
    choose: at random
    branches:
      - {name: one, steps: [{step: inner, name: Inner, think_s: 1, requests: [{request: c, address: http://x/c}]}]}
      - {name: two}
  - {step: buy, name: Buy, requests: [{request: a, address: http://x/d}]}
closing:
  - {step: go, name: Go}
""")  # noqa: E501


def order(journey: Journey) -> str:
    """Its steps as a line: inner ones in brackets, parts by a bar."""

    def one(step) -> str:  # type: ignore[no-untyped-def]
        inner = (
            "".join(f"({' '.join(map(one, slot))})" for slot in step.slots()) if step.nests else ""
        )
        return step.step + inner

    return " | ".join(" ".join(map(one, journey.part(part))) for part in PARTS)


class EachChange(TestCase):
    def test_steps_are_moved_within_across_and_out(self) -> None:
        cases = (
            (("look", 1), "arrive | perhaps(inner)() look buy | go | "),
            (("look", -1), "arrive look | perhaps(inner)() buy | go | "),
            (("arrive", 1), " | arrive look perhaps(inner)() buy | go | "),
            (("inner", -1), "arrive | look inner perhaps()() buy | go | "),
            (("inner", 1), "arrive | look perhaps()() inner buy | go | "),
            (("arrive", -1), "arrive | look perhaps(inner)() buy | go | "),
            (("go", 1), "arrive | look perhaps(inner)() buy |  | go"),
        )
        for (step, by), expected in cases:
            with self.subTest(step=step, by=by):
                self.assertEqual(order(editing.move_step(SMALL, step, by)), expected)

    def test_steps_and_requests_are_put_before_others(self) -> None:
        cases = (
            ("buy", "look", "arrive | buy look perhaps(inner)() | go | "),
            ("look", "buy", "arrive | perhaps(inner)() look buy | go | "),
            ("buy", "inner", "arrive | look perhaps(buy inner)() | go | "),
            ("inner", "arrive", "inner arrive | look perhaps()() buy | go | "),
            ("look", "look", order(SMALL)),
            ("perhaps", "go", "arrive | look buy | perhaps(inner)() go | "),
        )
        for at, before, expected in cases:
            with self.subTest(at=at, before=before):
                self.assertEqual(order(editing.place_before(SMALL, at, before)), expected)
        made = editing.place_before(SMALL, "buy/a", "look/b")
        self.assertEqual(
            [each.request for each in made.find_step("look").requests], ["a", "a-2", "b"]
        )  # type: ignore[union-attr]
        self.assertEqual(made.find_step("buy").requests, ())  # type: ignore[union-attr]
        with self.assertRaisesRegex(EditError, "sends no requests of its own"):
            editing.place_before(SMALL, "look/a", "perhaps")
        with self.assertRaisesRegex(EditError, "can't stand inside itself"):
            editing.place_before(SMALL, "perhaps", "inner")

    def test_items_are_added_put_around_and_taken_off(self) -> None:
        for kind in ITEMS:
            made, key = editing.add_item(SMALL, kind, "inner")
            with self.subTest(kind):
                self.assertEqual(
                    (made.find_step(key).kind, editing.home_of(made, key)),
                    (kind, (Home("rounds", "perhaps", 0), 1)),
                )  # type: ignore[union-attr]
        for kind in NESTING:
            made, key = editing.wrap(SMALL, "look", kind)
            with self.subTest(kind):
                self.assertIn("look", [each.step for each in walk((made.find_step(key),))])  # type: ignore[arg-type]
                self.assertEqual(order(editing.unwrap(made, key)), order(SMALL))
        self.assertEqual(
            order(editing.put_into(SMALL, "buy", "perhaps", 1)),
            "arrive | look perhaps(inner)(buy) | go | ",
        )
        for wrong in (
            lambda: editing.put_into(SMALL, "buy", "perhaps", 2),
            lambda: editing.put_into(SMALL, "buy", "look", 0),
            lambda: editing.unwrap(SMALL, "look"),
            lambda: editing.put_into(SMALL, "perhaps", "perhaps", 0),
            lambda: editing.wrap(SMALL, "look", "set"),
        ):
            with self.assertRaises(EditError):
                wrong()

    def test_steps_are_split_merged_and_copied(self) -> None:
        split = editing.split_step(SMALL, "look", "b")
        self.assertEqual(order(split), "arrive | look look-continued perhaps(inner)() buy | go | ")
        later = split.find_step("look-continued")
        self.assertEqual((later.think_s, split.find_step("look").think_s), (2.0, 0.0))  # type: ignore[union-attr]
        self.assertEqual(order(editing.merge_step(split, "look")), order(SMALL))
        self.assertEqual(
            editing.merge_step(split, "look").find_step("look"), SMALL.find_step("look")
        )
        copied = editing.duplicate(SMALL, "perhaps")
        self.assertEqual(
            order(copied), "arrive | look perhaps(inner)() perhaps-2(inner-2)() buy | go | "
        )
        for wrong, words in (
            (lambda: editing.split_step(SMALL, "look", "a"), "first request"),
            (lambda: editing.merge_step(SMALL, "look"), "can't be merged"),
            (lambda: editing.merge_step(SMALL, "buy"), "last step"),
            (lambda: editing.gather(SMALL, ["perhaps"], "look"), "can't be merged"),
            (lambda: editing.gather(SMALL, ["look"], "perhaps"), "can't be merged"),
            (lambda: editing.split_step(SMALL, "look", "z"), "no request 'z'"),
            (lambda: editing.change_step(SMALL, "z", name=""), "no step 'z'"),
        ):
            with self.assertRaisesRegex(EditError, words):
                wrong()

    def test_requests_leave_their_step_at_its_edge(self) -> None:
        self.assertEqual(
            [
                each.address
                for each in editing.move_request(SMALL, "look", "b", 1).find_step("inner").requests
            ],
            ["http://x/b", "http://x/c"],
        )  # type: ignore[union-attr]
        self.assertEqual(
            [
                each.request
                for each in editing.move_request(SMALL, "look", "b", -1).find_step("look").requests
            ],
            ["b", "a"],
        )  # type: ignore[union-attr]
        self.assertEqual(editing.move_request(SMALL, "arrive", "get-front", -1), SMALL)

    def test_think_times_of_all_at_once(self) -> None:
        made = editing.set_thinking(SMALL, "recorded", 0.5, 0)
        self.assertEqual(
            [(each.step, each.think_s) for _, each in made.steps() if each.think_s],
            [("look", 1.0), ("inner", 0.5)],
        )
        # what was recorded is never lost
        again = editing.set_thinking(editing.set_thinking(made, "even", 3, 5), "recorded", 1, 0)
        self.assertEqual(
            [each.think_s for _, each in again.steps()], [each.think_s for _, each in SMALL.steps()]
        )


KEYS = st.integers(0, 10**6)
CHANGES = st.sampled_from(
    [
        "move",
        "place",
        "request",
        "add",
        "wrap",
        "unwrap",
        "into",
        "split",
        "merge",
        "copy",
        "remove",
        "switch",
        "gather",
    ]
)


class InAnyOrder(TestCase):
    @staticmethod
    def changed(
        journey: Journey, what: str, step: str, request: str, other: str, c: int
    ) -> Journey:
        return {
            "move": lambda: editing.move_step(journey, step, 1 if c % 2 else -1),
            "place": lambda: editing.place_before(journey, step, other),
            "request": lambda: editing.place_before(journey, f"{step}/{request}", other),
            "add": lambda: editing.add_item(journey, [*ITEMS][c % len(ITEMS)], step)[0],
            "wrap": lambda: editing.wrap(journey, step, NESTING[c % len(NESTING)])[0],
            "unwrap": lambda: editing.unwrap(journey, step),
            "into": lambda: editing.put_into(journey, step, other, c % 2),
            "split": lambda: editing.split_step(journey, step, request),
            "merge": lambda: editing.merge_step(journey, step),
            "copy": lambda: editing.duplicate(journey, step),
            "remove": lambda: editing.remove_step(journey, step),
            "switch": lambda: editing.switch(journey, step),
            "gather": lambda: editing.gather(journey, [step], other),
        }[what]()

    @settings(max_examples=60, deadline=None)
    @given(
        st.sampled_from([SMALL, EVENING]),
        st.lists(st.tuples(CHANGES, KEYS, KEYS, KEYS), min_size=1, max_size=12),
    )
    def test_it_stays_whole(
        self, journey: Journey, changes: list[tuple[str, int, int, int]]
    ) -> None:
        for what, a, b, c in changes:
            steps = [step for _, step in journey.steps()]
            if not steps:
                return
            step, other = steps[a % len(steps)], steps[b % len(steps)]
            request = step.requests[c % len(step.requests)].request if step.requests else "none"
            before = Counter(each.address for each_step in steps for each in each_step.requests)
            try:
                journey = self.changed(journey, what, step.step, request, other.step, c)
            except EditError as refused:
                self.assertTrue(str(refused))
                continue
            after = [each for _, each in journey.steps()]
            self.assertEqual(
                len({each.step for each in after}), len(after), f"{what}: a key is there twice"
            )
            for each in after:
                self.assertEqual(
                    len({one.request for one in each.requests}),
                    len(each.requests),
                    f"{what}: a request's key is there twice",
                )
            if what not in ("copy", "remove"):
                self.assertEqual(
                    Counter(one.address for each in after for one in each.requests),
                    before,
                    f"{what}: a request was lost or made",
                )
            self.assertEqual(parse_journey(write_journey(journey)), journey)
            verify(journey, known=[])


class ColumnsForRecordedValues(TestCase):
    def test_whole_words_only_and_not_inside_holes(self) -> None:
        journey = parse_journey("""
form: 1
journey: j
name: J
rounds:
  - step: s
    name: S
    requests:
      - request: r
        method: POST
        address: http://x/ring/rings?y=ring
        query: [[q, ring], [t, "{{ ring }} ring"]]
        headers: [[X-A, ring]]
        body: {json: '{"a": "ring", "b": "{{ x | before(''ring'') }}"}'}
        checks: [{contains: the ring nebula}]
""")
        found = occurrences(journey, "ring")
        self.assertEqual(
            [each.place for each in found],
            ["address", "query q", "query t", "header X-A", "JSON body", "check"],
        )
        self.assertEqual((found[0].before, found[0].after), ("http://x/", "/rings?y=ring"))
        made = put_column(
            journey,
            "ring",
            "terms.term",
            [each.key for each in found if each.place != "header X-A"],
        )
        request = made.find_step("s").requests[0]  # type: ignore[union-attr]
        self.assertEqual(request.address, "http://x/{{ terms.term }}/rings?y={{ terms.term }}")
        self.assertEqual(
            request.query, (("q", "{{ terms.term }}"), ("t", "{{ ring }} {{ terms.term }}"))
        )
        self.assertEqual(
            (request.headers, request.body.json),
            ((("X-A", "ring"),), """{"a": "{{ terms.term }}", "b": "{{ x | before('ring') }}"}"""),
        )  # type: ignore[union-attr]
        self.assertEqual(request.checks[0].contains, "the {{ terms.term }} nebula")

    def test_a_name_is_renamed_in_every_hole_and_nowhere_else(self) -> None:
        journey = parse_journey("""
form: 1
journey: j
name: a.b stays
rounds:
  - step: s
    name: S
    set: [[x, "{{ a.b | before('a.b') }} a.b {{ a.bc ~ c.a.b ~ a.b }}"]]
  - {step: l, name: L, each: {name: one, in: "{{ a.b | split(',') }}"}, steps: [{step: g, name: G, requests: [
      {request: r, address: "http://x/{{a.b}}", checks: [{contains: "{{ a.b }}"}]}]}]}
""")  # noqa: E501
        made = renamed(journey, "a.b", "a.z")
        self.assertEqual(
            made.find_step("s").set,
            (("x", "{{ a.z | before('a.b') }} a.b {{ a.bc ~ c.a.b ~ a.z }}"),),
        )  # type: ignore[union-attr]
        self.assertEqual(
            (made.name, made.find_step("l").each.in_), ("a.b stays", "{{ a.z | split(',') }}")
        )  # type: ignore[union-attr]
        request = made.find_step("g").requests[0]  # type: ignore[union-attr]
        self.assertEqual(
            (request.address, request.checks[0].contains), ("http://x/{{a.z}}", "{{ a.z }}")
        )
        self.assertEqual(renamed(made, "a.z", "a.b"), journey)

    def test_columns_of_the_row_with_most_matches_come_first(self) -> None:
        self.assertTrue({"ring", "212"} <= sent_texts(EVENING))
        columns = {"a.x": {"ring": 3}, "b.term": {"ring": 5}, "b.click": {"212": 5, "318": 5}}
        self.assertEqual(
            matches(EVENING, columns),
            [
                ("212", "b.click", 5),
                ("318", "b.click", 5),
                ("ring", "b.term", 5),
                ("ring", "a.x", 3),
            ],
        )


class WhatIsWrong(TestCase):
    CASES: tuple[tuple[str, str], ...] = (
        (
            "{step: s, name: S, set: [[x, '{{ y }}']]}",
            "y }} is not captured before this request; add a capture named y",
        ),
        ("{step: s, name: S, set: [['1x', a]]}", "can't be the name of a value"),
        (
            "{step: s, name: S, repeat: {times: '2', until: 'x'}}",
            "give one of times, while or until",
        ),
        (
            "{step: s, name: S, branches: [{name: a}, {name: b, when: 'x'}]}",
            "only the last branch may be without",
        ),
        ("{step: s, name: S, choose: evenly, branches: [{name: a, weight: 0}]}", "weight above 0"),
        (
            "{step: s, name: S, call: {function: a.b}}",
            "there is no function a.b; the project has none yet",
        ),
        ("{step: s, name: S, keep: {into: made, row: []}}", "name at least one column"),
        (
            "{step: s, name: S, keep: {into: made, row: [['a b', x]]}}",
            "can't be the name of a column",
        ),
        ("{step: s, name: S, pause: '{{ 1 + }}'}", "something is missing at its end"),
        (
            "{step: s, name: S, log: '{{ env.base }}'}",
            "is not set in this environment; add 'base' in Settings",
        ),
        ("{step: s, name: S, log: '{{ people.age }}'}", "'people' has mail, name"),
        ("{step: s, name: S, log: '{{ cats.age }}'}", "no data set 'cats' is in this project"),
        (
            "{step: s, name: S, requests: [{request: r, address: http://x/, body: {json: '{'}}]}",
            "JSON body",
        ),
        (
            "{step: s, name: S, requests: [{request: r, address: http://x/, body: {}}]}",
            "give one of form, parts, json, raw, base64 or file",
        ),
        (
            "{step: s, name: S, requests: [{request: r, address: http://x/, checks: [{regex: "
            "'('}]}]}",
            "check:",
        ),
        (
            "{step: s, name: S, requests: [{request: r, address: http://x/, captures: [{name: c, "
            "json: '$['}]}]}",
            "capture c:",
        ),
        (
            "{step: s, name: S, requests: [{request: r, address: http://x/, authorization: {none: "
            "true, bearer: x}}]}",
            "give one of basic, digest, bearer, client or none",
        ),
        ("{step: s, name: S, use: nowhere}", "no shared step 'nowhere'"),
    )

    def problems(self, step: str) -> list[Problem]:
        return verify(
            parse_journey(f"form: 1\njourney: j\nname: J\nrounds:\n  - {step}\n"),
            ["people.mail", "people.name"],
            functions=[],
        )

    def test_each_is_said_once_where_it_is(self) -> None:
        for step, words in self.CASES:
            with self.subTest(step):
                found = self.problems(step)
                self.assertEqual(len(found), 1, found)
                self.assertIn(words, found[0].message)
                self.assertEqual(found[0].step, "s")

    def test_what_a_step_gives_is_known_to_those_after_it(self) -> None:
        for step in (
            "{step: s, name: S, set: [[x, '1'], [y, '{{ x }}']]}\n  - {step: t, name: T, log: '{{ "
            "y }}'}",
            "{step: s, name: S, each: {name: one, in: '[1]'}, steps: [{step: t, name: T, log: '{{ "
            "one }}'}]}",
            "{step: s, name: S, repeat: {until: '{{ code }}'}, steps: [{step: t, name: T, "
            "requests: [{request: r, address: http://x/, captures: [{name: code, json: $.code}], "
            "checks: [{value: {left: '{{ code }}', compare: '=', right: '1'}}]}]}]}",
            "{step: s, name: S, off: true, log: '{{ nowhere }}'}",
        ):
            with self.subTest(step):
                self.assertEqual(self.problems(step), [])

    def test_the_example_has_none(self) -> None:
        known = [
            f"observers.{name}" for name in ("email", "password", "name", "constellation", "night")
        ] + ["env.observatory"]
        self.assertEqual(verify(EVENING, known), [])
