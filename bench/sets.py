"""Sets of real runs compared: the stand-in as it is against itself, against one resource half as
slow again, and against one a tenth slower. Runs alternate, each against a stand-in of its own, with
the generator on another core.
"""

import math
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from bench.ladder import Result
from dynamikos.cli import folder
from dynamikos.cli.state import ROOT, is_free, wait_for_port
from dynamikos.core.comparison import Comparison, Difference, compare
from dynamikos.core.verdicts.states import NOT_JUDGED

RUNS, PER_S, WARM_S, MEASURED_S = 4, 60, 8, int(os.environ.get("DYNAMIKOS_SETS_S", "84"))
TRIES = 4  # a run that is not valid is made again, as anybody would do
KINDS = {"a": "", "b": "", "half": "disk=1.5", "tenth": "disk=1.1"}
SLOWED = {"Look at an object"}  # the step whose request passes the disk
JOURNEY = "sky-browser.yaml"
PLAN = """form: 2
plan: sets
name: Sky browsers
environment: environment.yaml
crowds:
  - crowd: visitors
    load: {{workload: arrivals, per: second, spread: poisson, ceiling: 900}}
    profile:
      - {{stretch: burst, to: {per_s}, seconds: {seconds}}}
    rows:
      - {{row: browsing, journey: {journey}}}
measured: [{warm}, {seconds}]
new_seed: true
"""


def run() -> list[Result]:
    with tempfile.TemporaryDirectory() as name:
        place, made = Path(name), 0
        for turn in range(RUNS):
            for at, (kind, slower) in enumerate(KINDS.items()):
                for again in range(TRIES):
                    made += 1
                    seed = 100 * turn + 10 * again + at
                    if _performed(place, f"{kind}-{turn}", slower, seed) != NOT_JUDGED:
                        break
        sides = {
            kind: [folder.one_run(place / f"{kind}-{turn}")[0] for turn in range(RUNS)]
            for kind in KINDS
        }
    doubted = {each for kind in KINDS for each in compare(sides["a"], sides[kind]).left_out}
    for name, why in doubted:
        print(f"  left out, {name}: {why}")
    same, half, tenth = (compare(sides["a"], sides[kind]) for kind in ("b", "half", "tenth"))
    samples = min(
        line.n
        for run in sides["a"]
        for key, line in run.lines.items()
        if key[0] == "step" and line.n
    )
    return [
        ("runs made for sixteen valid ones", made, "", "", True),
        ("samples of a step and run, at least", samples, "", "", True),
        ("runs left out for doubts, of sixteen", len(doubted), "", "0", not doubted),
        ("as it is against itself: exit code", same.exit_code, "", "0", same.exit_code == 0),
        (
            "half as slow again: steps called worse that are",
            len(_worse(half) & SLOWED),
            "",
            "1",
            _worse(half) == SLOWED,
        ),
        (
            "half as slow again: others called worse",
            len(_worse(half) - SLOWED),
            "",
            "0",
            _worse(half) <= SLOWED,
        ),
        ("half as slow again: change of that step's mean", 100 * _change(half), "%", "", True),
        ("a tenth slower: change of that step's mean", 100 * _change(tenth), "%", "", True),
        (
            "a tenth slower: smallest change that would be seen",
            100 * _smallest(tenth),
            "%",
            "",
            True,
        ),
        (
            "a tenth slower: others called worse",
            len(_worse(tenth) - SLOWED),
            "",
            "0",
            _worse(tenth) <= SLOWED,
        ),
    ]


def _worse(found: Comparison) -> set[str]:
    return {each.name for each in found.differences if each.word == "worse"}


def _mean(found: Comparison) -> Difference | None:
    mine = (
        each for each in found.differences if each.name in SLOWED and each.wanted.measure == "mean"
    )
    return next(mine, None)


def _change(found: Comparison) -> float:
    mine = _mean(found)
    return mine.change if mine is not None and mine.change is not None else math.nan


def _smallest(found: Comparison) -> float:
    mine = _mean(found)
    return mine.smallest if mine is not None and mine.smallest is not None else math.nan


def _performed(place: Path, name: str, slower: str, seed: int) -> int:
    """One run, kept in a folder of its name in place of an earlier one; its exit code."""
    shutil.rmtree(place / name, ignore_errors=True)
    port = next(port for port in range(18700, 18800) if is_free(port))
    target = [sys.executable, "-m", "observatory", "--port", str(port), "--seed", str(seed)]
    environment = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
    target_process = subprocess.Popen(
        ["taskset", "-c", "0", *target, *(["--slower", slower] if slower else [])], env=environment
    )
    try:
        assert wait_for_port(port, 15)
        journey = ROOT / "examples" / "journeys" / JOURNEY
        (place / JOURNEY).write_bytes(journey.read_bytes())
        (place / "plan.yaml").write_text(
            PLAN.format(per_s=PER_S, seconds=WARM_S + MEASURED_S, warm=WARM_S, journey=JOURNEY)
        )
        (place / "environment.yaml").write_text(
            "form: 1\nenvironment: e\nname: E\n"
            f'addresses:\n  observatory: "http://127.0.0.1:{port}"\nagreed:\n  - '
            f'"http://127.0.0.1:{port}"\n'
        )
        command = [
            sys.executable,
            "-m",
            "dynamikos.cli",
            "run",
            str(place / "plan.yaml"),
            "--keep",
            str(place / name),
        ]
        done = subprocess.run(
            ["taskset", "-c", "1", *command],
            env=environment,
            capture_output=True,
            text=True,
            check=False,
        )
        assert (place / name / folder.RUN).exists(), done.stdout + done.stderr
        print(f"  {name}: {done.returncode}", flush=True)
        return done.returncode
    finally:
        target_process.terminate()
        target_process.wait()
