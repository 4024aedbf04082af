"""A run of a plan from files: the engine in this process, a list as its sink, no database."""

import asyncio
import signal
import subprocess
import sys
from collections.abc import Callable
from urllib.parse import urlsplit

import uvloop
from msgspec import to_builtins
from msgspec.structs import replace

from dynamikos.cli import summary
from dynamikos.cli.state import is_free, wait_for_port
from dynamikos.core.errors import PlanError
from dynamikos.core.frozen import FrozenRun, every_series
from dynamikos.core.reports import Ledger, ShardSecond, frame_of
from dynamikos.core.values import bind
from dynamikos.core.verdicts import Outcome, conclude
from dynamikos.engine.clock import RealClock
from dynamikos.engine.failures import Failure
from dynamikos.engine.functions import Child
from dynamikos.engine.limits import raise_descriptors
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.runner import Control, Shard, run
from dynamikos.engine.testing import ListSink

PROGRESS_S = 5


def practice_target(weather: str, addresses: dict[str, str]) -> subprocess.Popen[bytes] | None:
    """Starts the stand-in for an environment that asks for it, unless something listens there already."""
    for address in addresses.values():
        parts = urlsplit(address)
        if parts.hostname in ("127.0.0.1", "localhost") and parts.port and is_free(parts.port):
            process = subprocess.Popen(
                [sys.executable, "-m", "observatory", "--port", str(parts.port), "--weather", weather]
            )
            wait_for_port(parts.port, 5)
            return process
    return None


def perform(
    frozen: FrozenRun, rows: dict[str, list[list[str]]], secrets: dict[str, str], tell: Callable[[str], None]
) -> tuple[Outcome, ListSink]:
    """Runs `frozen` to its end (Ctrl-C once stops gently, twice at once) and concludes."""
    return uvloop.run(_perform(frozen, rows, secrets, tell))


async def _perform(
    frozen: FrozenRun, rows: dict[str, list[list[str]]], secrets: dict[str, str], tell: Callable[[str], None]
) -> tuple[Outcome, ListSink]:
    raise_descriptors()
    series = {each.no: each for each in every_series(frozen)}
    total = frozen.ends_s
    from_s, to_s = frozen.measured
    window, whole = Ledger(series.values()), Ledger(series.values())
    seen = {"peak": 0, "flying": 0}

    def report(message: ShardSecond) -> None:
        whole.add(message, totals=False)
        window.add(message, totals=from_s <= message.second < to_s)
        window.carry(message)
        seen["peak"] = max(seen["peak"], sum(message.users.values()))
        seen["flying"] = message.in_flight
        if (message.second + 1) % PROGRESS_S == 0 and not message.last:
            tell(summary.progress(frame_of(message.second, [message], series), total))

    sink, control = ListSink(report), Control()
    functions = Child(frozen.functions, agreed=True)  # whoever runs files decides for this machine
    known = {name.partition(".")[2]: value for name, value in secrets.items()}
    way = (
        replace(frozen.way, proxy=bind(frozen.way.proxy, {**frozen.values, **secrets}))
        if frozen.way.proxy
        else frozen.way
    )
    try:
        network = RealNetwork(
            frozen.agreed, way=way, key=known.get(way.key_secret, ""), **to_builtins(frozen.plan.timeouts)
        )  # fmt: skip
        if frozen.functions:
            await functions.load()
    except Failure as failure:
        await functions.close()
        raise PlanError(failure.detail) from failure
    clock = RealClock()

    def interrupted() -> None:
        if control.stopped:
            control.stop_now()
        else:
            tell("stopping gently: users finish their step and leave; Ctrl-C once more stops at once")
            control.stop_gently()

    asyncio.get_running_loop().add_signal_handler(signal.SIGINT, interrupted)
    try:
        begin = clock.now() + 0.2
        ended = await run(
            Shard(number=0, count=1, frozen=frozen, rows=dict(rows), secrets=secrets, functions=functions),
            network,
            clock,
            sink,
            begin=begin,
            control=control,
        )
    except Failure as failure:  # before anything was sent
        raise PlanError(failure.detail) from failure
    finally:
        await network.aclose()
        await functions.close()
        clock.close()
    outcome = conclude(frozen, window, whole, ended=ended, in_flight=seen["flying"], peak_users=seen["peak"])
    return outcome, sink
