"""Is it true? The engine against the stand-in's own log and its queueing law.

(i) paired by request id at ≤ 150 exchanges/s: engine's time minus the stand-in's (departure −
arrival); (ii) counts, id by id; (iii) closed workload against exact mean-value analysis, with the
standard error from batch means.
"""

import asyncio
import json
import math
import statistics
import subprocess
import sys
import urllib.request

import uvloop

from dynamikos.cli.state import is_free, wait_for_port
from dynamikos.core.frozen.freeze import Inputs, freeze
from dynamikos.core.journeys import parse_journey
from dynamikos.core.plans import Crowd, CrowdRow, Plan, parse_target
from dynamikos.core.plans.workloads import Arrivals
from dynamikos.core.profiles import Stretch
from dynamikos.core.reports import KeptExchange
from dynamikos.engine.clock import RealClock
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.runner import Shard
from dynamikos.engine.runner import run as run_shard
from dynamikos.engine.testing import ListSink, frozen_of_one

Result = tuple[str, float, str, str, bool]


class Target:
    """The stand-in as a process pinned to core 0."""

    def __init__(self, weather: str, seed: int) -> None:
        self.port = next(port for port in range(18600, 18700) if is_free(port))
        self.process = subprocess.Popen(
            [
                "taskset",
                "-c",
                "0",
                sys.executable,
                "-m",
                "observatory",
                "--port",
                str(self.port),
                "--weather",
                weather,
                "--seed",
                str(seed),
            ]
        )
        wait_for_port(self.port, 10)

    def ask(self, path: str):  # type: ignore[no-untyped-def]
        with urllib.request.urlopen(f"http://127.0.0.1:{self.port}{path}", timeout=60) as answer:
            return json.loads(answer.read())

    def close(self) -> None:
        self.process.terminate()
        self.process.wait()


class EverySink(ListSink):
    """A list of all kept exchanges, which are all exchanges when the sampler keeps everything."""


async def perform(
    target: Target,
    requests: list[str],
    users: int,
    seconds: float,
    think_s: float,
    *,
    keep_all: bool,
) -> tuple[ListSink, float]:
    from dynamikos.engine import runner

    base = f"http://127.0.0.1:{target.port}"
    steps = "".join(
        f"  - step: s{n}\n    name: S\n    requests:\n      - {{request: r, address: "
        f'"{base}{path}"}}\n'
        for n, path in enumerate(requests)
    )
    steps = steps.rstrip("\n") + "\n"
    last = steps.rindex("    name: S\n")
    steps = (
        steps[:last]
        + f"    name: S\n    think_s: {think_s}\n"
        + steps[last + len("    name: S\n") :]
    )
    journey = parse_journey("form: 1\njourney: j\nname: J\nrounds:\n" + steps)
    plan = Plan(
        form=2,
        plan="p",
        name="P",
        journey="j",
        environment="e",
        profile=(
            Stretch(stretch="climb", to=users, seconds=1),
            Stretch(stretch="hold", seconds=seconds),
        ),
        grace_s=3,
    )
    frozen = frozen_of_one(plan, journey, run="truth", seed=3, agreed=(parse_target(base),))
    clock, network, sink = RealClock(), RealNetwork(frozen.agreed), EverySink()
    if keep_all:
        original = runner.Choice
        runner.Choice = lambda seed, *_, **__: original(seed, everything=True)  # type: ignore[assignment,misc]
    try:
        begin = clock.now() + 0.2
        await run_shard(
            Shard(number=0, count=1, frozen=frozen, rows={}, secrets={}),
            network,
            clock,
            sink,
            begin=begin,
        )
    finally:
        if keep_all:
            runner.Choice = original  # type: ignore[misc]
        await network.aclose()
        clock.close()
    return sink, begin


