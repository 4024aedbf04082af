"""The engine beside a C epoll loop and an aiohttp loop, all against Debian's nginx serving 1 kB, in one run.

Each is a process of its own pinned to core 1, nginx to core 0; exchanges per processor second are compared, so the
server being the limit does not matter. Rounds are interleaved; the median ratio is reported.
"""

import statistics
import sys
import time

from bench.beside import C_LOOP, SECONDS, USERS, rates_beside

Result = tuple[str, float, str, str, bool]


def engine_child(port: int) -> None:
    """64 users without think time; prints exchanges and processor seconds of the whole process, reports included."""
    import asyncio

    import uvloop

    from dynamikos.core.frozen import FrozenRun
    from dynamikos.core.journeys import parse_journey
    from dynamikos.core.plans import Plan, parse_target
    from dynamikos.core.profiles import Stretch
    from dynamikos.core.reports import encode
    from dynamikos.engine.clock import RealClock
    from dynamikos.engine.network import RealNetwork
    from dynamikos.engine.runner import Shard, run
    from dynamikos.engine.testing import ListSink

    base = f"http://127.0.0.1:{port}"
    journey = parse_journey(
        "form: 1\njourney: j\nname: J\nrounds:\n  - step: s\n    name: S\n    requests:\n      - {request: r,"
        f' address: "{base}/kb"}}\n'
    )
    plan = Plan(
        form=1,
        plan="p",
        name="P",
        journey="j",
        environment="e",
        profile=(Stretch(stretch="climb", to=USERS, seconds=0), Stretch(stretch="hold", seconds=SECONDS)),
        grace_s=1,
    )
    frozen = FrozenRun(run="r", seed=1, plan=plan, journey=journey, agreed=(parse_target(base),))

    async def program() -> None:
        clock, network = RealClock(), RealNetwork(frozen.agreed)
        sink = ListSink(encode)  # encoding the messages is part of the cost
        used = time.process_time()
        await run(
            Shard(number=0, count=1, frozen=frozen, rows={}, secrets={}), network, clock, sink, begin=clock.now() + 0.05
        )
        print(sum(message.answered for message in sink.messages), time.process_time() - used)
        await network.aclose()
        clock.close()

    uvloop.run(program()) if sys.argv[-1] != "asyncio" else asyncio.run(program())


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
    rates, _ = rates_beside({each: [sys.executable, "-m", "bench.engine", each] for each in ("engine", "aiohttp")})
    results: list[Result] = [
        (f"{each}, exchanges per processor second", statistics.median(found), "/s", "", True)
        for each, found in rates.items()
    ]
    by_c = statistics.median(e / c for e, c in zip(rates["engine"], rates[C_LOOP], strict=True))
    by_aiohttp = statistics.median(e / a for e, a in zip(rates["engine"], rates["aiohttp"], strict=True))
    return [
        *results,
        ("engine / C epoll loop", by_c, "", "≥ 0.30", by_c >= 0.30),
        ("engine / aiohttp", by_aiohttp, "", "≥ 6", by_aiohttp >= 6),
    ]


if __name__ == "__main__":
    (engine_child if sys.argv[1] == "engine" else aiohttp_child)(int(sys.argv[2]))
