"""1,000 users over a named line against Debian's nginx on the other core: what 20 kB take them
beside what arithmetic says, which share of a processor that takes, and the memory of each; the same
users without a line beside them.
"""

import asyncio
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.beside import nginx
from bench.engine import Result
from dynamikos.cli.state import is_free, wait_for_port

USERS, SECONDS, BYTES, LINE = 1000, 20, 20_000, "town radio"


def child(line: str, port: int) -> None:
    """Prints the figures of one run; pinned to core 1 by whoever starts it."""
    import psutil
    import uvloop

    from dynamikos.core.frozen import every_series
    from dynamikos.core.frozen.freeze import Inputs, freeze
    from dynamikos.core.journeys import parse_journey
    from dynamikos.core.personas import Line, Persona
    from dynamikos.core.plans import Crowd, CrowdRow, Plan, parse_target
    from dynamikos.core.plans.workloads import Users
    from dynamikos.core.profiles import Stretch
    from dynamikos.core.reports import Ledger
    from dynamikos.engine.clock import RealClock
    from dynamikos.engine.limits import raise_descriptors
    from dynamikos.engine.network import RealNetwork
    from dynamikos.engine.runner import Shard, run
    from dynamikos.engine.testing import ListSink

    base = f"http://127.0.0.1:{port}"
    journey = parse_journey(
        "form: 1\njourney: j\nname: J\nrounds:\n  - step: s\n    name: S\n    think_s: 3\n"
        f'    requests:\n      - {{request: r, address: "{base}/20kb", checks: [{{status: '
        f"200}}]}}\n"
    )
    personas = {
        "p": Persona(
            form=1, persona="p", line=Line(line=line, jitter_ms=0) if line != "none" else None
        )
    }
    profile = (
        Stretch(stretch="climb", to=USERS, seconds=8),
        Stretch(stretch="hold", seconds=SECONDS - 8),
    )
    crowd = Crowd(
        crowd="c",
        load=Users(),
        profile=profile,
        rows=(CrowdRow(row="r", journey="j", persona="p"),),
    )
    plan = Plan(
        form=2,
        plan="p",
        name="P",
        environment="e",
        crowds=(crowd,),
        grace_s=3,
        measured=(12.0, float(SECONDS)),
    )
    inputs = Inputs(
        plan=plan, journeys={"j": journey}, personas=personas, agreed=(parse_target(base),)
    )
    frozen = freeze(inputs, run="r", seed=1, checked=True)

    async def program() -> None:
        raise_descriptors()
        clock, network, sink = RealClock(), RealNetwork(frozen.agreed), ListSink()
        process = psutil.Process()
        before, used, begun, most = (
            process.memory_info().rss,
            time.process_time(),
            time.perf_counter(),
            0,
        )

        async def watch() -> None:
            nonlocal most
            while True:
                await asyncio.sleep(1)
                most = max(most, process.memory_info().rss)

        watching = asyncio.create_task(watch())
        shard = Shard(number=0, count=1, frozen=frozen, rows={}, secrets={})
        await run(shard, network, clock, sink, begin=clock.now() + 0.2)
        watching.cancel()
        share = (time.process_time() - used) / (time.perf_counter() - begun)
        window = Ledger(every_series(frozen))
        for message in sink.messages:
            window.add(message, totals=frozen.measured[0] <= message.second < frozen.measured[1])
        passed = window.all_of("request").passed
        late = statistics.median(m.health.late_p99_us for m in sink.messages if m.second >= 10)
        print(
            share,
            passed.n,
            passed.percentile_us(50),
            passed.percentile_us(95),
            late,
            max(0, most - before),
        )
        await network.aclose()
        clock.close()

    uvloop.run(program())


def run() -> list[Result]:
    from dynamikos.core.personas import LINES

    down, _, latency, _ = LINES[LINE]
    wanted_ms = latency + 1000 * BYTES / (down * 125)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        port = next(port for port in range(18300, 18400) if is_free(port))
        server = nginx(folder, port, connections=4 * USERS)
        (folder / "20kb").write_bytes(b"x" * BYTES)
        try:
            wait_for_port(port, 5)
            printed = {}
            for line in (LINE, "none"):
                command = [
                    "taskset",
                    "-c",
                    "1",
                    sys.executable,
                    "-m",
                    "bench.personas",
                    line,
                    str(port),
                ]
                out = subprocess.run(
                    command, capture_output=True, text=True, check=True
                ).stdout.split()
                printed[line] = [float(each) for each in out]
        finally:
            server.terminate()
            server.wait()
    share, n, p50, p95, late, memory = printed[LINE]
    plain_share, _, plain_p50, _, _, plain_memory = printed["none"]
    off = p50 / 1000 / wanted_ms - 1
    return [
        (f"{USERS:,} users over {LINE}: answers measured", n, "", "", True),
        ("20 kB, p50", p50 / 1000, "ms", "", True),
        (
            "the same by arithmetic: a round trip and its bytes at the rate",
            wanted_ms,
            "ms",
            "",
            True,
        ),
        ("off by", 100 * off, "%", "−5…5", abs(off) <= 0.05),
        ("20 kB, p95", p95 / 1000, "ms", "", True),
        ("without a line, p50", plain_p50 / 1000, "ms", "", True),
        ("share of one processor, with and without a line", 100 * share, "%", "", True),
        ("… without", 100 * plain_share, "%", "", True),
        (
            "lateness of think times, p99 of the median second",
            late / 1000,
            "ms",
            "≤ 10",
            late <= 10_000,
        ),
        ("memory of each user, with a line", memory / USERS / 1000, "kB", "", True),
        ("… without", plain_memory / USERS / 1000, "kB", "", True),
    ]


if __name__ == "__main__":
    child(sys.argv[1], int(sys.argv[2]))
