"""The package as it is installed: a wheel, outside of this repository, gives the command and all
its files.
"""

import json
import os
import shutil
import subprocess
import sys
import tempfile
import zipfile
from pathlib import Path
from unittest import TestCase

ROOT = Path(__file__).parents[2]
BUILD = "import sys; from setuptools.build_meta import build_wheel; print(build_wheel(sys.argv[1]))"


class Wheel(TestCase):
    def test_it_has_all_files_and_performs_a_plan(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            place = Path(name)
            source, installed, plans = place / "source", place / "installed", place / "plans"
            shutil.copytree(
                ROOT / "src",
                source / "src",
                ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"),
            )
            shutil.copy(ROOT / "pyproject.toml", source)
            built = subprocess.run(
                [sys.executable, "-c", BUILD, str(place)],
                cwd=source,
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual(built.returncode, 0, built.stderr[-2000:])
            with zipfile.ZipFile(next(place.glob("dynamikos-*.whl"))) as wheel:
                wheel.extractall(installed)
            there = {
                path.relative_to(source / "src")
                for path in (source / "src").rglob("*")
                if path.is_file()
            }
            have = {path.relative_to(installed) for path in installed.rglob("*") if path.is_file()}
            built_by = {
                path for path in there if any(part.endswith(".egg-info") for part in path.parts)
            }
            self.assertEqual(there - have - built_by, set())
            points = next(installed.glob("*.dist-info/entry_points.txt")).read_text()
            self.assertIn("dynamikos = dynamikos.cli.__main__:main", points)
            shutil.copytree(ROOT / "examples", plans)
            command = "from dynamikos.cli.__main__ import main; main()"
            environment = {
                **os.environ,
                "PYTHONPATH": str(installed),
                "DYNAMIKOS_STATE_FOLDER": str(place / "state"),
            }
            environment["DYNAMIKOS_INTERPRETED"] = (
                "1"  # machine code of this repository is not the wheel's
            )
            run = subprocess.run(
                [
                    sys.executable,
                    "-c",
                    command,
                    "run",
                    str(plans / "evening.plan.yaml"),
                    "--duration",
                    "3",
                    "--users",
                    "2",
                    "--json",
                    str(place / "run.json"),
                ],
                cwd=place,
                env=environment,
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertIn(run.returncode, (0, 1, 3), run.stdout + run.stderr)
            found = json.loads((place / "run.json").read_text())
            self.assertGreater(found["exchanges"]["sent"], 5)
            self.assertEqual(found["exchanges"]["failed"], 0)
