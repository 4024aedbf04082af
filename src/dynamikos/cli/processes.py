"""What the processes of this clone need: environment, start, watch, end."""

import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field

import click
import psycopg

from dynamikos.cli.cluster import Cluster
from dynamikos.cli.starting import refuse_newer, refuse_without_key
from dynamikos.cli.state import ROOT, State


@dataclass(slots=True)
class Addresses:
    """Where the database is, for each role; and the ports that are never targets."""

    owner: str
    web: str
    generator: str
    own_ports: list[int] = field(default_factory=list)
    web_port: int = 0
    practice: str = ""  # where the practice target is, if there is one


def database(state: State) -> tuple[Addresses, Cluster | None]:
    """The clone's own cluster, started; or the server that DATABASE_URL names, used by all
    roles.
    """
    given = os.environ.get("DATABASE_URL")
    if given:
        return Addresses(given, given, given), None
    cluster = Cluster(state)
    cluster.start()
    return (
        Addresses(
            cluster.url(),
            cluster.url("dynamikos_web"),
            cluster.url("dynamikos_generator"),
            [cluster.port],
        ),
        cluster,
    )


def environment(state: State, url: str, addresses: Addresses) -> dict[str, str]:
    """The process environment of a child (and, with `use`, of this process)."""
    made = dict(os.environ)
    made.update(
        {
            "DATABASE_URL": url,
            "DYNAMIKOS_STATE_FOLDER": str(state.folder),
            "DYNAMIKOS_SECRET_KEY": state.secret("web", 48),
            "DJANGO_SETTINGS_MODULE": "dynamikos.web.settings",
            "PYTHONPATH": str(ROOT / "src"),
            "DYNAMIKOS_PRACTICE": addresses.practice,
            "DYNAMIKOS_COOKIE": f"dynamikos-{state.folder.name[:8]}",
            "DYNAMIKOS_OWN_PORTS": ",".join(map(str, addresses.own_ports)),
        }
    )
    if addresses.web_port:
        made.setdefault("DYNAMIKOS_ADDRESS", f"http://127.0.0.1:{addresses.web_port}")
    return made


def use_django(state: State, addresses: Addresses, url: str | None = None) -> None:
    """Makes Django usable in this process."""
    os.environ.update(environment(state, url or addresses.owner, addresses))
    import django

    django.setup()


def migrate(addresses: Addresses) -> None:
    """Brings the database up to date and gives the roles what they need. Django must be set up as
    the owner. Raises CannotStart for a database that is newer than the code, or whose secrets have
    lost their key.
    """
    from django.conf import settings
    from django.core.management import call_command

    refuse_newer()
    call_command("migrate", verbosity=0, interactive=False)
    if addresses.web != addresses.owner:
        with psycopg.connect(addresses.owner, autocommit=True) as link:
            for statement in GRANTS:
                link.execute(statement)
    refuse_without_key(settings.SEALING_KEY)


GRANTS = (
    "GRANT USAGE ON SCHEMA public TO dynamikos_web, dynamikos_generator",
    "GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO dynamikos_web",
    "GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA public TO dynamikos_web, dynamikos_generator",
    "REVOKE UPDATE, DELETE ON projects_event FROM dynamikos_web",  # append-only
    "REVOKE UPDATE ON runs_report FROM dynamikos_web",  # it expires, and goes with its run
    (
        "GRANT SELECT ON runs_run, runs_shard, runs_command, runs_delivery, runs_watch, runs_seen, "
        "datasets_datablock,"
        " places_generator, functions_attempt, places_knock TO dynamikos_generator"
    ),
    "GRANT UPDATE (state, ending, offset_us, offset_error_us, lost_at_s) ON runs_shard TO "
    "dynamikos_generator",
    "GRANT INSERT, UPDATE ON places_generator, runs_seen TO dynamikos_generator",
    "GRANT UPDATE (state, answer, secrets) ON places_knock TO dynamikos_generator",
    "GRANT UPDATE (state, answer, took_ms) ON functions_attempt TO dynamikos_generator",
    (
        "GRANT EXECUTE ON FUNCTION lease_rows(bigint, text, int, bigint), return_rows(bigint, "
        "text, bigint, bigint),"
        " rows_wanted(bigint, text) TO dynamikos_generator"
    ),
    (
        "GRANT INSERT ON runs_report, runs_kept, runs_writtenrow, streams_message, "
        "rehearsals_rehearsedexchange TO"
        " dynamikos_generator"
    ),
    "GRANT SELECT (shard_id, second) ON runs_report TO dynamikos_generator",
    "GRANT SELECT, UPDATE (state, reason, ended_at, cleanup, secrets) ON rehearsals_rehearsal TO "
    "dynamikos_generator",
    (
        "DO $$ DECLARE t text; BEGIN FOR t IN SELECT tablename FROM pg_tables WHERE schemaname = "
        "'public' AND tablename"
        " LIKE 'procrastinate%' LOOP EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %I TO"
        " dynamikos_generator', t); END LOOP; END $$"
    ),
)


