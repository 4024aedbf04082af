"""Five hundred clear runs of the core's simulation, of one to four minutes and four to sixty-five
users: what is found about the target is false; and what looking at one takes.
"""

import time
from collections import Counter

from bench.engine import Result
from dynamikos.core.analysis.findings import findings

RUNS, MOST = 500, 10


def run() -> list[Result]:
    from tests.core.scenes import Scene

    found: Counter[str] = Counter()
    took = 0.0
    for seed in range(RUNS):
        scene = Scene(
            20_000 + seed, users=(4, 12, 25, 45, 65)[seed % 5], seconds=(60, 120, 240)[seed % 3]
        )
        evidence = scene.evidence()
        begun = time.perf_counter()
        found.update(f"{each.about}: {each.rule}" for each in findings(evidence))
        took += time.perf_counter() - begun
    false = sum(count for name, count in found.items() if name.startswith("target"))
    rest = sum(found.values()) - false
    return [
        (f"findings about the target in {RUNS} clear runs", false, "", f"≤ {MOST}", false <= MOST),
        ("findings about measurement and script in them", rest, "", "", True),
        ("looking at one run", 1000 * took / RUNS, "ms", "", True),
    ]
