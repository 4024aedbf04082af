"""The engine beside a C epoll loop and an aiohttp loop, all against Debian's nginx serving 1 kB, in
one run: a bare exchange; with a cookie in the jar and a status check, as nearly every request has;
and with a header that differs in every answer as well.

Each is a process of its own pinned to core 1, nginx to core 0; exchanges per processor second are
compared, so the server being the limit does not matter. Rounds are interleaved; the median ratio is
reported.
"""

import statistics
import sys
import time

from bench.beside import C_LOOP, SECONDS, USERS, rates_beside
from dynamikos.machine.modules import SWITCH, is_current

Result = tuple[str, float, str, str, bool]
INTERPRETED = "engine, cookie and check, interpreted"
KINDS = {
    "bare": ("/kb", ""),
    "cookie and check": ("/visited", ", checks: [{status: 200}]"),
    "varying header": ("/varying", ", checks: [{status: 200}]"),
}
PLACES = """
location /visited { alias FOLDER/kb; add_header Set-Cookie "visit=abc; Path=/"; }
location /varying { alias FOLDER/kb; add_header Set-Cookie "visit=abc; Path=/"; add_header X-Request $request_id; }
"""  # noqa: E501


def engine_child(kind: str, port: int) -> None:
    """64 users without think time; prints exchanges and processor seconds of the whole process,
    reports included.
    """
    import uvloop

    from dynamikos.core.journeys import parse_journey
    from dynamikos.core.plans import Plan, parse_target
    from dynamikos.core.profiles import Stretch
    from dynamikos.core.reports import encode
    from dynamikos.engine.clock import RealClock
    from dynamikos.engine.network import RealNetwork
    from dynamikos.engine.runner import Shard, run
    from dynamikos.engine.testing import ListSink, frozen_of_one

    base = f"http://127.0.0.1:{port}"
    path, more = KINDS[kind]
    journey = parse_journey(
        "form: 1\njourney: j\nname: J\nrounds:\n  - step: s\n    name: S\n    requests:\n      - "
        "{request: r,"
        f' address: "{base}{path}"{more}}}\n'
    )
    plan = Plan(
        form=2,
        plan="p",
        name="P",
        journey="j",
        environment="e",
        profile=(
            Stretch(stretch="climb", to=USERS, seconds=0),
            Stretch(stretch="hold", seconds=SECONDS),
        ),
        grace_s=1,
    )
    frozen = frozen_of_one(plan, journey, agreed=(parse_target(base),))

    async def program() -> None:
        clock, network = RealClock(), RealNetwork(frozen.agreed)
        sink = ListSink(encode)  # encoding the messages is part of the cost
        used = time.process_time()
        await run(
            Shard(number=0, count=1, frozen=frozen, rows={}, secrets={}),
            network,
            clock,
            sink,
            begin=clock.now() + 0.05,
        )
        failed = sum(
            sum(part.failed.values()) for message in sink.messages for part in message.series
        )
        print(
            sum(message.answered for message in sink.messages), time.process_time() - used, failed
        )
        await network.aclose()
        clock.close()

    uvloop.run(program())


def aiohttp_child(port: int) -> None:
    """64 tasks on one aiohttp session (uvloop), each timing its exchange."""
    import asyncio

    import aiohttp
    import uvloop

    async def program() -> None:
        end, count, times = time.perf_counter() + SECONDS, 0, []

        async def user(session: aiohttp.ClientSession) -> None:
            nonlocal count
            while time.perf_counter() < end:
                begun = time.perf_counter()
                async with session.get(f"http://127.0.0.1:{port}/kb") as answer:
                    await answer.read()
                times.append(time.perf_counter() - begun)
                count += 1

        used = time.process_time()
        async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=USERS)) as session:
            await asyncio.gather(*(user(session) for _ in range(USERS)))
        print(count, time.process_time() - used)

    uvloop.run(program())


def run() -> list[Result]:
    commands = {f"engine, {kind}": [sys.executable, "-m", "bench.engine", kind] for kind in KINDS}
    python_only = ["env", f"{SWITCH}=1", *commands["engine, cookie and check"]]
    others = {
        INTERPRETED: python_only,
        "aiohttp": [sys.executable, "-m", "bench.engine", "aiohttp"],
    }
    rates, printed = rates_beside({**commands, **others}, PLACES)
    results: list[Result] = [
        (f"{each}, exchanges per processor second", statistics.median(found), "/s", "", True)
        for each, found in rates.items()
    ]
    for kind, goal in (("bare", 0.32), ("cookie and check", 0.32), ("varying header", 0.15)):
        by_c = statistics.median(
            e / c for e, c in zip(rates[f"engine, {kind}"], rates[C_LOOP], strict=True)
        )
        results.append((f"engine, {kind} / C epoll loop", by_c, "", f"≥ {goal}", by_c >= goal))
    gain = statistics.median(
        a / b for a, b in zip(rates["engine, cookie and check"], rates[INTERPRETED], strict=True)
    )
    results.append(("the same / interpreted, without machine code", gain, "", "", is_current()))
    by_aiohttp = statistics.median(
        e / a for e, a in zip(rates["engine, bare"], rates["aiohttp"], strict=True)
    )
    failed = sum(int(out[2]) for out in printed if len(out) > 2)
    return [
        *results,
        ("engine, bare / aiohttp", by_aiohttp, "", "≥ 6", by_aiohttp >= 6),
        ("failures", failed, "", "0", failed == 0),
    ]


if __name__ == "__main__":
    aiohttp_child(int(sys.argv[2])) if sys.argv[1] == "aiohttp" else engine_child(
        sys.argv[1], int(sys.argv[2])
    )
