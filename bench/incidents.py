"""Suspects of real incidents: runs of half an hour against a server of ours, each with five
incidents far apart.

The server has five resources that every request visits in turn; an incident makes one of them slow.
Beside what they tell of themselves stand sixty ordinary measures, and two that follow the load.
Unattended: eight runs at once.
"""

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq

from bench.ladder import Result
from bench.suspects import KINDS, Trace, measure
from dynamikos.cli.folder import PROBES, SECONDS
from dynamikos.cli.state import ROOT, wait_for_port
from dynamikos.core.analysis.suspects import Look, suspects

RUNS = int(os.environ.get("DYNAMIKOS_INCIDENT_RUNS", "8"))
RUN_S = int(os.environ.get("DYNAMIKOS_INCIDENT_SECONDS", "1800"))
INCIDENTS, INNOCENTS, USERS, SHORT_S = 5, 60, 12, 600
SERVER = """
import asyncio, json, random, sys, time
port, plan, measures = int(sys.argv[1]), json.loads(sys.argv[2]), json.load(open(sys.argv[3]))
draw, began, served = random.Random(int(sys.argv[4])), None, 0
resources = [{"free": 4, "queue": [], "busy_s": 0.0} for _ in range(5)]

def now():
    return time.perf_counter() - began if began is not None else 0.0

def slow(of):
    return any(each == of and begin <= now() < begin + length for each, begin, length in plan)

async def visit(of):
    it = resources[of]
    if it["free"]:
        it["free"] -= 1
    else:
        turn = asyncio.get_running_loop().create_future()
        it["queue"].append(turn)
        await turn
    takes = draw.expovariate(1 / 0.004) * (15 if slow(of) else 1)
    await asyncio.sleep(takes)
    it["busy_s"] += takes
    if it["queue"]:
        it["queue"].pop(0).set_result(None)
    else:
        it["free"] += 1

def told():
    at = int(now())
    lines = []
    for of, it in enumerate(resources):
        lines.append(f'busy{{of="r{of}"}} {100 * (4 - it["free"]) / 4}')
        lines.append(f'waiting{{of="r{of}"}} {len(it["queue"])}')
        lines.append(f'busy_seconds_total{{of="r{of}"}} {it["busy_s"]}')
    for name, values in measures.items():
        lines.append(f"{name} {values[min(at, len(values) - 1)]}")
    lines.append(f"served_total {served}")
    return "\\n".join(lines) + "\\n"

async def serve(reader, writer):
    global began, served
    while head := await reader.readline():
        while (await reader.readline()).strip():
            pass
        if head.startswith(b"GET /metrics"):
            body, kind = told().encode(), b"text/plain; version=0.0.4"
        else:
            if began is None:
                began = time.perf_counter()
            for of in range(5):
                await visit(of)
            served += 1
            body, kind = b"ok", b"text/plain"
        writer.write(b"HTTP/1.1 200 OK\\r\\nContent-Type: %s\\r\\nContent-Length: %d\\r\\n\\r\\n" % (kind, len(body)))
        writer.write(body)
        await writer.drain()

async def main():
    async with await asyncio.start_server(serve, "127.0.0.1", port) as server:
        await server.serve_forever()
asyncio.run(main())
"""  # noqa: E501
PLAN = """form: 1
plan: incidents
name: Incidents
journey: j.yaml
environment: e.yaml
profile: [{{stretch: climb, to: {users}, seconds: 0}}, {{stretch: hold, seconds: {seconds}}}]
probes: [{{probe: server, name: Server, openmetrics: "{{{{ env.base }}}}/metrics"}}]
"""
JOURNEY = """form: 1
journey: j
name: J
rounds:
  - step: one
    name: One
    think_s: 0.4
    requests:
      - {request: one, address: "{{ env.base }}/one"}
"""
ENVIRONMENT = """form: 1
environment: e
addresses: {{base: "http://127.0.0.1:{port}"}}
agreed: ["http://127.0.0.1:{port}"]
"""
Incident = tuple[int, int, int]  # (resource, first second, seconds)


