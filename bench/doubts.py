"""Doubts that matter: runs of a minute beside none, one and two busy loops, against a stand-in that
logs its own times.

The stand-in answers at its turn before others of this machine (real-time or a high priority), so
that what it logs is what it took. Held against its log: whether the percentile of the same requests
lies in the band of the figure, and whether a verdict is given where the truth is 20 % or more away
from the limit.
"""

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

from bench.ladder import Result
from dynamikos.cli.state import ROOT, wait_for_port

RUNS, SECONDS, USERS = int(os.environ.get("DYNAMIKOS_DOUBTS_RUNS", "40")), 60, 20
WARM_S = 5
AWAY = (0.4, 0.6, 0.8, 1.25, 1.6, 2.5)  # limits, in parts of the truth
SERVER = """
import asyncio, os, sys, time
try:
    os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(10))
except OSError:
    try:
        os.nice(-15)
    except OSError:
        pass
import random
draw, log, free = random.Random(int(sys.argv[3])), [], 0.0

class Answers(asyncio.Protocol):
    def connection_made(self, transport):
        self.transport = transport
    def data_received(self, data):
        global free
        came = time.perf_counter()
        if data.startswith(b"GET /log"):
            body = "\\n".join(f"{a} {b}" for a, b in log).encode()
            self.transport.write(b"HTTP/1.1 200 OK\\r\\nContent-Length: %d\\r\\n\\r\\n" % len(body) + body)
            return
        if sys.argv[2] == "queue":
            free = max(free, came) + draw.expovariate(1 / 0.008)
        else:
            free = came + 0.05
        asyncio.get_running_loop().call_later(max(0.0, free - time.perf_counter()), self.answer, came)
    def answer(self, came):
        if not self.transport.is_closing():
            self.transport.write(b"HTTP/1.1 200 OK\\r\\nContent-Length: 2\\r\\n\\r\\nok")
            log.append((came, time.perf_counter()))

async def main():
    server = await asyncio.get_running_loop().create_server(Answers, "127.0.0.1", int(sys.argv[1]))
    await server.serve_forever()
asyncio.run(main())
"""  # noqa: E501
PLAN = """form: 1
plan: doubts
name: Doubts
journey: j.yaml
environment: e.yaml
profile: [{{stretch: climb, to: {users}, seconds: 0}}, {{stretch: hold, seconds: {seconds}}}]
measured: [{warm}, {seconds}]
"""
JOURNEY = """form: 1
journey: j
name: J
rounds:
  - step: one
    name: One
    think_s: 0.2
    requests:
      - {request: one, address: "{{ env.base }}/one"}
"""
ENVIRONMENT = """form: 1
environment: e
addresses: {{base: "http://127.0.0.1:{port}"}}
agreed: ["http://127.0.0.1:{port}"]
"""


def performed(port: int, kind: str, seed: int, loops: int) -> tuple[float, dict[str, object]]:
    """(the true p95 in ms by the stand-in's log of what ended in the measured part, what the run
    said).
    """
    busy = [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(loops)]
    server = subprocess.Popen([sys.executable, "-c", SERVER, str(port), kind, str(seed)])
    try:
        wait_for_port(port, 20)
        with tempfile.TemporaryDirectory() as name:
            place = Path(name)
            (place / "p.yaml").write_text(PLAN.format(users=USERS, seconds=SECONDS, warm=WARM_S))
            (place / "j.yaml").write_text(JOURNEY)
            (place / "e.yaml").write_text(ENVIRONMENT.format(port=port))
            command = [
                sys.executable,
                "-m",
                "dynamikos.cli",
                "run",
                str(place / "p.yaml"),
                "--json",
                str(place / "o.json"),
            ]
            env = {**os.environ, "PYTHONPATH": f"{ROOT / 'src'}{os.pathsep}{ROOT}"}
            subprocess.run(command, env=env, capture_output=True, check=False, timeout=SECONDS * 4)
            told = json.loads((place / "o.json").read_text())
        log = np.array([list(map(float, line.split())) for line in _log(port).splitlines()])
    finally:
        for each in (server, *busy):
            each.kill()
            each.wait()
    step = next(each for each in told["rows"] if each["level"] == "step")
    took = np.sort(
        (log[:, 1] - log[:, 0])[-step["count"] :] * 1000
    )  # the measured part is the end of the run
    return float(took[int(np.ceil(0.95 * len(took))) - 1]), step


def _log(port: int) -> str:
    import urllib.request

    with urllib.request.urlopen(f"http://127.0.0.1:{port}/log", timeout=30) as answer:
        return str(answer.read().decode())


def run() -> list[Result]:
    from tests.ports import free_port

    from dynamikos.core.objectives import Objective
    from dynamikos.core.objectives.judge import _turns

    inside = given = asked = right = 0
    wide: list[float] = []
    for at in range(RUNS):
        kind, loops = ("constant", "queue")[at % 2], at // 2 % 3
        true_ms, step = performed(free_port(), kind, at, loops)
        high = float(step["p95_ms"])  # type: ignore[arg-type]
        low = float(step["without_delay"].get("p95_ms", high))  # type: ignore[attr-defined]
        grain = 0.001 * high + 0.05  # bins, and the clock between the two processes
        inside += low - grain <= true_ms <= high + grain
        wide.append(high - low)
        for part in AWAY:
            limit = true_ms * part
            goal = Objective(objective="o", measure="p95", limit=limit)
            word = (
                "met" if high <= limit else "not judged" if _turns(goal, (low, high)) else "missed"
            )
            asked += 1
            given += word != "not judged"
            right += word == ("met" if part >= 1 else "missed")
        print(
            f"  {kind}, {loops} busy loops: log {true_ms:.2f} ms, band {low:.2f} to {high:.2f} ms",
            flush=True,
        )
    return [
        (
            f"{RUNS} runs: p95 of the stand-in's log is in the band",
            inside,
            "",
            f"{RUNS}",
            inside == RUNS,
        ),
        (
            "verdicts decided by 20 % or more that are given",
            100 * given / asked,
            "%",
            "≥ 90",
            given >= 0.9 * asked,
        ),
        ("of those given, right", 100 * right / max(1, given), "%", "100", right == given),
        ("width of the band, the middle run", float(np.median(wide)), "ms", "", True),
        ("width of the band, the widest", float(np.max(wide)), "ms", "", True),
    ]
