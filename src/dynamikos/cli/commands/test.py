"""./dynamikos test"""

import contextlib
import os
import re
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

import click

from dynamikos.cli.cluster import Cluster
from dynamikos.cli.state import ROOT, State

PYTHON = sys.executable
SHORT = {  # seconds, made short for tests with real processes
    "DYNAMIKOS_HEARTBEAT_S": "0.3",
    "DYNAMIKOS_GENERATOR_LOST_S": "2",
    "DYNAMIKOS_START_AHEAD_S": "0.5",
    "DYNAMIKOS_COORDINATOR_TICK_S": "0.1",
    "DYNAMIKOS_IDLE_S": "1",
    "DYNAMIKOS_RECONNECT_S": "0.2",
    "DYNAMIKOS_LOST_CLOSE_S": "4",
    "DYNAMIKOS_CUT_OFF_S": "8",
    "DYNAMIKOS_TESTING": "1",
}


TSC = "/usr/bin/tsc"


@dataclass
class Count:
    """What passed and failed of a stage, whose name stands before its lines where another one runs
    beside it.
    """

    passed: int = 0
    failed: int = 0
    stage: str = ""

    def say(self, text: str) -> None:
        click.echo("\n".join(f"{self.stage}{line}" for line in text.split("\n")))


def linters(environment: dict[str, str], count: Count) -> None:
    """Each tool counts as one test; two at a time, those that take longest first."""
    lint = str(ROOT / ".venv/bin/lint-imports")
    tools = (
        ("mypy", [PYTHON, "-m", "mypy", "src"]),
        ("templates", [PYTHON, "-m", "djlint", "src/dynamikos/web", "--check", "--quiet"]),
        ("scripts", [TSC, "-p", "jsconfig.json"]),
        ("import contracts", [lint]),
        ("migrations", [PYTHON, "manage.py", "makemigrations", "--check", "--dry-run"]),
        ("ruff", [PYTHON, "-m", "ruff", "check", "src", "tests", "bench", "manage.py"]),
        ("ruff format", [PYTHON, "-m", "ruff", "format", "--check", "src", "tests", "bench"]),
    )

    def checked(tool: tuple[str, list[str]]) -> subprocess.CompletedProcess[str] | None:
        command = tool[1]
        if command[0] == TSC and not Path(TSC).exists():
            return None
        return subprocess.run(
            command, cwd=ROOT, env=environment, capture_output=True, text=True, check=False
        )

    with ThreadPoolExecutor(2) as threads:
        for (name, _), done in zip(tools, threads.map(checked, tools), strict=True):
            if done is None:
                count.say(
                    f"  {name}: NOT CHECKED, Debian's package node-typescript could not be had"
                )
                continue
            good = done.returncode == 0
            count.say(f"  {name}: {'ok' if good else 'FAILED'}")
            if not good:
                count.say(done.stdout[-20_000:] + done.stderr[-20_000:])
            count.passed += good
            count.failed += not good


@contextlib.contextmanager
def made_meanwhile(environment: dict[str, str]) -> Iterator[None]:
    """The engine as machine code, if its sources have changed and there is a compiler; it is waited
    for in the end.
    """
    if environment.get("DYNAMIKOS_INTERPRETED") or not Path("/usr/bin/gcc").exists():
        yield
        return
    command = ["flock", str(ROOT / ".venv.lock"), PYTHON, "-m", "dynamikos.machine.making"]
    making = subprocess.Popen(command, cwd=ROOT, env=environment)
    try:
        yield
    finally:
        making.wait()


def django(
    labels: list[str], environment: dict[str, str], count: Count, *, parallel: int = 0
) -> None:
    """Django's runner on `labels`; its closing lines are counted."""
    command = [
        PYTHON,
        "-W",
        "ignore::Warning:django.core.handlers.asgi",
        "manage.py",
        "test",
        "--testrunner",
        "tests.runner.Runner",
        "--noinput",
        "--keepdb",
        "-v",
        "1",
        *labels,
    ]
    if parallel:
        command += ["--parallel", str(parallel)]
    done = subprocess.run(
        command,
        cwd=ROOT,
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        check=False,
    )
    ran = sum(int(number) for number in re.findall(r"^Ran (\d+) tests? in", done.stdout, re.M))
    wrong = sum(int(number) for number in re.findall(r"(?:failures|errors)=(\d+)", done.stdout))
    skipped = sum(int(number) for number in re.findall(r"skipped=(\d+)", done.stdout))
    if done.returncode and not wrong:
        wrong = 1
    if done.returncode or not ran:
        count.say(done.stdout[-12_000:])
        wrong = max(wrong, 1)
    for line in re.findall(r"^slow: .*", done.stdout, re.M):
        count.say(f"  {line}")
    took_s = sum(
        float(each) for each in re.findall(r"^Ran \d+ tests? in ([\d.]+)s", done.stdout, re.M)
    )
    skips = f", {skipped} skipped" if skipped else ""
    count.say(f"  {ran} ran in {took_s:.0f} s, {wrong} failed{skips}")
    count.passed += max(0, ran - wrong - skipped)
    count.failed += wrong


