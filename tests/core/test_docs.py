"""The documents name files, names and links that are there."""

import re
from pathlib import Path
from unittest import TestCase

ROOT = Path(__file__).parents[2]
FOLDER = ROOT / "docs" / "developing"
PATH = re.compile(r"`((?:src|tests|bench|docs|web|cli|core)/[\w./-]+)`")
NAMED = re.compile(r"`(?:User\.)?([A-Za-z_]\w+)` (?:in|of)\s+`((?:src|tests)/[\w./-]+\.py)`")
LINK = re.compile(r"\]\(([^)#]+)\)")


def place(path: str) -> Path:
    short = path.startswith(("web/", "cli/", "core/"))
    return ROOT / "src" / "dynamikos" / path if short else ROOT / path


class Documents(TestCase):
    def test_what_they_name_is_there(self) -> None:
        checked = 0
        for document in [
            *FOLDER.parent.rglob("*.md"),
            ROOT / "CONTRIBUTING.md",
            ROOT / "README.md",
        ]:
            text = document.read_text()
            for path in PATH.findall(text):
                self.assertTrue(place(path).exists(), f"{document.name}: {path}")
                checked += 1
            for link in LINK.findall(text):
                self.assertTrue((document.parent / link).exists(), f"{document.name}: {link}")
                checked += 1
            for name, path in NAMED.findall(text):
                self.assertIn(name, place(path).read_text(), f"{document.name}: {name} in {path}")
                checked += 1
        self.assertGreater(checked, 100)

    def test_what_a_generator_may_do_is_told(self) -> None:
        from dynamikos.cli.processes import GRANTS

        page = (FOLDER / "database-grants.md").read_text()
        told = 0
        for statement in GRANTS:
            if "dynamikos_generator" in statement and " ON " in statement:
                for name in re.findall(r"\b[a-z]+_[a-z_]+\b", statement):
                    if name not in ("dynamikos_generator", "dynamikos_web"):
                        told += 1
                        named = page if not name.startswith("pg_") else name
                        self.assertIn(name, named, statement)
        self.assertGreater(told, 25)

    def test_every_page_is_reached_from_the_first(self) -> None:
        seen, waiting = set(), [FOLDER / "start-here.md"]
        while waiting:
            page = waiting.pop()
            if page not in seen and page.suffix == ".md":
                seen.add(page)
                waiting += [
                    (page.parent / link).resolve() for link in LINK.findall(page.read_text())
                ]
        self.assertEqual([page.name for page in FOLDER.glob("*.md") if page not in seen], [])
