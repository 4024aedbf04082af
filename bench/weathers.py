"""Every weather of the practice target through the product, from a shell: what is planted in it is
the first suspect, or is noticed by name; a clear one has no finding about the target.
"""

import json
import os
import subprocess
import sys
import tempfile
import urllib.request
from dataclasses import dataclass
from pathlib import Path

from bench.ladder import Result
from dynamikos.cli.folder import suspects_in
from dynamikos.cli.state import ROOT, is_free, wait_for_port

TERMS = ("lyra", "orion", "cygnus", "draco", "ursa", "perseus", "aquila", "cassiopeia")
JOURNEY = """form: 1
journey: looker
name: Somebody who looks
rounds:
  - step: sky
    name: Sky
    requests:
      - {request: get-sky, address: "{{ env.observatory }}/sky?constellation=lyra&page=1"}
  - step: search
    name: Search
    requests:
      - request: get-objects
        address: "{{ env.observatory }}/api/objects?q={{ terms.term }}"
        checks: [{status: 200}]
  - step: object
    name: Object
    requests:
      - {request: get-object, address: "{{ env.observatory }}/objects/bf-001-cluster"}
"""


@dataclass(frozen=True, slots=True)
class Case:
    """A weather, its load (visitors a second over so many seconds, as stretches), the step that
    suffers and when, and what is to be the first suspect or to be noticed: words, one of which is
    to be in it.
    """

    weather: str
    stretches: tuple[tuple[float, float], ...]
    step: str = ""
    window: tuple[int, int] = (0, 0)
    suspects: tuple[str, ...] = ()
    rules: tuple[str, ...] = ()
    never: str = ""
    ask: str = ""


STEADY = ((20.0, 70.0),)
BURST = ((60.0, 40.0), (250.0, 10.0), (60.0, 25.0))
CASES = (
    Case("clear", STEADY),
    Case("gust", STEADY, "object", (28, 40), ("disk", "flushing"), ask="/weather/gust?at=30&for=6"),
    Case("slow-search", ((20.0, 120.0),), rules=("drift", "shift", "saturation")),
    Case("leak", ((30.0, 160.0),), rules=("drift", "gust", "shift")),
    Case("brittle", ((90.0, 50.0),), rules=("failures-by-value", "errors-at-a-load")),
    Case("small-pool", BURST, "sky", (38, 56), ("pool",)),
    Case("masquerade", BURST, "sky", (38, 56), ("pool",), never="lamps"),
)


def run() -> list[Result]:
    made: list[Result] = []
    with tempfile.TemporaryDirectory() as name:
        for case in CASES:
            made += _performed(Path(name), case)
    return made


def _performed(place: Path, case: Case) -> list[Result]:
    port = next(port for port in range(18900, 19000) if is_free(port))
    environment = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
    target = subprocess.Popen(
        [
            "taskset",
            "-c",
            "0",
            sys.executable,
            "-m",
            "observatory",
            "--port",
            str(port),
            "--weather",
            case.weather,
        ],
        env=environment,
    )
    try:
        assert wait_for_port(port, 15)
        _written(place, case, port)
        if case.ask:
            asked = urllib.request.Request(f"http://127.0.0.1:{port}{case.ask}", method="POST")
            urllib.request.urlopen(asked, timeout=5).close()
        command = [
            sys.executable,
            "-m",
            "dynamikos.cli",
            "run",
            str(place / "plan.yaml"),
            "--keep",
            str(place / "kept"),
        ]
        done = subprocess.run(
            ["taskset", "-c", "1", *command],
            env=environment,
            capture_output=True,
            text=True,
            check=False,
        )
        kept = place / "kept"
        assert (kept / "run.json").exists(), done.stdout + done.stderr
    finally:
        target.terminate()
        target.wait()
    told = json.loads((kept / "run.json").read_text())
    noticed = [each for each in told["findings"] if each["about"] == "target"]
    rules = ", ".join(f"{each['rule']}" for each in noticed) or "none"
    if case.step:
        found = suspects_in(kept, case.step, case.window).every
        first = found[0].measure if found else "none"
        good = any(word in first for word in case.suspects) and (
            not case.never or case.never not in first
        )
        return [
            (
                f"{case.weather}: first of {len(found)} suspects: {first}",
                1.0 if good else 0.0,
                "",
                "1",
                good,
            )
        ]
    if case.rules:
        hit = [each for each in noticed if each["rule"] in case.rules]
        said = hit[0]["sentence"][:90] if hit else f"noticed: {rules}"
        return [(f"{case.weather}: {said}", float(bool(hit)), "", "1", bool(hit))]
    return [
        (f"{case.weather}: findings about the target ({rules})", len(noticed), "", "0", not noticed)
    ]


def _written(place: Path, case: Case, port: int) -> None:
    stretches = "".join(
        f"      - {{stretch: burst, to: {per_s:g}, seconds: {seconds:g}}}\n"
        for per_s, seconds in case.stretches
    )
    (place / "looker.yaml").write_text(JOURNEY)
    (place / "terms.csv").write_text("term\n" + "\n".join(TERMS) + "\n")
    (place / "environment.yaml").write_text(
        "form: 1\nenvironment: e\nname: E\n"
        f'addresses:\n  observatory: "http://127.0.0.1:{port}"\nagreed:\n  - '
        f'"http://127.0.0.1:{port}"\n'
    )
    seconds = sum(length for _, length in case.stretches)
    (place / "plan.yaml").write_text(
        "form: 2\nplan: weathers\nname: Weathers\nenvironment: environment.yaml\ndata: "
        "[terms.csv]\n"
        "crowds:\n  - crowd: visitors\n    load: {workload: arrivals, per: second, spread: "
        "poisson, ceiling: 3000}\n"
        f"    profile:\n{stretches}    rows:\n      - {{row: looking, journey: looker.yaml}}\n"
        f"measured: [5, {seconds:g}]\n"
        'probes:\n  - {probe: target, openmetrics: "{{ env.observatory }}/metrics", every_s: 1}\n'
    )
