"""What the page's scripts compute, in the browser that performs them."""

from typing import Any

from dynamikos.core.reports import Frame
from tests.browser.support import BrowserCase

FIELDS = list(Frame.__struct_fields__)


def frame(second: int, **given: Any) -> list[Any]:
    """One second as a run's page gets it; what is not given is 0."""
    values = (
        dict.fromkeys(FIELDS, 0)
        | {"second": second, "kinds": {}, "late_by": [], "is_late": False}
        | given
    )
    return [values[name] for name in FIELDS]


class Modules(BrowserCase):
    def computed(self, module: str, script: str, *given: Any) -> Any:
        """What `script`, a function body that knows the module as m and what is given as the list
        g, returns.
        """

        def run(page: Any) -> Any:
            page.goto(self.base + "/sign-in")
            return page.evaluate(
                "async ([module, given]) => { const m = await import(module); const g = given; "
                + script
                + " }",
                [f"/static/ui/{module}", list(given)],
            )

        return self.do(run)

    def test_figures(self) -> None:
        clocks = self.computed("tape/figures.js", "return g.map(m.clock)", 0, 59.9, 60, 3599, 6000)
        self.assertEqual(clocks, ["00:00", "00:59", "01:00", "59:59", "100:00"])
        times = self.computed(
            "tape/figures.js",
            "return g.map(m.milliseconds)",
            None,
            0,
            0.1234,
            12.34,
            999.4,
            999.6,
            61234,
        )
        self.assertEqual(times, ["–", "0 ms", "0.123 ms", "12.3 ms", "999 ms", "1 s", "61.2 s"])
        self.assertEqual(
            self.computed("tape/figures.js", "return g.map(m.three)", 0, 1.2345, 999.4, 1234567),
            ["0", "1.23", "999", "1,234,567"],
        )
        marks = self.computed(
            "tape/figures.js",
            "return g.map(([a, b]) => m.decades(a, b))",
            [1, 20],
            [0.5, 2000],
            [3, 4],
        )
        self.assertEqual(marks, [[1, 2, 5, 10, 20], [1, 10, 100, 1000], []])

    def test_windows_and_failures(self) -> None:
        frames = [
            frame(0, answered=10, failed=0, steps_failed=0),
            frame(1, answered=8, failed=2, steps_failed=1, kinds={"status-500": 2}),
            frame(2, answered=4, failed=0, steps_failed=3, kinds={"check-contains": 3}),
        ]
        script = (
            "const at = m.placesOf(g[0]); return g[2].map(([a, b]) => m.windowOf(g[1], at, a, b))"
        )
        windows = self.computed("tape/frames.js", script, FIELDS, frames, [[0, 3], [1, 2], [5, 9]])
        self.assertEqual(windows[0], {"seconds": 3, "rate": 8, "failures": 5})
        self.assertEqual(windows[1], {"seconds": 1, "rate": 10, "failures": 2})
        self.assertEqual(windows[2], {"seconds": 0, "rate": 0, "failures": 0})
        most = self.computed(
            "tape/frames.js", "return m.mostFailed(g[1], m.placesOf(g[0]))", FIELDS, frames
        )
        self.assertEqual(most, "check-contains")
        self.assertEqual(
            self.computed("tape/frames.js", "return m.padded(g[0], 3)", [1]), [1, None, None]
        )

    def test_what_is_said_of_a_second(self) -> None:
        one = frame(
            61,
            planned=9,
            starting=1,
            busy=3,
            thinking=4,
            leaving=0,
            answered=12,
            failed=1,
            in_flight=4,
            oldest_ms=2500,
            p95_ms=250.4,
            p50_ms=38,
            p99_ms=None,
            late_p99_ms=1.5,
            cpu_percent=12.34,
            is_late=True,
            late_by=["north"],
            kinds={"timeout-whole": 1},
        )
        script = "const f = await import('/static/ui/tape/frames.js'); const at = f.placesOf(g[0]);"
        said = self.computed(
            "tape/sentences.js",
            script + "return m.saidOf(g[1], [g[1]], at, [60, 62], g[2])",
            FIELDS,
            one,
            1_800_000_000,
        )
        self.assertEqual(
            said,
            {
                "at": "01:01 · 08:01:01 UTC",
                "users": "8 of 9",
                "states": "4 thinking, 4 busy",
                "rate": "13 /s",
                "rate-more": "window 13 /s, 4 in flight, the oldest for 2.5 s",
                "time": "p95 250 ms",
                "time-more": "p50 38 ms · p99 –",
                "failures": "1 /s",
                "failures-more": "1 in the window, mostly timeout-whole",
                "generators": "1.5 ms",
                "generators-more": "processor 12.3 %, late: north",
            },
        )
        now = self.computed(
            "tape/sentences.js", script + "return m.nowOf(g[1], at, 600)", FIELDS, one
        )
        self.assertEqual(now, "8 of 9 users, 01:02 of 10:00")

    def test_values_in_a_text(self) -> None:
        found = self.computed(
            "tokens/holes.js", "return m.pieces(g[0])", "a {{ x.y | upper }}b{{ z }}"
        )
        names = [piece.get("name") for piece in found]
        self.assertEqual(names, [None, "x.y", None, "z", None])
        self.assertEqual("".join(piece["text"] for piece in found), "a {{ x.y | upper }}b{{ z }}")
        self.assertEqual(
            self.computed("tokens/holes.js", "return g.map(m.hasHole)", "a", "{{ a }}"),
            [False, True],
        )
        known = {"slot": {"from": "captured", "last": "7"}, "row.a": {"from": "a column"}}
        told = self.computed(
            "tokens/holes.js",
            "return g[0].map((name) => [m.isUnknown(name, g[1]), m.toldOf(name, g[1]).at(-1)])",
            ["slot", "row.a", "gone", "make.uuid", "a ~ b"],
            known,
        )
        self.assertEqual(
            told,
            [
                [False, "last: 7"],
                [False, "no rehearsal has shown its value yet"],
                [True, "nothing of this name has a value before this request"],
                [False, "made anew each time it is sent"],
                [False, "an expression: what it comes to stands beneath the field while you type"],
            ],
        )

    def test_pasted_rows(self) -> None:
        texts = [
            "a=1&b=two+words%21",
            "https://x/y?a=1",
            "Name: a: b\nOther:",
            "just words",
            "a=1 b=2",
            "",
        ]
        self.assertEqual(
            self.computed("pasting/parsing.js", "return g.map(m.rowsIn)", *texts),
            [
                [["a", "1"], ["b", "two words!"]],
                [["a", "1"]],
                [["Name", "a: b"], ["Other", ""]],
                [],
                [],
                [],
            ],
        )

    def test_a_probe_that_was_silent_leaves_a_hole_and_one_that_is_read_seldom_does_not(
        self,
    ) -> None:
        often, seldom = (
            [1, 2, None, 4, None, None, None, 8],
            [1, None, None, 4, None, None, 7, None],
        )
        script = """
          const seconds = [0, 1, 2, 3, 4, 5, 6, 7], plot = (values) => ({ data: [seconds, values],
            valToPos: (second) => 10 * second });
          const holes = (values) => { const found = []; let before = null;
            values.forEach((value, place) => { if (value == null) return;
              if (before != null && place - before > 1) found.push([10 * before, 10 * place]); before = place; });
            return m.silences(plot(values), 1, 0, 7, found); };
          return g.map(holes)"""  # noqa: E501
        self.assertEqual(self.computed("tape/lanes.js", script, often, seldom), [[[30, 70]], []])

    def test_several_that_are_chosen(self) -> None:
        script = (
            "return [m.withOrWithout(g, 'b'), m.withOrWithout(g, 'z'), m.between(g, 'c', 'a'), "
            "m.between(g, 'x', 'b')]"
        )
        self.assertEqual(
            self.computed("components/several-chosen.js", script, "a", "b", "c"),
            [["a", "c"], ["a", "b", "c", "z"], ["a", "b", "c"], ["b"]],
        )

    def test_what_may_stand_at_a_place_of_a_text_form(self) -> None:
        schema = {
            "$ref": "#/$defs/J",
            "$defs": {
                "J": {
                    "properties": {
                        "rounds": {"type": "array", "items": {"anyOf": [{"$ref": "#/$defs/S"}]}}
                    }
                },
                "S": {
                    "properties": {"step": {}, "requests": {"items": {"$ref": "#/$defs/R"}}},
                    "required": ["step"],
                },
                "R": {
                    "properties": {
                        "method": {},
                        "pick": {"enum": ["first", "last"]},
                        "off": {"type": "boolean"},
                    }
                },
            },
        }
        script = """
          const lines = g[1].split("\\n");
          const starts = lines.map((_, n) => lines.slice(0, n).join("\\n").length + (n ? 1 : 0));
          const line = (n) => ({ text: lines[n - 1], from: starts[n - 1], number: n });
          const doc = { line, lineAt: (pos) => line(starts.filter((at) => at <= pos).length) };
          const context = { state: { doc }, pos: g[1].length, explicit: g[2] };
          const offer = m.completing(g[0], { slot: { from: "captured" } })(context);
          return offer && offer.options.map((each) => each.label);
        """

        def offered(text: str, explicit: bool = False) -> Any:
            return self.computed("editor/completion.js", script, schema, text, explicit)

        self.assertEqual(offered("r"), ["rounds"])
        self.assertEqual(offered("rounds:\n  - s"), ["step", "requests"])
        self.assertEqual(
            offered("rounds:\n  - step: a\n    requests:\n      - m"), ["method", "pick", "off"]
        )
        self.assertEqual(
            offered("rounds:\n  - step: a\n    requests:\n      - pick: f"), ["first", "last"]
        )
        self.assertEqual(
            offered("rounds:\n  - step: a\n    requests:\n      - off: t"), ["true", "false"]
        )
        self.assertEqual(
            offered("rounds:\n  - step: a\n    requests:\n      - {m"), ["method", "pick", "off"]
        )
        self.assertEqual(offered("address: http://x/{{ s")[0], "slot")
        self.assertIsNone(offered("rounds:\n  - step: a b"))