@dataclass(slots=True)
class Child:
    name: str
    command: list[str]
    environment: dict[str, str]
    listens: socket.socket | None = None  # what it serves, as its argument --fd says
    process: subprocess.Popen[bytes] | None = None
    restarts: list[float] = field(default_factory=list)


class Supervisor:
    """Starts children, restarts what died (at most five times a minute), ends all.

    Their output goes to the state's log folder.
    """

    def __init__(self, state: State) -> None:
        self.state = state
        self.children: list[Child] = []
        self.stopping = False
        self.revived: list[float] = []

    def add(
        self,
        name: str,
        command: list[str],
        environment: dict[str, str],
        listens: socket.socket | None = None,
    ) -> Child:
        if listens is not None:
            command = [*command, "--fd", str(listens.fileno())]
        child = Child(name, [sys.executable, "-m", *command], environment, listens)
        self.children.append(child)
        self._start(child)
        return child

    def add_generator(self, addresses: Addresses, *options: str) -> None:
        """A generator that knows the database by its own role only."""
        made = environment(self.state, "", addresses)
        made["DYNAMIKOS_GENERATOR_URL"] = addresses.generator
        self.add("generator", ["dynamikos.cli", "generator", *options], made)

    def _start(self, child: Child) -> None:
        log = self.state.log(child.name).open("ab")
        child.process = subprocess.Popen(
            ["setpriv", "--pdeathsig=TERM", "--", *child.command],
            env=child.environment,
            stdout=log,
            stderr=log,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
            pass_fds=[child.listens.fileno()] if child.listens is not None else [],
        )
        time.sleep(0.01)
        self.state.remember(child.name, child.process.pid)

    def watch(
        self, until: Callable[[], bool] = lambda: False, cluster: Cluster | None = None
    ) -> None:
        """Returns on SIGINT, SIGTERM or when `until` is true.

        A `cluster` that ended by itself is started again, too.
        """

        def halt(*_: object) -> None:
            self.stopping = True

        signal.signal(signal.SIGINT, halt)
        signal.signal(signal.SIGTERM, halt)
        while not self.stopping and not until():
            self._revive(cluster)
            for child in self.children:
                if (
                    child.process is not None
                    and child.process.poll() is not None
                    and not self.stopping
                ):
                    now = time.monotonic()
                    child.restarts = [at for at in child.restarts if now - at < 60] + [now]
                    if len(child.restarts) > 5:
                        click.echo(
                            f"{child.name} died six times within a minute and is not started "
                            "again; see"
                            f" {self.state.log(child.name)}",
                            err=True,
                        )
                        child.process = None
                        if child.listens is not None:  # who connects is refused, not kept waiting
                            child.listens.close()
                        continue
                    click.echo(
                        f"{child.name} ended (code {child.process.returncode}); starting it again",
                        err=True,
                    )
                    self._start(child)
            time.sleep(0.2)

    def _revive(self, cluster: Cluster | None) -> None:
        """At most five times a minute."""
        if cluster is None or cluster.process is None or cluster.process.poll() is None:
            return
        now = time.monotonic()
        self.revived = [at for at in self.revived if now - at < 60]
        if len(self.revived) >= 5:
            return
        self.revived.append(now)
        click.echo(
            f"the database ended (code {cluster.process.returncode}); starting it again", err=True
        )
        try:
            cluster.revive()
        except SystemExit as problem:
            click.echo(str(problem), err=True)

    def end(self) -> None:
        """SIGTERM to all, SIGKILL after five seconds to who is still there."""
        self.stopping = True
        for child in reversed(self.children):
            if child.process is not None and child.process.poll() is None:
                child.process.terminate()
        limit = time.monotonic() + 5
        for child in self.children:
            if child.process is not None:
                try:
                    child.process.wait(max(0.1, limit - time.monotonic()))
                except subprocess.TimeoutExpired:
                    child.process.kill()
            self.state.forget(child.name)