def planned(draw: np.random.Generator) -> list[Incident]:
    """Five of 20 to 40 s, each in its own fifth of the run, of resources in a drawn order."""
    part = RUN_S // INCIDENTS
    return [
        (int(of), at * part + int(draw.integers(part // 4, part // 2)), int(draw.integers(20, 41)))
        for at, of in enumerate(draw.permutation(5))
    ]


def performed(seed: int) -> tuple[list[Incident], Trace, dict[str, Trace], Trace]:
    """(incidents, the step's mean by second, measures by second, users) of a run."""
    from tests.ports import free_port

    draw, port = np.random.default_rng(300 + seed), free_port()
    plan = planned(draw)
    with tempfile.TemporaryDirectory() as name:
        place = Path(name)
        kinds = draw.choice(KINDS, INNOCENTS)
        given = {
            f"ordinary_{at}": measure(kind, RUN_S + 60, draw).round(6).tolist()
            for at, kind in enumerate(kinds)
        }
        (place / "measures.json").write_text(json.dumps(given))
        (place / "p.yaml").write_text(PLAN.format(users=USERS, seconds=RUN_S))
        (place / "j.yaml").write_text(JOURNEY)
        (place / "e.yaml").write_text(ENVIRONMENT.format(port=port))
        words = [str(port), json.dumps(plan), str(place / "measures.json"), str(seed)]
        server = subprocess.Popen([sys.executable, "-c", SERVER, *words])
        try:
            wait_for_port(port, 60)
            env = {**os.environ, "PYTHONPATH": f"{ROOT / 'src'}{os.pathsep}{ROOT}"}
            command = [
                sys.executable,
                "-m",
                "dynamikos.cli",
                "run",
                str(place / "p.yaml"),
                "--keep",
                str(place / "out"),
            ]
            subprocess.run(command, env=env, capture_output=True, check=False, timeout=RUN_S + 600)
        finally:
            server.kill()
            server.wait()
        return plan, *_read(place / "out")


def _read(folder: Path) -> tuple[Trace, dict[str, Trace], Trace]:
    seconds, probes = (
        pq.read_table(folder / SECONDS).to_pydict(),
        pq.read_table(folder / PROBES).to_pydict(),
    )
    length = max(seconds["second"]) + 1
    passed, total, users = np.zeros(length), np.zeros(length), np.full(length, np.nan)
    for second, level, n, took, there in zip(
        *(seconds[key] for key in ("second", "level", "passed", "sum_us", "users")), strict=True
    ):
        users[second] = there
        if level == "step":
            passed[second] += n
            total[second] += took
    told: dict[str, Trace] = {}
    for second, name, value in zip(
        probes["second"], probes["measure"], probes["value"], strict=True
    ):
        if second < length:
            told.setdefault(name, np.full(length, np.nan))[second] = value
    return (
        np.divide(total, passed * 1000, out=np.full(length, np.nan), where=passed > 0),
        told,
        users,
    )


def _is_of(name: str, resource: int) -> bool:
    return f'"r{resource}"' in name


def looked(
    step: Trace, told: Mapping[str, Trace], users: Trace, window: tuple[int, int], part: slice
) -> Look:
    """The suspects of a window, from a part of the run."""
    begin, end = (each - (part.start or 0) for each in window)
    return suspects(
        step[part], (begin, end), {name: each[part] for name, each in told.items()}, users[part]
    )


def run() -> list[Result]:
    begun = time.monotonic()
    with ThreadPoolExecutor(RUNS) as threads:
        every = list(threads.map(performed, range(RUNS)))
    incidents = first = proven = innocent = short = short_first = 0
    for seed, (plan, step, told, users) in enumerate(every):
        words = []
        for resource, at, lasts in plan:
            incidents += 1
            window = at, min(at + lasts, len(step) - 1)
            look = looked(step, told, users, window, slice(0, len(step)))
            is_first = bool(look.every) and _is_of(look.every[0].measure, resource)
            first += is_first
            proven += any(_is_of(each.measure, resource) for each in look.named)
            innocent += any(
                each.measure.partition("{")[0].rpartition(" ")[2].startswith("ordinary")
                for each in look.named
            )
            low = min(max(0, at - SHORT_S // 2), max(0, len(step) - SHORT_S))
            brief = looked(step, told, users, window, slice(low, low + SHORT_S))
            short += not any(_is_of(each.measure, resource) for each in brief.named)
            short_first += bool(brief.every) and _is_of(brief.every[0].measure, resource)
            words.append(f"r{resource}: {look.every[0].measure if look.every else 'nobody'}")
        print(f"  run {seed}: {'; '.join(words)}", flush=True)
    return [
        (
            f"incidents of {RUNS} runs of {RUN_S} s: the cause is first",
            100 * first / incidents,
            "%",
            "",
            True,
        ),
        ("and proven", 100 * proven / incidents, "%", "", True),
        (
            "windows in which an innocent measure is named",
            100 * innocent / incidents,
            "%",
            "≤ 5",
            innocent <= 0.05 * incidents,
        ),
        (
            f"of {SHORT_S} s of them: the cause is first",
            100 * short_first / incidents,
            "%",
            "",
            True,
        ),
        (f"of {SHORT_S} s of them: it stays unproven", 100 * short / incidents, "%", "", True),
        ("time", time.monotonic() - begun, "s", "", True),
    ]