def paired(seconds: float = 30) -> list[Result]:
    target = Target("clear", 11)
    try:
        sink, _ = uvloop.run(
            perform(
                target, ["/sky?page=1", "/objects/bf-001-cluster"], 16, seconds, 0.4, keep_all=True
            )
        )
        log = {record["id"]: record for record in target.ask("/truth/log") if record["id"]}
    finally:
        target.close()
    sent = sum(message.sent for message in sink.messages)
    answered, failed = sum(m.answered for m in sink.messages), sum(m.failed for m in sink.messages)
    flying = sink.messages[-1].in_flight
    ids = {f"{(1 << 40) + number:016x}" for number in range(1, sent + 1)}
    differences = []
    kept: KeptExchange
    for kept in sink.kept:
        record = log.get(kept.trace)
        # on a kept connection: nothing but the exchange
        if record is not None and kept.parts_us.get("connect", -1) < 0:
            differences.append(
                (kept.parts_us["wait"] + kept.parts_us["receive"]) / 1000
                - 1000 * (record["departure_s"] - record["arrival_s"])
            )
    differences.sort()
    median, p99 = (
        statistics.median(differences),
        differences[math.ceil(0.99 * len(differences)) - 1],
    )
    return [
        ("(i) pairs compared", len(differences), "", "≥ 1,000", len(differences) >= 1000),
        ("(i) engine − stand-in, median", median, "ms", "≤ 0.5", median <= 0.5),
        ("(i) engine − stand-in, p99", p99, "ms", "≤ 2", p99 <= 2),
        (
            "(ii) sent − answered − failed − in flight",
            sent - answered - failed - flying,
            "",
            "0",
            sent == answered + failed + flying,
        ),
        (
            "(ii) ids sent but not logged, or logged but not sent",
            len(ids ^ set(log)),
            "",
            "0",
            ids == set(log),
        ),
    ]


