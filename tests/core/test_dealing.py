"""Tables read and made, and who gets which row."""

import collections
import itertools
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from dynamikos.core.dealing import (  # fmt: skip
    ColumnRule,
    Deal,
    Form,
    Reading,
    Rewrite,
    column,
    count_columns,
    detect,
    drawing,
    pack,
    packed,
    raw_rows,
    read_table,
    rewritten,
    row_of,
    shuffled,
    slice_of,
    unpack,
    used_up_s,
)
from dynamikos.core.dealing.blocks import decode_row
from dynamikos.core.errors import DynamikosError, ImportRefused


class WhatAFileIs(TestCase):
    CASES = (
        (b"email,password\na@x,p\n", Form()),
        (b'email;n\n"a;b";1,5\nc;2,5\n', Form(delimiter=";")),
        (b"a\tb\n1,5\t2\n3\t4\n", Form(delimiter="\t")),
        (b"a|b|c\n1|2|3\n", Form(delimiter="|")),
        (b"name;said\nx;'a;b'\ny;'c;d'\n", Form(delimiter=";", quote="'")),
        (b"1,2\n3,4\n", Form(header=False)),
        (b"ada@x,1\nbo@x,2\n", Form(header=False)),
        (b"email\na@x\n", Form()),
        (b'{"email": "a", "n": 1}\n{"email": "b"}\n', Form(kind="json lines")),
        ("name,place\nZoë,Å\n".encode("utf-16"), Form(encoding="utf-16")),
        (
            "name,city\nZoë,Málaga und Köln und São Paulo\nJosé,Évreux\n".encode("cp1252"),
            Form(encoding="cp1252"),
        ),
    )

    def test_found_out(self) -> None:
        for data, expected in self.CASES:
            with self.subTest(data):
                self.assertEqual(detect(data), expected)

    def test_read(self) -> None:
        table = read_table(
            'email;password\n"a;b";x\n\nc;"y\nz"\n'.encode("utf-8-sig"), "observers.csv"
        )
        self.assertEqual(
            (table.columns, table.rows, table.secret),
            (("email", "password"), [["a;b", "x"], ["c", "y\nz"]], ("password",)),
        )
        self.assertEqual(read_table(b"1,2\n3,4\n", "n.csv").columns, ("column_1", "column_2"))
        lines = read_table(b'{"a": "x", "b": {"c": [1]}}\n\n{"b": null, "a": 2.5}\n', "n.jsonl")
        self.assertEqual(
            (lines.columns, lines.rows), (("a", "b"), [["x", '{"c":[1]}'], ["2.5", ""]])
        )
        pieces = [
            bytes([byte]) for byte in "name\nZoë\nÅ".encode()
        ]  # in pieces that cut letters in two
        reading = Reading(pieces, "n.csv", Form())
        self.assertEqual((reading.columns, list(reading.rows())), (("name",), [["Zoë"], ["Å"]]))

    def test_bad_files_say_where_and_what_to_do(self) -> None:
        cases = (
            (
                b"a,b\n1,2\n1,2,3\n4\n",
                None,
                "observers.csv, line 3: 3 columns found, 2 expected; observers.csv, line 4: 1 "
                "columns found",
            ),
            (b"a,b\n1,2\n\xff,1\n", Form(), "line 3: byte 0xff is not UTF-8"),
            (b"", None, "is empty"),
            (b"a,b\n", Form(), "no rows"),
            (b"a,a\n1,2\n", Form(), "stands twice"),
            (b"1,2\n3,4\n", Form(), "Is the header line missing"),
            (b"\x00\x01\x02", None, "NUL bytes"),
            (b"a,b\n1,x\x00y\n", Form(), "line 2: it holds NUL bytes"),
            (b'a,b\n1,"never closed\n' + b"x\n" * 600_000, Form(), "Is a quote never closed"),
            (
                b"a\n" + b"x" * 10_000_000 + b"\n",
                Form(),
                "a cell of more than 1,000,000 characters",
            ),
            (b'{"a": 1}\n{"b": 2}\n', None, "line 2: 'b' is not in the first line"),
            (b'{"a": 1}\n[1]\n', None, "not an object"),
            (b'{"a": 1}\n{\n', None, "line 2: not JSON"),
            (b"a,b\n1,2\n", Form(encoding="rot13"), "none of the encodings"),
            (b"a\n" + b"y" * 25_000_000, Form(), "Is this a table"),
        )
        for data, form, words in cases:
            with self.subTest(words), self.assertRaises(ImportRefused) as caught:
                read_table(data, "observers.csv", form)
            self.assertIn(words, str(caught.exception))

    def test_blocks_are_known_by_their_content(self) -> None:
        rows = [[str(at), "x" * (at % 7)] for at in range(2_500)]
        blocks = list(packed(rows))
        self.assertEqual([block.rows for block in blocks], [1000, 1000, 500])
        self.assertEqual([row for block in blocks for row in unpack(block.body)], rows)
        self.assertEqual(pack(rows[:1000]).sha256, blocks[0].sha256)
        self.assertEqual(decode_row(raw_rows(blocks[2].body, blocks[2].sha256)[-1]), rows[-1])
        with self.assertRaisesRegex(DynamikosError, "damaged"):
            raw_rows(blocks[2].body, blocks[0].sha256)


