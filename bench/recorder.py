"""The recording proxy under the clicks of a busy page: nginx on core 0, proxy and client on core 1,
6 connections, each exchange recorded.
"""

import asyncio
import json
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

from bench.beside import nginx
from dynamikos.cli.state import is_free, wait_for_port

Result = tuple[str, float, str, str, bool]
SECONDS = 4


def child(target: int) -> None:
    from dynamikos.core.plans import parse_target
    from dynamikos.engine.recorder.certificates import Authority
    from dynamikos.engine.recorder.proxy import Proxy

    async def program() -> None:
        base = f"http://127.0.0.1:{target}"
        recorded = []
        with tempfile.TemporaryDirectory() as folder:
            proxy = Proxy(
                (parse_target(base),), Authority(Path(folder), datetime.now(UTC)), recorded.append
            )
            port = await proxy.listen()
            rates = []
            for address, path in ((port, f"{base}/kb"), (target, "/kb")):
                ask = f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1:{target}\r\n\r\n".encode()
                end, count, wrong = time.perf_counter() + SECONDS, 0, 0

                async def client(
                    address: int = address, ask: bytes = ask, end: float = end
                ) -> None:
                    nonlocal count, wrong
                    reader, writer = await asyncio.open_connection("127.0.0.1", address)
                    while time.perf_counter() < end:
                        writer.write(ask)
                        await reader.readuntil(b"\r\n\r\n")
                        wrong += await reader.readexactly(1024) != b"x" * 1024
                        count += 1
                    writer.close()

                await asyncio.gather(*(client() for _ in range(6)))
                rates += [count / SECONDS, wrong]
            await proxy.aclose()
            print(json.dumps([*rates, len(recorded)]))

    asyncio.run(program())


def run() -> list[Result]:
    with tempfile.TemporaryDirectory() as name:
        port = next(port for port in range(18300, 18400) if is_free(port))
        server = nginx(Path(name), port)
        try:
            wait_for_port(port, 5)
            command = ["taskset", "-c", "1", sys.executable, "-m", "bench.recorder", str(port)]
            through, wrong, straight, _, recorded = json.loads(
                subprocess.run(command, capture_output=True, text=True, check=True).stdout
            )
        finally:
            server.terminate()
            server.wait()
    return [
        ("requests through the proxy", through, "/s", "≥ 300", through >= 300),
        ("yardstick: the same client without the proxy", straight, "/s", "", True),
        ("bodies that arrived changed", wrong, "", "0", wrong == 0),
        (
            "requests recorded / sent",
            recorded / (through * SECONDS),
            "",
            "1",
            abs(recorded - through * SECONDS) < 1,
        ),
    ]


if __name__ == "__main__":
    child(int(sys.argv[1]))
