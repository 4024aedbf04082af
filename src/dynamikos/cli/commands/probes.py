"""Reads the probes of a run from files, in a process of its own so that users don't wait for them (started by run)."""

import asyncio
import contextlib
import signal
import sys

import click


@click.command(hidden=True)
def command() -> None:
    """Takes a frozen run and then its second 0 (an instant of the monotonic clock) from stdin, a line each; writes a
    line for each reading until it is ended.
    """
    import msgspec
    import uvloop

    from dynamikos.core.frozen.document import FROZEN
    from dynamikos.engine.clock import RealClock
    from dynamikos.engine.network import RealNetwork
    from dynamikos.engine.probing import ProbeSecond, Probing

    frozen = FROZEN.read(sys.stdin.buffer.readline())
    print("ready", flush=True)
    begin = float(sys.stdin.readline() or "nan")

    def tell(told: ProbeSecond) -> None:
        sys.stdout.buffer.write(msgspec.json.encode(told) + b"\n")
        sys.stdout.buffer.flush()

    async def program() -> None:
        task = asyncio.current_task()
        assert task is not None
        for number in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(number, task.cancel)
        clock, network = RealClock(), RealNetwork(frozen.agreed, way=frozen.way)
        try:
            with contextlib.suppress(asyncio.CancelledError):
                await Probing(frozen.plan.probes, frozen.values, network, clock, begin, tell).run()
        finally:
            await network.aclose()
            clock.close()

    if begin == begin:
        uvloop.run(program())