class Columns(TestCase):
    def test_each_kind(self) -> None:
        self.assertEqual(
            list(column(ColumnRule(kind="sequence", start=8, step=2, width=3), 3)),
            ["008", "010", "012"],
        )
        for rule, looks in (
            (ColumnRule(kind="pattern", pattern="OBS-##-?{n}"), r"^OBS-\d\d-[a-z]\d+$"),
            (
                ColumnRule(kind="number", low=2.5, high=1.5, places=2),
                r"^(1\.[5-9]\d|2\.[0-4]\d|2\.50)$",
            ),
            (
                ColumnRule(kind="date", first="2027-01-31", days=2, form="%d.%m.%Y"),
                r"^(31\.01|01\.02)\.2027$",
            ),
            (ColumnRule(kind="choice", among=("lyra", "vela")), "^(lyra|vela)$"),
            (ColumnRule(kind="name"), "^[A-Z][a-z]+ [A-Z][a-z]+$"),
            (
                ColumnRule(kind="uuid"),
                "^[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$",
            ),
        ):
            with self.subTest(rule.kind):
                made = list(column(rule, 200))
                for cell in made:
                    self.assertRegex(cell, looks)
                self.assertEqual(made, list(column(rule, 200)))
                self.assertGreater(len(set(made)), 1)
                self.assertEqual(made[:50], list(column(rule, 50)))
        self.assertNotEqual(
            list(column(ColumnRule(kind="uuid", seed=2), 3)),
            list(column(ColumnRule(kind="uuid"), 3)),
        )
        for wrong in (
            ColumnRule(kind="pattern"),
            ColumnRule(kind="choice"),
            ColumnRule(kind="date", first="soon"),
            ColumnRule(kind="date", form="%99999999d"),
            ColumnRule(kind="number", places=99),
        ):
            with self.assertRaises(ImportRefused):
                column(wrong, 1)


class Dealing(TestCase):
    @given(st.integers(1, 5_000), st.integers(0, 9))
    @settings(max_examples=60, deadline=None)
    def test_shuffled_is_an_order_of_all(self, size: int, seed: int) -> None:
        self.assertEqual(
            sorted(shuffled(at, size, seed, "x") for at in range(size)), list(range(size))
        )

    def test_shuffled_depends_on_the_seed_and_looks_at_random(self) -> None:
        one, two = ([shuffled(at, 1000, seed, "x") for at in range(1000)] for seed in (1, 2))
        self.assertNotEqual(one, two)
        rising = sum(a < b for a, b in itertools.pairwise(one))
        self.assertTrue(440 < rising < 560, rising)  # of 999, mean 499.5, standard deviation 9.1

    @given(st.integers(0, 3_000), st.integers(1, 80))
    @settings(max_examples=60, deadline=None)
    def test_slices_are_all_rows_once(self, rows: int, users: int) -> None:
        parts = [slice_of(user, users, rows) for user in range(1, users + 1)]
        self.assertEqual(
            [at for first, last in parts for at in range(first, last)], list(range(rows))
        )
        sizes = {last - first for first, last in parts}
        self.assertLessEqual(max(sizes) - min(sizes), 1)

    def rows(
        self, deal: Deal, user: int, count: int, rows: int = 10, users: int = 3
    ) -> list[int | None]:
        return [row_of(deal, "d", 1, rows, users, user, turn) for turn in range(count)]

    def test_each_rule(self) -> None:
        self.assertEqual(self.rows(Deal(), 1, 12), [0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 0, 1])
        self.assertEqual(self.rows(Deal(then="leave"), 1, 12)[9:], [9, None, None])
        self.assertEqual(self.rows(Deal(whose="slice", then="leave"), 2, 4), [3, 4, 5, None])
        self.assertEqual(self.rows(Deal(whose="slice"), 3, 5), [6, 7, 8, 9, 6])
        self.assertEqual(self.rows(Deal(whose="whole", when="run"), 2, 3), [0, 0, 0])
        first, second = (
            self.rows(Deal(whose="whole", order="shuffled"), 1, 20),
            self.rows(Deal(whose="whole", order="shuffled"), 2, 10),
        )
        self.assertEqual(
            [sorted(first[:10]), sorted(first[10:]), sorted(second)], [list(range(10))] * 3
        )  # type: ignore[type-var]
        self.assertNotIn(second, (first[:10], first[10:]))
        at_random = self.rows(Deal(order="at random"), 1, 2_000)
        self.assertEqual(set(at_random), set(range(10)))
        self.assertTrue(
            all(140 < at_random.count(row) < 260 for row in range(10))
        )  # 200 ± 4.5 standard deviations
        self.assertIsNone(row_of(Deal(whose="slice"), "d", 1, 2, 5, 1, 0))
        with self.assertRaises(ValueError):
            row_of(Deal(), "d", 1, 0, 1, 1, 0)

    def test_the_drawing(self) -> None:
        def shown(deal: Deal, rows: int = 10, users: int = 4) -> list[list[str]]:
            return [
                [f"{c.first}-{c.last}{c.state}" for c in line]
                for line in drawing(deal, "d", 1, rows, users, 2, 4)
            ]

        self.assertEqual(shown(Deal(then="leave"))[0], ["1-4", "5-8", "9-10", "0-0over"])
        self.assertEqual(shown(Deal(then="stay"))[1][3], "10-10stays")
        self.assertEqual(shown(Deal())[0][2:], ["9-2again", "3-6again"])
        self.assertEqual(
            shown(Deal(whose="slice", then="leave")),
            [["1-1", "2-2", "0-0over", "0-0over"], ["3-3", "4-4", "5-5", "0-0over"]],
        )
        self.assertEqual(shown(Deal(when="user"))[1], ["2-2"] * 4)
        self.assertEqual(shown(Deal(whose="whole"))[1], ["1-1", "2-2", "3-3", "4-4"])
        self.assertEqual(shown(Deal(), users=1)[0], ["1-1", "2-2", "3-3", "4-4"])

    def test_when_rows_run_out(self) -> None:
        four = [(0.0, 100.0)] * 4
        self.assertAlmostEqual(
            used_up_s(Deal(), 10, four, 10) or 0, 20, places=3
        )  # 4 at 0, 10 and 20 s: the third taking of all is one too many
        self.assertIsNone(used_up_s(Deal(), 40, four, 10))
        self.assertEqual(used_up_s(Deal(whose="slice"), 12, four, 10), 30)
        self.assertIsNone(used_up_s(Deal(when="user"), 4, four, 10))
        self.assertEqual(used_up_s(Deal(when="user"), 3, [(0, 9), (1, 9), (2, 9), (3, 9)], 10), 3)
        self.assertIsNone(used_up_s(Deal(order="at random"), 1, four, 1))


