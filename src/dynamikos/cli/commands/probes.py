"""Reads the probes of a run from files, in a process of its own so that users don't wait for them
(started by run).
"""

import asyncio
import contextlib
import os
import signal
import sys
import threading

import click

SOON_S = 0.1


@click.command(hidden=True)
def command() -> None:
    """Takes a frozen run, the secrets of its probes, and then its second 0 (an instant of the
    monotonic clock; or "now", for a first reading at once) from stdin, a line each; writes a line
    for each reading until it is ended.
    """
    import msgspec
    import uvloop
    from msgspec.structs import replace

    from dynamikos.core.frozen.document import FROZEN
    from dynamikos.core.probes import Probe
    from dynamikos.core.values import bind
    from dynamikos.engine.clock import RealClock
    from dynamikos.engine.network import RealNetwork
    from dynamikos.engine.probing import ProbeSecond, Probing, Source

    frozen = FROZEN.read(sys.stdin.buffer.readline())
    secrets: dict[str, str] = msgspec.json.decode(sys.stdin.buffer.readline() or b"{}")
    from dynamikos.fleet.settings import own_ports

    own = own_ports()
    print("ready", flush=True)
    said = sys.stdin.buffer.readline().strip()

    def tell(told: ProbeSecond) -> None:
        sys.stdout.buffer.write(msgspec.json.encode(told) + b"\n")
        sys.stdout.buffer.flush()

    def watcher(probe: Probe) -> Source:
        from dynamikos.engine.watching import Watcher  # takes a while to load

        return Watcher(probe, {**frozen.values, **secrets}, frozen.agreed, frozen.way, own)

    async def program() -> None:
        task = asyncio.current_task()
        assert task is not None
        for number in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(number, task.cancel)
        threading.Thread(
            target=until_left, args=(asyncio.get_running_loop(), task), daemon=True
        ).start()
        proxy = bind(frozen.way.proxy, {**frozen.values, **secrets})
        key = secrets.get(f"secrets.{frozen.way.key_secret}", "")
        way = replace(frozen.way, proxy=proxy)
        clock, network = RealClock(), RealNetwork(frozen.agreed, way=way, key=key, own_ports=own)
        probes, values = frozen.plan.probes, frozen.values
        begin = float(said) if said != b"now" else clock.now() + SOON_S - probes[0].every_s
        try:
            with contextlib.suppress(asyncio.CancelledError):
                await Probing(probes, values, network, clock, begin, tell, watcher, secrets).run()
        finally:
            await network.aclose()
            clock.close()

    def until_left(loop: asyncio.AbstractEventLoop, task: "asyncio.Task[None]") -> None:
        sys.stdin.read()  # whoever started this is gone
        with contextlib.suppress(RuntimeError):
            loop.call_soon_threadsafe(task.cancel)

    if any(each.browser for each in frozen.plan.probes):
        os.nice(10)  # a browser takes what it can get, and whoever sends load goes first
    if said:
        uvloop.run(program())