def law(seconds: float = 90) -> list[Result]:
    """12 users, /sky (web + pool), think 0.05 s, weather small-pool: the pool is nearly
    saturated.
    """
    target = Target("small-pool", 5)
    users, think = 12, 0.05
    try:
        sink, _ = uvloop.run(
            perform(target, ["/sky?page=1"], users, seconds, think, keep_all=False)
        )
        log = [record for record in target.ask("/truth/log") if record["id"]]
        steady = [m for m in sink.messages if 5 <= m.second < seconds]
        engine_s = (
            sum(p.sum_us for m in steady for p in m.series if p.no == 1)
            / sum(p.n for m in steady for p in m.series if p.no == 1)
            / 1e6
        )
        begun = min(record["arrival_s"] for record in log)
        log = sorted(
            (record for record in log if begun + 5 <= record["departure_s"] < begun + seconds),
            key=lambda record: record["departure_s"],
        )
        own = [record["departure_s"] - record["arrival_s"] for record in log]
        mean = statistics.mean(own)
        # what lies between engine and stand-in (loopback, event loops) is a pure delay: it belongs
        # to the think time of the law
        delay = engine_s - mean
        # and so does the lateness of think times' ends, which the engine measures itself (health)
        late = statistics.mean(m.health.late_p50_us for m in steady) / 1e6
        expected = target.ask(f"/truth/closed?users={users}&think={think + delay + late}&sky=1")[
            "law"
        ]
    finally:
        target.close()
    size = 5.0  # batches of five seconds: hundreds of times, far beyond their autocorrelation
    batches: dict[int, list[float]] = {}
    for record, time_s in zip(log, own, strict=True):
        batches.setdefault(int((record["departure_s"] - begun) // size), []).append(time_s)
    whole = [
        batch
        for number, batch in sorted(batches.items())
        if number * size >= 5 and (number + 1) * size <= seconds
    ]
    times, rates = (
        [statistics.mean(batch) for batch in whole],
        [len(batch) / size for batch in whole],
    )
    error, rate_error = (
        statistics.stdev(times) / math.sqrt(len(times)),
        statistics.stdev(rates) / math.sqrt(len(rates)),
    )
    rate = statistics.mean(rates)
    off, rate_off = (
        (mean - expected["response_s"]) / error,
        (rate - expected["throughput_per_s"]) / rate_error,
    )
    return [
        ("(iii) delay between engine and stand-in", 1000 * delay, "ms", "≤ 1.5", delay <= 0.0015),
        ("(iii) lateness of think times, p50", 1000 * late, "ms", "", True),
        ("(iii) response time, measured", 1000 * mean, "ms", "", True),
        (
            "(iii) response time by mean-value analysis",
            1000 * expected["response_s"],
            "ms",
            "",
            True,
        ),
        ("(iii) standard error of it", 100 * error / mean, "%", "≤ 2", error / mean <= 0.02),
        ("(iii) deviation in standard errors", off, "", "−2…2", abs(off) <= 2),
        ("(iii) rounds/s, measured", rate, "/s", "", True),
        ("(iii) rounds/s by mean-value analysis", expected["throughput_per_s"], "/s", "", True),
        ("(iii) deviation in standard errors, rate", rate_off, "", "−2…2", abs(rate_off) <= 2),
    ]


def open_law(utilization: float, seconds: float) -> list[Result]:
    """Poisson arrivals at /sky (web + pool), weather small-pool, against Erlang C of each station
    (Jackson 1957).
    """
    target = Target("small-pool", 7)
    try:
        known = target.ask("/truth")
        least = min(
            known["resources"][name]["saturates_at_per_s"] for name in known["routes"]["sky"]
        )
        per_s = utilization * least
        uvloop.run(arriving(target, per_s, seconds))
        log = [record for record in target.ask("/truth/log") if record["id"]]
        expected = target.ask(f"/truth/open?per_s={per_s}")["sky"]
    finally:
        target.close()
    begun, size = min(record["arrival_s"] for record in log), 5.0
    batches: dict[int, list[float]] = {}
    for record in log:
        since = record["arrival_s"] - begun
        if 10 <= since < seconds:
            batches.setdefault(int(since // size), []).append(
                record["departure_s"] - record["arrival_s"]
            )
    times = [statistics.mean(batch) for batch in batches.values()]
    mean, error = statistics.mean(times), statistics.stdev(times) / math.sqrt(len(times))
    said = f"(iv) open, utilization {utilization:g}"
    return [
        (f"{said}: arrivals", len(log), "", "", True),
        (f"{said}: measured", 1000 * mean, "ms", "", True),
        (f"{said}: by Erlang C", 1000 * expected, "ms", "", True),
        (f"{said}: standard error", 100 * error / mean, "%", "≤ 2", error / mean <= 0.02),
        (
            f"{said}: deviation in standard errors",
            (mean - expected) / error,
            "",
            "−3…3",
            abs(mean - expected) <= 3 * error,
        ),
    ]


async def arriving(target: Target, per_s: float, seconds: float) -> None:
    """So many visitors a second, each for one request."""
    base = f"http://127.0.0.1:{target.port}"
    journey = parse_journey(
        "form: 1\njourney: j\nname: J\nrounds:\n  - step: s\n    name: S\n    requests:\n"
        f'      - {{request: r, address: "{base}/sky?page=1"}}\n'
    )
    profile = (Stretch(stretch="burst", to=per_s, seconds=seconds),)
    load = Arrivals(spread="poisson", ceiling=5000)
    crowd = Crowd(crowd="c", load=load, profile=profile, rows=(CrowdRow(row="r", journey="j"),))
    plan = Plan(form=2, plan="p", name="P", environment="e", crowds=(crowd,), grace_s=10)
    inputs = Inputs(plan=plan, journeys={"j": journey}, agreed=(parse_target(base),))
    frozen = freeze(inputs, run="truth", seed=9, checked=True)
    clock, network = RealClock(), RealNetwork(frozen.agreed)
    try:
        shard = Shard(number=0, count=1, frozen=frozen, rows={}, secrets={})
        await run_shard(shard, network, clock, ListSink(), begin=clock.now() + 0.2)
    finally:
        await network.aclose()
        clock.close()


def run() -> list[Result]:
    asyncio.set_event_loop_policy(None)
    found = paired() + law()
    for utilization, seconds in ((0.5, 60.0), (0.7, 100.0), (0.85, 560.0)):
        found += open_law(utilization, seconds)
    return found