class Counting(TestCase):
    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(
            st.lists(
                st.tuples(st.sampled_from(["", "a", "b", "ä"]), st.text(max_size=3)), max_size=8
            ),
            max_size=4,
        )
    )
    def test_as_an_independent_count_has_it(self, blocks: list[list[tuple[str, str]]]) -> None:
        rows = [row for block in blocks for row in block]
        found = count_columns([[list(row) for row in block] for block in blocks], 2)
        for at, fact in enumerate(found):
            cells = [row[at] for row in rows]
            counts = collections.Counter(cells)
            self.assertEqual(
                (fact.different, fact.empty, fact.times),
                (len(counts), counts.get("", 0), max(counts.values(), default=0)),
            )
            if cells:
                self.assertEqual(
                    fact.first,
                    min(cells.index(cell) for cell, times in counts.items() if times == fact.times),
                )


class Rewriting(TestCase):
    def test_each_change_of_a_column(self) -> None:
        cases: list[tuple[Rewrite, list[str], list[list[str]]]] = [
            (
                Rewrite(what="insert", at=1),
                ["a", "new", "b"],
                [["1", "", "2"], ["3", "", "4"], ["5", "", "6"]],
            ),
            (
                Rewrite(what="insert", at=2, rule=ColumnRule(kind="sequence", start=7)),
                ["a", "b", "new"],
                [["1", "2", "7"], ["3", "4", "8"], ["5", "6", "9"]],
            ),
            (
                Rewrite(what="fill", at=0, rule=ColumnRule(kind="sequence", step=2)),
                ["new", "b"],
                [["1", "2"], ["3", "4"], ["5", "6"]],
            ),
            (Rewrite(what="delete", at=0), ["b"], [["2"], ["4"], ["6"]]),
            (Rewrite(what="move", at=0, to=1), ["b", "a"], [["2", "1"], ["4", "3"], ["6", "5"]]),
        ]
        for change, names, rows in cases:
            with self.subTest(change=change):
                self.assertEqual(change.row(["a", "b"], "new"), names)
                blocks = list(rewritten([[["1", "2"], ["3", "4"]], [["5", "6"]]], change, 3))
                self.assertEqual([row for block in blocks for row in unpack(block.body)], rows)
                self.assertEqual([block.rows for block in blocks], [2, 1])

    def test_a_rule_that_makes_nothing_is_said_before_a_row_is_touched(self) -> None:
        with self.assertRaisesRegex(ImportRefused, "choose from"):
            list(
                rewritten(
                    [[["1"]]], Rewrite(what="insert", at=0, rule=ColumnRule(kind="choice")), 1
                )
            )
        self.assertEqual(list(rewritten([], Rewrite(what="delete", at=0), 0)), [])
