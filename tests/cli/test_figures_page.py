"""Benchmark figures: what a day's file holds, and the page of the newest."""

import json
import tempfile
from pathlib import Path
from unittest import TestCase

from dynamikos.cli.figures_page import Day, Figure, chart, markdown, read, write

ROOT = Path(__file__).parents[2]
FIRST = Figure("engine", "engine / C", 0.5, "", "≥ 0.3", True)


class Pages(TestCase):
    def test_a_figure_measured_again_the_same_day_takes_the_place_of_the_first(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        page = folder / "page.md"
        write(folder, page, [FIRST, Figure("pages", "window", 0.2, "s", "", True)])
        file = write(folder, page, [FIRST._replace(value=0.25, reached=False)])
        known = json.loads(file.read_bytes())
        self.assertEqual(
            [(each["figure"], each["value"]) for each in known["figures"]],
            [("engine / C", 0.25), ("window", 0.2)],
        )
        self.assertIn("| engine / C | 0.25 | ≥ 0.3: **not reached** |", page.read_text())
        self.assertIn("| window | 0.2 s |  |", page.read_text())

    def test_the_newest_stands_with_what_was_before_it(self) -> None:
        days = [
            Day("2026-01-01", "one", (FIRST,)),
            Day("2026-01-02", "two", (FIRST._replace(value=1.0),)),
        ]
        page = markdown(days)
        self.assertIn("| engine / C | 1 | ≥ 0.3: reached | 2026-01-02 | 1 | ▅█ |", page)
        self.assertIn("Machine 1: two.", page)

    def test_a_chart_needs_two_values(self) -> None:
        cases = {(): "", (3.0,): "", (0.0, 0.0): "▁▁", (1.0, 4.0): "▃█"}
        self.assertEqual({values: chart(values) for values in cases}, cases)

    def test_the_page_in_the_repository_is_what_its_files_make(self) -> None:
        page = ROOT / "docs" / "benchmarks.md"
        self.assertEqual(page.read_text(), markdown(read(ROOT / "bench" / "results")))
