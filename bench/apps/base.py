"""What the benchmark needs to know of an application: how it is served and driven, and what is true
of it.
"""

import contextlib
import json
import os
import shutil
import signal
import sqlite3
import ssl
import subprocess
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

WAYS = ("HAR", "doorway", "proxy")
Words = Mapping[str, str]  # what a person types in one recording, by name


@dataclass(frozen=True, kw_only=True)
class App:
    """`serve` gives the command of its server (and may prepare `folder` first); `drive` is one
    visit in a browser.

    `words` makes what is typed in the n-th visit: `user` words stay with a user, `round` words are
    others in each round. `issued` names, by a regular expression on "METHOD path place", each value
    that the server issues and that has to be captured: written down by hand from two recordings.
    `created` counts, in the application's own store, what visits made.

    `modules` are packages of Node by name with their versions; `build` is called once in their
    folder after they were installed. With `others`, the application listens on that many ports
    after its own too, each an origin of its own. `ways` are how it is recorded, the journey being
    made of the first. Below "https" its certificate is nobody's.
    """

    name: str
    packages: Sequence[str] = ()
    modules: Mapping[str, str] = field(default_factory=dict)
    build: Callable[[Path], None] | None = None
    scheme: str = "http"
    ways: Sequence[str] = WAYS
    others: int = 0
    serve: Callable[[Path, int], Sequence[str]]
    drive: Callable[[Any, str, Words], None]
    user: Callable[[int], Words] = lambda number: {}
    round: Callable[[int], Words] = lambda number: {}
    issued: Mapping[str, str] = field(default_factory=dict)
    created: Callable[[Path, str], int]
    environment: Callable[[Path], Mapping[str, str]] = lambda folder: {}
    rounds_from: str = (
        ""  # a regular expression on "METHOD address" of the first request of the rounds
    )

    def words(self, number: int) -> dict[str, str]:
        return {**self.user(number), **self.round(number)}


def installed(app: App, folder: Path) -> Path:
    """The Python of the application's own environment, made when it is not there yet."""
    python = folder / "env" / "bin" / "python"
    mark = folder / "env" / "packages"
    if not mark.exists() or mark.read_text() != " ".join(app.packages):
        uv = [str(Path(__file__).resolve().parents[2] / ".venv/bin/uv")]
        subprocess.run(
            [*uv, "venv", "-q", "--clear", "--python", "/usr/bin/python3", str(folder / "env")],
            check=True,
        )
        made = {**os.environ, "VIRTUAL_ENV": str(folder / "env")}
        if app.packages:
            subprocess.run([*uv, "pip", "install", "-q", *app.packages], check=True, env=made)
        mark.write_text(" ".join(app.packages))
    return python


def python_of(store: Path) -> Path:
    """The environment's Python, for `serve`, which gets the store only."""
    return store.parent / "env" / "bin" / "python"


def with_modules(app: App, folder: Path) -> None:
    """Installs the packages of Node in `folder`/modules, and builds what the application wants."""
    place, wanted = folder / "modules", json.dumps(dict(app.modules))
    mark = place / "made"
    if not app.modules or (mark.exists() and mark.read_text() == wanted):
        return
    if shutil.which("npm") is None:
        raise RuntimeError(f"{app.name} needs Node: install Debian's nodejs and npm")
    shutil.rmtree(place, ignore_errors=True)
    place.mkdir(parents=True)
    (place / "package.json").write_text(
        json.dumps({"name": "made", "private": True, "dependencies": dict(app.modules)})
    )
    npm = ["npm", "install", "--no-audit", "--no-fund", "--loglevel=error"]
    subprocess.run(npm, cwd=place, check=True)
    if app.build is not None:
        app.build(place)
    mark.write_text(wanted)


def counted(database: Path, query: str) -> int:
    """What a query of SQLite that counts says of the application's own store."""
    with sqlite3.connect(database) as store:
        return int(store.execute(query).fetchone()[0])


def modules_of(store: Path) -> Path:
    """Where the packages of Node are, for `serve`, which gets the store only."""
    return store.parent / "modules"


class Served:
    """The application under its server, from nothing, until it is closed."""

    def __init__(self, app: App, folder: Path, port: int) -> None:
        python = installed(app, folder)
        with_modules(app, folder)
        self.store = folder / f"store-{port}"
        self.store.mkdir(parents=True)
        self.origins = [
            f"{app.scheme}://127.0.0.1:{number}" for number in range(port, port + 1 + app.others)
        ]
        self.base = self.origins[0]
        made = {**os.environ, "PATH": f"{python.parent}:{os.environ['PATH']}"}
        made.pop("PYTHONPATH", None)
        made.pop("DJANGO_SETTINGS_MODULE", None)
        made.update(app.environment(self.store))
        self._environment = made
        command = app.serve(self.store, port)
        self.log = (folder / "server.log").open("ab")
        command = [str(python) if each == "python" else each for each in command]
        self.process = subprocess.Popen(
            command,
            cwd=self.store,
            env=made,
            stdout=self.log,
            stderr=self.log,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
        )
        nobody = ssl.create_default_context()
        nobody.check_hostname, nobody.verify_mode = False, ssl.CERT_NONE
        end = time.monotonic() + 90
        while time.monotonic() < end:
            try:
                urllib.request.urlopen(self.base + "/", timeout=5, context=nobody).close()
                return
            except urllib.error.HTTPError:
                return
            except OSError:
                if self.process.poll() is not None:
                    break
                time.sleep(0.2)
        self.close()
        raise RuntimeError(f"{app.name} did not start; see {folder / 'server.log'}")

    def close(self) -> None:
        if self.process.poll() is None:
            self.process.terminate()
            try:
                self.process.wait(10)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()
        with contextlib.suppress(ProcessLookupError):  # workers outlive a server that was killed
            os.killpg(self.process.pid, signal.SIGKILL)
        self.log.close()
