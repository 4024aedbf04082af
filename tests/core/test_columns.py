"""One table of columns: each place shows its own of them, and a figure reads the same in all."""

from unittest import TestCase

import msgspec

from dynamikos.core.reports import Row
from dynamikos.core.reports.columns import COLUMNS, EVERYWHERE, KEYS, shown_at, values

FULL = Row(
    name="Find",
    count=1234,
    failures=2,
    per_s=12.3456,
    min_ms=1.0,
    mean_ms=15.25,
    sd_ms=2.0,
    p50_ms=14.0,
    p90_ms=20.0,
    p95_ms=999.6,
    p99_ms=1940.0,
    max_ms=2000.0,
    timed=1232,
)


def cells(row: Row) -> dict[str, str]:
    return {each.key: each.text(row) for each in shown_at("page")}


class Columns(TestCase):
    def test_each_is_a_figure_of_a_row_once_and_files_have_all(self) -> None:
        self.assertEqual(len(set(KEYS)), len(KEYS))
        self.assertLessEqual(set(KEYS), set(Row.__struct_fields__))
        self.assertEqual(values([FULL])[0][KEYS.index("count")], 1234)
        self.assertEqual(len(values([FULL])[0]), len(KEYS))

    def test_each_place_has_the_same_of_what_it_shows(self) -> None:
        page = {each.key: (each.title, each.text(FULL)) for each in shown_at("page")}
        for place in EVERYWHERE:
            shown = {each.key: (each.title, each.text(FULL)) for each in shown_at(place)}
            self.assertLessEqual(shown.items(), page.items())
            self.assertLessEqual(
                {"count", "failures", "per_s", "mean_ms", "p95_ms", "max_ms"}, set(shown)
            )
        for each in COLUMNS:
            self.assertEqual(bool(each.title), bool(each.where), each.key)

    def test_figures_as_they_are_written(self) -> None:
        self.assertEqual(
            cells(FULL),
            {
                "count": "1,234",
                "failures": "2",
                "per_s": "12.3",
                "min_ms": "1 ms",
                "mean_ms": "15.2 ms",
                "sd_ms": "2 ms",
                "p50_ms": "14 ms",
                "p90_ms": "20 ms",
                "p95_ms": "1 s",
                "p99_ms": "1.94 s",
                "max_ms": "2 s",
            },
        )

    def test_what_is_only_a_bound_uncertain_or_not_known_is_marked(self) -> None:
        bound = msgspec.structs.replace(FULL, at_least=("p95_ms", "mean_ms", "max_ms"))
        self.assertEqual(
            [cells(bound)[key] for key in ("mean_ms", "p95_ms", "max_ms")],
            ["≥ 15.2 ms", "≥ 1 s", "≥ 2 s"],
        )
        self.assertEqual(cells(bound)["p50_ms"], "14 ms")
        few = msgspec.structs.replace(FULL, count=30, failures=0, timed=30, p99_ms=None)
        self.assertEqual((cells(few)["p95_ms"][:1], cells(few)["p99_ms"]), ("~", "?"))
        none = Row(name="Find")
        self.assertEqual(
            (cells(none)["p95_ms"], cells(none)["mean_ms"], cells(none)["count"]), ("–", "–", "0")
        )

    def test_what_failed_is_marked(self) -> None:
        bad = [each.key for each in shown_at("page") if each.is_bad(FULL)]
        self.assertEqual(bad, ["failures"])
        self.assertEqual([each.key for each in COLUMNS if each.is_bad(Row())], [])