def side_by_side(
    *parts: list[str], databases: bool = False, pool: int = 0
) -> Callable[[dict[str, str], Count], None]:
    """A stage of parts that need nothing of each other, one process each; with `databases` each has
    a server of its own, the first one that of the stage, which is started again when a test stops
    it; the others begin as copies of it. `pool`: so many connections are kept, as the web process
    does it.
    """

    def stage(environment: dict[str, str], count: Count) -> None:
        environment = {**environment, "DYNAMIKOS_POOL": str(pool)}
        clusters: list[Cluster | None] = [None]
        try:
            if databases:
                with_tables(environment)
            for number in range(1, len(parts)):
                clusters.append(copied(environment["DATABASE_URL"], number) if databases else None)
            with ThreadPoolExecutor(len(parts)) as threads:
                counts = list(
                    threads.map(
                        lambda part, own: counted(part, environment, own, count.stage),
                        parts,
                        clusters,
                    )
                )
        finally:
            for cluster in clusters:
                if cluster is not None:
                    cluster.drop()
        for each in counts:
            count.passed += each.passed
            count.failed += each.failed

    def counted(
        part: list[str], environment: dict[str, str], cluster: Cluster | None, name: str
    ) -> Count:
        own = Count(stage=name)
        django(part, environment if cluster is None else {**environment, **addresses(cluster)}, own)
        return own

    return stage


def with_tables(environment: dict[str, str]) -> None:
    """The database that tests use, where there is none yet."""
    made = (
        "import django; django.setup(); from django.db import connection as link; "
        "link.creation.create_test_db"
    )
    command = [PYTHON, "-c", f"{made}(verbosity=0, autoclobber=True, keepdb=True)"]
    subprocess.run(command, cwd=ROOT, env=environment, check=True)


def copied(url: str, number: int) -> Cluster:
    """A server like the one at `url`, started."""
    cluster = Cluster(State.open(), name=f"pg-test-{os.getpid()}-{number}", fast=True)
    cluster.copy(urlsplit(url).port or 0)
    cluster.start()
    return cluster


def lanes(folder: str, *apart: tuple[str, ...]) -> list[list[str]]:
    """The test files of a folder as lanes that take about as long: those named, and the rest."""
    names = sorted(path.stem for path in (ROOT / folder).glob("test_*.py"))
    rest = tuple(name for name in names if not any(name in each for each in apart))
    return [
        [f"{folder.replace('/', '.')}.{name}" for name in each if name in names]
        for each in (*apart, rest)
    ]


STAGES: dict[str, Callable[[dict[str, str], Count], None]] = {
    "static": linters,
    # these need no database
    "core": side_by_side(["tests/core", "tests/observatory"], ["tests/engine", "tests/machine"]),
    "web": lambda environment, count: django(
        ["tests/web", "tests/cli"], environment, count, parallel=2
    ),
    # much of these is waiting: in three lanes they take little more than a third of the time
    "processes": side_by_side(
        *lanes(
            "tests/processes",
            ("test_cluster", "test_faults"),  # these stop the database
            ("test_runs", "test_preflight", "test_data", "test_probes", "test_places"),
        ),
        databases=True,
    ),
    "browser": side_by_side(
        *lanes(
            "tests/browser",
            ("test_story", "test_telling", "test_modules"),
            ("test_watching", "test_noticeboard", "test_eyes"),
        ),
        databases=True,
        pool=8,
    ),
}
# those of a line would run beside each other; tests of the engine measure the machine, so they are
# alone
ORDER = (("static",), ("core",), ("web",), ("processes",), ("browser",))
LIMITS_S = {"static": 150, "core": 150, "web": 150, "processes": 360, "browser": 400}


