"""1,000 arrivals a second, each a new user with a connection of its own, against Debian's nginx on
the other core: how late their planned instants are, what share of a processor that takes, and how
many exchanges of a loop in C on the same core in the same run; and 10,000 thinking users in a crowd
of three rows: memory of each.
"""

import asyncio
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.beside import c_loop, nginx
from bench.engine import Result
from dynamikos.cli.state import is_free, wait_for_port

RATE, SECONDS, USERS, ROUNDS = 1000, 20, 10_000, 3
PACE = 90_000  # exchanges of the C loop a processor second in the hours in which the goal was set


def child(what: str, port: int) -> None:
    """Prints the figures of one run; pinned to core 1 by whoever starts it."""
    import psutil
    import uvloop

    from dynamikos.core.frozen.freeze import Inputs, freeze
    from dynamikos.core.journeys import parse_journey
    from dynamikos.core.plans import Crowd, CrowdRow, Plan, parse_target
    from dynamikos.core.plans.workloads import Arrivals, Users, Workload
    from dynamikos.core.profiles import Stretch
    from dynamikos.engine.clock import RealClock
    from dynamikos.engine.limits import raise_descriptors
    from dynamikos.engine.network import RealNetwork
    from dynamikos.engine.runner import Shard, run
    from dynamikos.engine.testing import ListSink

    base = f"http://127.0.0.1:{port}"
    keys = ("a",) if what == "arrivals" else ("a", "b", "c")
    think_s = 0 if what == "arrivals" else 3
    journeys = {
        key: parse_journey(
            f"form: 1\njourney: {key}\nname: J\nrounds:\n  - step: s\n    name: S\n    think_s: "
            f"{think_s}\n"
            f'    requests:\n      - {{request: r, address: "{base}/kb", checks: [{{status: '
            f"200}}]}}\n"
        )
        for key in keys
    }
    rows = tuple(CrowdRow(row=key, journey=key) for key in keys)
    load: Workload = Arrivals(ceiling=2000) if what == "arrivals" else Users()
    profile = (
        (Stretch(stretch="burst", to=RATE, seconds=SECONDS),)
        if what == "arrivals"
        else (Stretch(stretch="climb", to=USERS, seconds=15), Stretch(stretch="hold", seconds=5))
    )
    crowd = Crowd(crowd="c", load=load, profile=profile, rows=rows)
    plan = Plan(form=2, plan="p", name="P", environment="e", crowds=(crowd,), grace_s=1)
    agreed = (parse_target(base),)
    frozen = freeze(
        Inputs(plan=plan, journeys=journeys, agreed=agreed), run="r", seed=1, checked=True
    )

    async def program() -> None:
        raise_descriptors()
        clock, network, sink = RealClock(), RealNetwork(frozen.agreed), ListSink()
        process = psutil.Process()
        before, used, begun = process.memory_info().rss, time.process_time(), time.perf_counter()
        shard = Shard(number=0, count=1, frozen=frozen, rows={}, secrets={})
        most = 0

        async def watch() -> None:
            nonlocal most
            while True:
                await asyncio.sleep(1)
                most = max(most, process.memory_info().rss)

        watching = asyncio.create_task(watch())
        await run(shard, network, clock, sink, begin=clock.now() + 0.2)
        watching.cancel()
        share = (time.process_time() - used) / (time.perf_counter() - begun)
        inner = [message for message in sink.messages if 2 <= message.second < SECONDS - 1]
        late = [
            statistics.median(m.health.late_p50_us for m in inner),
            statistics.median(m.health.late_p99_us for m in inner),
            max(m.health.late_p99_us for m in inner),
        ]
        came = [sum(message.arrivals[at] for message in sink.messages) for at in range(3)]
        answered = sum(message.answered for message in sink.messages)
        print(share, *late, *came, answered, network.open_count(), max(0, most - before))
        await network.aclose()
        clock.close()

    uvloop.run(program())


def run() -> list[Result]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        port = next(port for port in range(18300, 18400) if is_free(port))
        server = nginx(folder, port, connections=2 * USERS)
        try:
            wait_for_port(port, 5)
            loop = c_loop(folder)

            def pinned(*command: str) -> list[float]:
                out = subprocess.run(
                    ["taskset", "-c", "1", *command], capture_output=True, text=True, check=True
                )
                return [float(each) for each in out.stdout.split()]

            rounds, paces = [], []
            for _ in range(ROUNDS):
                exchanges, seconds, *_ = pinned(str(loop), str(port), "50", "3")
                paces.append(exchanges / seconds)
                rounds.append(pinned(sys.executable, "-m", "bench.arrivals", "arrivals", str(port)))
            thinking = pinned(sys.executable, "-m", "bench.arrivals", "users", str(port))
        finally:
            server.terminate()
            server.wait()
    share, p50, p99, worst = (statistics.median(each[at] for each in rounds) for at in range(4))
    started, turned, not_started, answered, opened = (
        sum(each[at] for each in rounds) for at in range(4, 9)
    )
    at_pace = statistics.median(
        each[0] * pace / PACE for each, pace in zip(rounds, paces, strict=True)
    )
    wanted = RATE * SECONDS * ROUNDS
    each_kb = thinking[9] / USERS / 1000
    return [
        ("arrivals started of those planned", started, f" of {wanted:,}", "all", started == wanted),
        ("turned away, not started", turned + not_started, "", "0", not turned + not_started),
        ("connections opened", opened, "", f"{wanted:,}", opened == wanted),
        ("answered", answered, "", f"{wanted:,}", answered == wanted),
        ("C epoll loop, exchanges per processor second", statistics.median(paces), "/s", "", True),
        ("share of one processor", 100 * share, "%", "", True),
        (f"the same where the C loop does {PACE:,}", 100 * at_pace, "%", "≤ 50", at_pace <= 0.5),
        (
            "lateness of planned instants, p50 of the median second",
            p50 / 1000,
            "ms",
            "≤ 0.2",
            p50 <= 200,
        ),
        ("lateness, p99 of the median second", p99 / 1000, "ms", "≤ 2", p99 <= 2000),
        ("lateness, p99 of the worst second", worst / 1000, "ms", "", True),
        ("10,000 thinking users in three rows, each", each_kb, "kB", "≤ 12", each_kb <= 12),
    ]


if __name__ == "__main__":
    child(sys.argv[1], int(sys.argv[2]))
