"""Our own sources are written for people: no line of a template, script or style is longer
than 120 columns (of Python 100, by ruff), no function of a script than 40 lines.
"""

import re
from collections.abc import Iterator
from pathlib import Path
from unittest import TestCase

from radon.complexity import cc_visit
from vulture import Vulture

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


# Complexity as radon counts it. What is long and has few branches is a list, no knot.
MOST, MOST_LONG, LONG = 20, 15, 60
KNOTS = {
    "engine/users/walking.py Walk.go": "all that follows an answer, in one loop: a call costs time",
    "core/verdicts/outcome.py conclude": "half of it are the 40 fields of an outcome",
    "core/exchanges/har_out.py _entry": "an entry of a HAR file, field by field",
    "core/analysis/gathering.py evidence_of": "the evidence, field by field",
    "core/dealing/generate.py maker": "one case for each kind of rule",
    "core/plans/preflight.py _generators": "one sentence for each limit of a generator",
    "core/exchanges/har.py read_har": "one refusal after the other, in the order of the format",
    "cli/folder.py one_run": "reads a folder, file by file",
    "cli/commands/test.py command": "one stage after the other",
}


def functions() -> Iterator[tuple[str, int, int]]:
    """(file and name, complexity, lines) of each function of the product."""
    for path in sorted((ROOT / "src").rglob("*.py")):
        if "migrations" in path.parts:
            continue
        file = str(path.relative_to(ROOT / "src")).removeprefix("dynamikos/")
        for block in cc_visit(path.read_text(encoding="utf-8")):
            for each in getattr(block, "methods", [block]):
                yield f"{file} {each.fullname}", each.complexity, each.endline - each.lineno + 1


class Knots(TestCase):
    def test_no_function_is_a_knot_but_those_with_a_reason(self) -> None:
        knots = {
            name
            for name, complexity, lines in functions()
            if complexity > MOST or (lines > LONG and complexity > MOST_LONG)
        }
        self.assertEqual(knots, set(KNOTS))
        self.assertLessEqual(len(KNOTS), 10)

    def test_a_knot_would_be_found(self) -> None:
        source = "def tied(x):\n" + "".join(
            f"    if x == {n}:\n        x += 1\n" for n in range(20)
        )
        (found,) = cc_visit(source)
        self.assertEqual((found.fullname, found.complexity), ("tied", MOST + 1))


# What is called by libraries, by these names
CALLED = """
list_commands get_command format_commands
ignore_aliases visit_* call_binop call_unop getitem is_safe_*
on_* handle_* eof_received find_spec _loop_notify
*Config process_view process_exception ClearErrors Tabs
test_* setUp* tearDown* log_message do_*
""".split()  # of click; yaml and jinja; parsers, asyncio and import; Django; tests
UNUSED = ("function", "class", "method", "property", "import", "unreachable_code")


class Dead(TestCase):
    def test_nothing_of_the_product_is_there_for_nobody(self) -> None:
        """What templates and scripts name is used, too."""
        search = Vulture(
            ignore_names=CALLED, ignore_decorators=["@register.*", "@*.task", "@*.task(*)"]
        )
        folders = [str(ROOT / each) for each in ("src", "tests", "bench")]
        search.scavenge(folders, exclude=["*/migrations/*"])
        texts = " ".join(path.read_text(encoding="utf-8") for kind in KINDS for path in own(kind))
        named = set(re.findall(r"\w+", texts))
        dead = [
            f"{Path(each.filename).relative_to(ROOT)}:{each.first_lineno} {each.name}"
            for each in search.get_unused_code(min_confidence=60)
            if each.typ in UNUSED and each.name not in named and "src" in Path(each.filename).parts
        ]
        self.assertEqual(dead, [])
