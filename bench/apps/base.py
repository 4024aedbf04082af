"""What the benchmark needs to know of an application: how it is served and driven, and what is true
of it.
"""

import contextlib
import os
import signal
import subprocess
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

Words = Mapping[str, str]  # what a person types in one recording, by name


@dataclass(frozen=True, kw_only=True)
class App:
    """`serve` gives the command of its server (and may prepare `folder` first); `drive` is one
    visit in a browser.

    `words` makes what is typed in the n-th visit: `user` words stay with a user, `round` words are
    others in each round. `issued` names, by a regular expression on "METHOD path place", each value
    that the server issues and that has to be captured: written down by hand from two recordings.
    `created` counts, in the application's own store, what visits made.
    """

    name: str
    packages: Sequence[str]
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
        subprocess.run([*uv, "pip", "install", "-q", *app.packages], check=True, env=made)
        mark.write_text(" ".join(app.packages))
    return python


def python_of(store: Path) -> Path:
    """The environment's Python, for `serve`, which gets the store only."""
    return store.parent / "env" / "bin" / "python"


class Served:
    """The application under its server, from nothing, until it is closed."""

    def __init__(self, app: App, folder: Path, port: int) -> None:
        python = installed(app, folder)
        self.store = folder / f"store-{port}"
        self.store.mkdir(parents=True)
        self.base = f"http://127.0.0.1:{port}"
        made = {
            **os.environ,
            "PATH": f"{python.parent}:{os.environ['PATH']}",
            **app.environment(self.store),
        }
        made.pop("PYTHONPATH", None)
        made.pop("DJANGO_SETTINGS_MODULE", None)
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
        end = time.monotonic() + 90
        while time.monotonic() < end:
            try:
                urllib.request.urlopen(self.base + "/", timeout=5).close()
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