def addresses(cluster: Cluster) -> dict[str, str]:
    """Of a server, as the tests are told."""
    return {
        "DATABASE_URL": cluster.url(),
        "DYNAMIKOS_TEST_GENERATOR": cluster.url("dynamikos_generator", "DATABASE"),
    }


def keep_up(cluster: Cluster, hold: Path, over: threading.Event) -> None:
    """Starts the server again when a test stopped it, as soon as there is no file `hold` any
    more.
    """
    hold.unlink(missing_ok=True)
    while not over.wait(0.2):
        if not hold.exists():
            cluster.revive()


def mutation(environment: dict[str, str], count: Count) -> None:
    """Whether tests notice what is changed in what decides a verdict (tests/mutation.py)."""
    command = [PYTHON, "-m", "tests.mutation"]
    made = {**environment, "DYNAMIKOS_INTERPRETED": "1"}
    good = subprocess.run(command, cwd=ROOT, env=made, check=False).returncode == 0
    count.passed += good
    count.failed += not good


@click.command()
@click.argument("what", nargs=-1)
@click.option(
    "--long",
    "is_long",
    is_flag=True,
    help="Besides, change what decides a verdict in 400 places, one by one: tests have to fail.",
)
def command(what: tuple[str, ...], is_long: bool) -> None:
    """Run every check, or only the stages or test paths named: static, core, web, processes,
    browser.
    """
    stages: dict[str, Callable[[dict[str, str], Count], None]] = {}
    for name in what or STAGES:
        if name in STAGES:
            stages[name] = STAGES[name]
        elif (ROOT / name).exists() or "." in name:
            label = name if (ROOT / name).is_dir() else name.removesuffix(".py").replace("/", ".")
            stages[name] = lambda environment, count, label=label: django(
                [label], environment, count
            )  # type: ignore[misc]
        else:
            raise click.BadParameter(
                f"'{name}' is neither a stage ({', '.join(STAGES)}) nor a path"
            )
    state = State.open()
    state.secret("web", 48)
    environment = {
        **os.environ,
        **SHORT,
        "DJANGO_SETTINGS_MODULE": "dynamikos.web.settings",
        "DYNAMIKOS_SECRET_KEY": state.secret("web", 48),
        "DYNAMIKOS_STATE_FOLDER": str(state.folder),
        "DATABASE_URL": "postgresql://nobody@127.0.0.1:1/none",
        "PYTHONPATH": f"{ROOT / 'src'}:{ROOT}",
    }
    cluster = None
    if any(name not in ("static", "core") for name in stages):
        cluster = Cluster(state, name=f"pg-test-{os.getpid()}", fast=True)
        cluster.start()
        environment |= addresses(cluster)
        over, hold = threading.Event(), state.folder / f"hold-postgres-{os.getpid()}"
        environment["DYNAMIKOS_HOLD"] = str(hold)
        keeper = threading.Thread(target=keep_up, args=(cluster, hold, over), daemon=True)
        keeper.start()
    counts: list[Count] = []
    lines: list[str] = []

    def performed(name: str, beside: bool) -> None:
        count = Count(stage=f"{name} |" if beside else "")
        counts.append(count)
        click.echo(f"{name}")
        begun = time.monotonic()
        # a part of the tests takes the engine as it is
        with (
            made_meanwhile(environment)
            if name == "static" and not what
            else contextlib.nullcontext()
        ):
            stages[name](environment, count)
        took = time.monotonic() - begun
        too_long = (
            f" (over its limit of {LIMITS_S[name]} s)" if took > LIMITS_S.get(name, 1e9) else ""
        )
        lines.append(f"  {name:12} {took:6.1f} s{too_long}{'  FAILED' if count.failed else ''}")
        click.echo(lines[-1])

    try:
        if is_long:
            stages["mutation"] = mutation
        groups = [(name,) for name in stages] if what else [*ORDER, *[("mutation",)] * is_long]
        for group in groups:
            with ThreadPoolExecutor(len(group)) as threads:
                list(threads.map(performed, group, [len(group) > 1] * len(group)))
    finally:
        if cluster is not None:
            over.set()
            keeper.join()
            cluster.drop()
    click.echo("\nsummary\n" + "\n".join(lines))
    passed, failed = sum(each.passed for each in counts), sum(each.failed for each in counts)
    click.echo(f"{passed} passed, {failed} failed")
    sys.exit(1 if failed or not passed else 0)
