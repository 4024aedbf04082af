"""What an installation that does nothing takes of one core: the demo, started before (./dynamikos
demo), and a second generator.
"""

import subprocess
import sys
import time

import psutil

from dynamikos.cli.state import State

Result = tuple[str, float, str, str, bool]
LOOKED_S, MOST_PERCENT, COMES_TO_REST_S = 60.0, 1.0, 30.0
NOT_OURS = ("target", "demo")  # a server that answers, and what keeps an eye on the processes


def spent(process: psutil.Process) -> float:
    """Seconds of processor of it and its children."""
    total = 0.0
    for each in (process, *process.children(recursive=True)):
        try:
            times = each.cpu_times()
            total += times.user + times.system
        except psutil.NoSuchProcess:
            continue
    return total


def run() -> list[Result]:
    """The share of each process, and all of them beside the goal."""
    living = {name: each for name, each in State.open().living().items() if name not in NOT_OURS}
    if not living:
        print(
            "idle: nothing is running; start ./dynamikos demo, let it come to rest, and call again"
        )
        return [("idle, processes found", 0, "", "> 0", False)]
    second = subprocess.Popen(
        [sys.executable, "-m", "dynamikos.cli", "generator"], stderr=subprocess.DEVNULL
    )
    try:
        time.sleep(COMES_TO_REST_S)
        return _looked({**living, "second generator": psutil.Process(second.pid)})
    finally:
        second.terminate()
        second.wait()


def _looked(living: dict[str, psutil.Process]) -> list[Result]:
    before = {name: spent(each) for name, each in living.items()}
    begun = time.monotonic()
    time.sleep(LOOKED_S)
    seconds = time.monotonic() - begun
    shares = {name: 100 * (spent(each) - before[name]) / seconds for name, each in living.items()}
    made: list[Result] = [
        (f"idle, {name}", round(share, 2), "% of a core", "", True)
        for name, share in shares.items()
    ]
    total = round(sum(shares.values()), 2)
    return [
        *made,
        ("idle, all", total, "% of a core", f"≤ {MOST_PERCENT:g}", total <= MOST_PERCENT),
    ]
