"""Machine code is taken where it was made from the sources as they are, and nowhere else."""

import os
import shutil
import subprocess
import sys
import tempfile
from importlib.machinery import EXTENSION_SUFFIXES
from pathlib import Path
from unittest import TestCase, skipUnless

from dynamikos.machine.loading import Finder
from dynamikos.machine.making import NotMade, make, read_with
from dynamikos.machine.modules import MADE_FROM, MODULES, SOURCES, SWITCH, is_current, source_of

SUM = """from sample.more import ADDED

class Adder:
    by = ADDED

    def __init__(self, first: int) -> None:
        self.first = first

    def more(self, second: int) -> int:
        return self.first + second + self.by
"""
CAN_COMPILE = shutil.which("gcc") is not None and Path("/usr/include/python3.11/Python.h").exists()


@skipUnless(CAN_COMPILE, "there is no C compiler with Python's headers")
class Made(TestCase):
    """Two small modules, of which one is compiled."""

    def setUp(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.sources, self.place = folder / "src", folder / "code"
        package = self.sources / "sample"
        package.mkdir(parents=True)
        (package / "__init__.py").write_text("")
        (package / "more.py").write_text("ADDED = 100\n")
        (package / "sum.py").write_text(SUM)
        make(self.place, ["sample.sum"], self.sources)

    def is_current(self) -> bool:
        return is_current(self.place, ["sample.sum"], self.sources)

    def test_it_is_found_computes_the_same_and_goes_with_its_sources(self) -> None:
        self.assertTrue(self.is_current())
        self.assertIn("sample.sum", Finder(self.place).files)
        program = (
            "import sys; from pathlib import Path; from dynamikos.machine.loading import Finder;"
            f" sys.meta_path.insert(0, Finder(Path({str(self.place)!r})));"
            " from sample import sum; print(sum.__file__, sum.Adder(1).more(2))"
        )
        paths = f"{self.sources}:{SOURCES}"
        told = subprocess.check_output(
            [sys.executable, "-c", program], env={"PYTHONPATH": paths}, text=True
        ).split()
        self.assertTrue(
            told[0].startswith(str(self.place)) and told[0].endswith(EXTENSION_SUFFIXES[0]), told
        )
        self.assertEqual(told[1], "103")
        self.assertFalse(is_current(self.place, ["sample.sum", "sample.more"], self.sources))

        # what it imports counts as well: its types were relied on
        for changed in ("more.py", "sum.py"):
            with self.subTest(changed=changed):
                path = self.sources / "sample" / changed
                before = path.read_text()
                path.write_text(before + "\n")
                self.assertFalse(self.is_current())
                path.write_text(before)
                self.assertTrue(self.is_current())
        (self.sources / "sample" / "more.py").unlink()
        self.assertFalse(self.is_current())

    def test_what_can_not_be_compiled_is_said_and_leaves_what_was_there(self) -> None:
        before = (self.place / MADE_FROM).read_bytes()
        (self.sources / "sample" / "sum.py").write_text(SUM.replace("-> int:", "-> str:"))
        with self.assertRaisesRegex(NotMade, "sum.py:10: error: Incompatible return value"):
            make(self.place, ["sample.sum"], self.sources)
        self.assertEqual((self.place / MADE_FROM).read_bytes(), before)
        self.assertEqual(sorted(each.name for each in self.place.parent.iterdir()), ["code", "src"])


class Ours(TestCase):
    def test_every_module_has_a_source_and_what_it_imports_is_watched(self) -> None:
        watched = read_with(MODULES)
        for module in MODULES:
            self.assertIn(source_of(module), watched)
        self.assertIn(source_of("dynamikos.engine.reporting.recorder"), watched)

    def test_they_run_as_machine_code_where_there_is_some_and_as_python_when_told_so(self) -> None:
        program = (
            "import importlib, sys; print(*(importlib.import_module(each).__file__ for each in "
            "sys.argv[1:]))"
        )
        for switch, suffix in (
            ("", EXTENSION_SUFFIXES[0] if is_current() else ".py"),
            ("1", ".py"),
        ):
            environment = {**os.environ, SWITCH: switch, "PYTHONPATH": str(SOURCES)}
            command = [sys.executable, "-c", program, *MODULES]
            files = subprocess.check_output(command, env=environment, text=True).split()
            self.assertEqual({file.endswith(suffix) for file in files}, {True}, files)
            self.assertEqual(len(files), len(MODULES))

    def test_garbage_in_its_place_is_not_taken(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.assertFalse(is_current(folder))
        for text in (
            "",
            "{",
            "[]",
            '{"python": 1, "modules": 2, "sources": []}',
            '{"sources": {"../x": "y"}}',
        ):
            (folder / MADE_FROM).write_text(text)
            self.assertFalse(is_current(folder), text)
