"""Our own sources are written for people: no line of a template, script or style is longer
than 120 columns (of Python 100, by ruff), no function of a script than 40 lines.
"""

import re
from pathlib import Path
from unittest import TestCase

ROOT = Path(__file__).parents[2]
KINDS = ("*.html", "*.js", "*.css")  # of Python sources ruff says it
BEGINS = re.compile(
    r"^(\s*)(?:export )?(?:const \w+ = (?:async )?\(.*=> \{|(?:async )?[\w]+\(.*\) \{|class \w+)$"
)


def own(kind: str) -> list[Path]:
    """Our files of a kind: nothing vendored, nothing that is made."""
    found = [path for folder in ("src", "tests", "bench") for path in (ROOT / folder).rglob(kind)]
    return [path for path in found if "vendor" not in path.parts]


class Sources(TestCase):
    def test_no_line_is_longer_than_120_columns(self) -> None:
        long: list[str] = []
        for kind in KINDS:
            files = own(kind)
            self.assertGreater(len(files), 5, kind)
            for path in files:
                for number, line in enumerate(path.read_text(encoding="utf-8").splitlines(), 1):
                    if len(line) > 120:
                        long.append(f"{path.relative_to(ROOT)}:{number}")
        self.assertEqual(long, [])

    def test_no_function_of_a_script_is_longer_than_40_lines(self) -> None:
        long, functions = [], 0
        for path in own("*.js"):
            lines = path.read_text(encoding="utf-8").splitlines()
            for number, line in enumerate(lines):
                found = BEGINS.match(line)
                if found is None or "class " in line:
                    continue
                functions += 1
                end = next(
                    (
                        at
                        for at in range(number + 1, len(lines))
                        if re.match(rf"{found[1]}\}}", lines[at])
                    ),
                    number,
                )
                if end - number > 40:
                    long.append(f"{path.relative_to(ROOT)}:{number + 1} ({end - number} lines)")
        self.assertGreater(functions, 150)
        self.assertEqual(long, [])
