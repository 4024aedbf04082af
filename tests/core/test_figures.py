"""Numbers as people write them, and what is none."""

import re
from pathlib import Path
from unittest import TestCase

from dynamikos.core import figures as figures_module
from dynamikos.core.figures import clock, digits, figure, milliseconds, odds, short, signed
from dynamikos.core.unsafe_characters import storable


class Written(TestCase):
    def test_changes_have_their_sign_and_thousands_and_no_powers_of_ten(self) -> None:
        for part, unit, said in (
            (0.123, "%", "+12.3 %"),
            (-0.005, "points", "-0.5 points"),
            (46.8, "%", "+4,680 %"),
            (0.0, "%", "+0 %"),
            (-9.999, "%", "-1,000 %"),
            (9.99, "", "+999"),
        ):
            self.assertEqual(signed(part, unit), said)

    def test_how_likely_something_is_by_chance(self) -> None:
        for p, said in (
            (0.0, "less than 1 in a million"),
            (9e-7, "less than 1 in a million"),
            (0.00025, "1 in 4,000"),
            (0.01, "1 %"),
            (0.125, "12.5 %"),
            (1.2, "100 %"),
        ):
            self.assertEqual(odds(p), said)

    def test_short_ones_have_no_powers_of_ten_where_they_are_large(self) -> None:
        for value, figures, said in (
            (0.001234, 3, "0.00123"),
            (12.34, 3, "12.3"),
            (999.4, 3, "999"),
            (999.7, 3, "1,000"),
            (1250, 3, "1,250"),
            (-45_000.4, 3, "-45,000"),
            (9_999.4, 4, "9,999"),
            (12_345, 4, "12,345"),
            (0, 3, "0"),
        ):
            self.assertEqual(short(value, figures), said)
        self.assertEqual(milliseconds(1_250_000), "1,250 s")

    def test_no_figure_is_written_by_the_general_form_alone(self) -> None:
        """Rates, shares and times grow beyond a thousand: `short` writes them."""
        root = Path(figures_module.__file__).parents[1]
        found = [
            f"{path.name}:{number}" for path in sorted(root.rglob("*.py"))
            for number, line in enumerate(path.read_text().split("\n"), 1)
            if re.search(r":\+?\.[34]g\}? ?(/s|rounds|exchanges|MB|GB|kB|Mbit)", line)
        ]  # fmt: skip
        self.assertEqual(found, [])

    def test_the_clock(self) -> None:
        for seconds, said in (
            (0, "00:00"),
            (275.9, "04:35"),
            (3599, "59:59"),
            (3723, "1:02:03"),
            (36_000, "10:00:00"),
        ):
            self.assertEqual(clock(seconds), said)


class Figures(TestCase):
    def test_signs(self) -> None:
        for text, value in (
            ("12", 12),
            ("-1.5", -1.5),
            ("+2", 2),
            ("1e3", 1000),
            (" 7 ", 7),
            ("4,000", 4000),
            ("4 000", 4000),
            ("4\u00a0000,5", 4000.5),
            ("1,234,567", 1_234_567),
            ("1,234.5", 1234.5),
            ("12,5", 12.5),
            ("12,50", 12.5),
            ("0,125", 0.125),
            ("1234,567", 1234.567),
            ("1.234,5", 1234.5),
            ("1.234.567,5", 1_234_567.5),
            ("-1,000", -1000),
        ):
            with self.subTest(text):
                self.assertEqual(figure(text), value)

    def test_what_is_none(self) -> None:
        for text in (
            "",
            "many",
            "nan",
            "inf",
            "-Infinity",
            "1e999",
            "1,2,3",
            "1_000",
            "0x10",
            "1.2.3",
        ):
            with self.subTest(text):
                self.assertIsNone(figure(text))

    def test_digits_alone(self) -> None:
        self.assertEqual([digits(text) for text in ("0", "007", "9" * 18)], [0, 7, 10**18 - 1])
        for text in ("", "²", "٣", "-1", "+1", "1 ", "1.0", "9" * 19, "9" * 5000):
            with self.subTest(text[:30]):
                self.assertIsNone(digits(text))

    def test_signs_that_no_database_keeps(self) -> None:
        told = {"a\0": ["\ud800b", {"c": "d\udfff"}, 1, None], "e": ("f\U0001f600",)}
        self.assertEqual(
            storable(told),
            {"a\ufffd": ["\ufffdb", {"c": "d\ufffd"}, 1, None], "e": ["f\U0001f600"]},
        )
