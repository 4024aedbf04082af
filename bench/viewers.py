"""A run on two generators with twenty viewers: how far behind each is, and what the web process
takes for it.

Everything shares this machine's cores: generators, Debian's nginx as the target, coordinator,
database, the web process and the viewers.
"""

import http.client
import json
import os
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import psutil
import yaml

from bench.beside import nginx
from bench.database import own_database
from bench.ladder import Result
from bench.realistic import MORE, STEP, place

VIEWERS, GENERATORS, USERS, SECONDS = 20, 2, 400, 60
THINK_S = float(
    os.environ.get("DYNAMIKOS_VIEWERS_THINK_S", "0.05")
)  # of a step: the less, the busier the generators
BUSY = 0.6  # of a core, of each
# two requests a step, each with a value, a header and a form, a capture of JSON and five checks
JOURNEY = yaml.safe_load(
    STEP.replace("CHECKS", MORE)
    .replace("USER", "{{ user.number }}")
    .replace("env.base", "env.observatory")
)
REQUEST = JOURNEY["rounds"][0]["requests"][0]
JOURNEY |= {
    "journey": "busy",
    "rounds": [
        {
            "step": key,
            "name": f"Step {key}",
            "think_s": THINK_S,
            "requests": [{**REQUEST, "request": f"{key}-{at}"} for at in "ab"],
        }
        for key in "xyz"
    ],
}


def run() -> list[Result]:
    children: list[subprocess.Popen[bytes]] = []
    with own_database(), tempfile.TemporaryDirectory() as folder:
        try:
            return _measured(children, Path(folder))
        finally:
            for each in children:
                each.terminate()
            for each in children:
                each.wait()


def _measured(children: list[subprocess.Popen[bytes]], folder: Path) -> list[Result]:
    from django.test import Client
    from msgspec.structs import replace
    from tests.web.support import Sample

    from dynamikos.cli.state import is_free, wait_for_port
    from dynamikos.core.journeys import parse_journey
    from dynamikos.core.profiles import Stretch
    from dynamikos.web.journeys import actions as journeys
    from dynamikos.web.places.queries import living
    from dynamikos.web.plans import actions as plans
    from dynamikos.web.plans.queries import content
    from dynamikos.web.runs import actions
    from dynamikos.web.runs.models import Run

    url = os.environ["DATABASE_URL"]
    target, web = [port for port in range(18800, 18900) if is_free(port)][:2]

    def start(*command: str, **more: str) -> subprocess.Popen[bytes]:
        made = subprocess.Popen(
            [sys.executable, "-m", *command], env={**os.environ, "DYNAMIKOS_POOL": "0", **more}
        )
        children.append(made)
        return made

    children.append(nginx(folder, target, place(), connections=4 * USERS))
    start("dynamikos.cli", "coordinator")
    generators = [
        psutil.Process(start("dynamikos.cli", "generator", DYNAMIKOS_GENERATOR_URL=url).pid)
        for _ in range(GENERATORS)
    ]
    serving = psutil.Process(
        start("dynamikos.cli", "web", "--port", str(web), DYNAMIKOS_POOL="16").pid
    )
    assert wait_for_port(target, 20) and wait_for_port(web, 30)
    sample = Sample(f"http://127.0.0.1:{target}")
    while len(living()) < GENERATORS:
        time.sleep(0.1)
    profile = (
        Stretch(stretch="climb", to=USERS, seconds=10),
        Stretch(stretch="hold", seconds=SECONDS - 10),
    )
    journey = journeys.create(sample.member, parse_journey(json.dumps(JOURNEY)))
    core = replace(
        content(sample.plan),
        journey=journey.key,
        profile=profile,
        generators=GENERATORS,
        objectives=(),
    )
    made = actions.start(sample.member, plans.add(sample.member, core))
    client = Client()
    client.force_login(sample.accounts["cass"])
    cookie = "; ".join(f"{name}={each.value}" for name, each in client.cookies.items())
    path = sample.address(f"runs/{made.pk}/stream")
    while Run.objects.get(pk=made.pk).begins_at is None:
        time.sleep(0.05)
    begins = Run.objects.get(pk=made.pk).begins_at
    assert begins is not None
    lags: list[list[float]] = [[] for _ in range(VIEWERS)]

    def watch(mine: list[float]) -> None:
        link = http.client.HTTPConnection("127.0.0.1", web, timeout=30)
        link.request("GET", path, headers={"Cookie": cookie, "Host": f"127.0.0.1:{web}"})
        answer, is_frame = link.getresponse(), False
        while line := answer.readline():
            if line.startswith(b"event: "):
                is_frame = line.strip() == b"event: frame"
                if line.strip() == b"event: end":
                    return
            elif is_frame and line.startswith(b"data: ["):
                second = int(line[7:].partition(b",")[0])
                mine.append(time.time() - begins.timestamp() - second - 1)

    threads = [threading.Thread(target=watch, args=(each,), daemon=True) for each in lags]
    for each in threads:
        each.start()
    while Run.objects.get(pk=made.pk).watermark < 15:
        time.sleep(0.2)
    before, began = [sum(each.cpu_times()[:2]) for each in (*generators, serving)], time.monotonic()
    worst_mb = 0.0
    while Run.objects.get(pk=made.pk).watermark < SECONDS - 5:
        worst_mb = max(worst_mb, serving.memory_info().rss / 1e6)
        time.sleep(0.5)
    took = time.monotonic() - began
    shares = [
        (sum(each.cpu_times()[:2]) - was) / took
        for each, was in zip((*generators, serving), before, strict=True)
    ]
    actions.stop(sample.member, made, now=True)
    for each in threads:
        each.join(20)
    # those of seconds that were over when a viewer came are late by that
    later = sorted(lag for mine in lags for lag in mine[20:])
    busy = min(shares[:-1])
    p50, p99 = later[len(later) // 2], later[int(len(later) * 0.99)]
    return [
        (
            "frames that viewers saw",
            len(later),
            "",
            f"≥ {VIEWERS * 20}",
            len(later) >= VIEWERS * 20,
        ),
        ("behind the end of the second, p50", 1000 * p50, "ms", "", True),
        ("behind the end of the second, p99", 1000 * p99, "ms", "≤ 2,000", p99 <= 2.0),
        ("behind the end of the second, worst", 1000 * later[-1], "ms", "", True),
        ("share of a core, each generator, the least", 100 * busy, "%", "≥ 60", busy >= BUSY),
        ("share of a core, web process", 100 * shares[-1], "%", "", True),
        ("memory of the web process, most", worst_mb, "MB", "≤ 400", worst_mb <= 400),
    ]
