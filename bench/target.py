"""What the stand-in carries: simple requests per processor second on one core, by the C epoll
loop.
"""

import subprocess
import tempfile
import time
from pathlib import Path

import psutil

from bench.beside import HERE
from bench.truth import Target

Result = tuple[str, float, str, str, bool]


def run() -> list[Result]:
    with tempfile.TemporaryDirectory() as name:
        loop = Path(name) / "loop"
        source = Path(name) / "loop.c"
        source.write_text((HERE / "epoll_loop.c").read_text().replace("GET /kb ", "GET /ping "))
        subprocess.run(["gcc", "-O2", "-D_GNU_SOURCE", "-o", str(loop), str(source)], check=True)
        target = Target("clear", 1)
        try:
            begun, process = time.perf_counter(), psutil.Process(target.process.pid)
            used = sum(process.cpu_times()[:2])
            out = subprocess.run(
                ["taskset", "-c", "1", str(loop), str(target.port), "32", "4"],
                capture_output=True,
                text=True,
                check=True,
            ).stdout.split()
            rate = int(out[0]) / (time.perf_counter() - begun)
            per_core = int(out[0]) / (sum(process.cpu_times()[:2]) - used)
        finally:
            target.close()
    return [
        ("simple requests on one core", rate, "/s", "≥ 2,000", rate >= 2000),
        ("simple requests per processor second", per_core, "/s", "", True),
    ]
