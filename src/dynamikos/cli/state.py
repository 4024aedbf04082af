"""This clone's state folder: cluster, keys, spool, logs, ports and the processes it started."""

import hashlib
import json
import os
import secrets
import signal
import socket
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psutil

ROOT = Path(__file__).resolve().parents[3]


def default_folder(root: Path = ROOT) -> Path:
    """The folder for the clone at `root`; `DYNAMIKOS_STATE` overrides it."""
    given = os.environ.get("DYNAMIKOS_STATE")
    if given:
        return Path(given)
    name = hashlib.sha256(str(root).encode()).hexdigest()[:12]
    if os.geteuid() == 0:
        return Path("/var/lib/dynamikos") / name
    return Path.home() / ".local/state/dynamikos" / name


@dataclass(frozen=True, slots=True)
class State:
    """Reads and writes the state folder. All methods are safe to call again."""

    folder: Path

    @classmethod
    def open(cls, folder: Path | None = None) -> "State":
        state = cls(folder or default_folder())
        state.folder.mkdir(parents=True, exist_ok=True)
        (state.folder / "log").mkdir(exist_ok=True)
        spool = state.folder / "spool"
        spool.mkdir(exist_ok=True, mode=0o700)
        return state

    def secret(self, name: str, nbytes: int = 24) -> str:
        """A random text made once and kept with mode 0600."""
        path = self.folder / f"{name}.key"
        if not path.exists():
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(descriptor, "w") as file:
                file.write(secrets.token_urlsafe(nbytes))
        return path.read_text().strip()

    def log(self, name: str) -> Path:
        return self.folder / "log" / f"{name}.log"

    # ports -------------------------------------------------------------------------------------

    def port(self, name: str, wanted: int, *, is_asked: bool = False) -> tuple[int, str | None]:
        """A free loopback port, the last used one if possible, and a sentence if another had to be
        taken. One that somebody asked for is taken, or refused.
        """
        ports = self._read("ports.json")
        first = wanted if is_asked else int(ports.get(name, wanted))
        if is_asked and not is_free(first):
            raise SystemExit(
                f"dynamikos: port {first} was asked for and is taken by another program; name a "
                "free one"
            )
        for port in range(first, first + 200):
            if is_free(port):
                ports[name] = port
                self._write("ports.json", ports)
                note = (
                    None
                    if port == first
                    else f"port {first} is taken by another program; {name} uses {port} instead"
                )
                return port, note
        raise SystemExit(
            f"dynamikos: no free port for {name} from {first} to {first + 199}; free one and call "
            "again"
        )

    def listening(
        self, name: str, wanted: int, *, is_asked: bool = False
    ) -> tuple[socket.socket, int, str | None]:
        """As `port`, with a socket that listens there already: nobody can take the port before a
        child serves it.
        """
        while True:
            port, note = self.port(name, wanted, is_asked=is_asked)
            made = socket.socket()
            made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                made.bind(("127.0.0.1", port))
                made.listen(4096)
            except OSError:  # another took it between the look and the bind
                made.close()
                continue
            return made, port, note

    # processes ---------------------------------------------------------------------------------

    def remember(self, name: str, pid: int) -> None:
        try:
            process = psutil.Process(pid)
            record = {
                "pid": pid,
                "started": process.create_time(),
                "command": process.cmdline()[:2],
            }
        except psutil.Error:
            return
        known = self._read("processes.json")
        known[name] = record
        self._write("processes.json", known)

    def forget(self, name: str) -> None:
        known = self._read("processes.json")
        if known.pop(name, None) is not None:
            self._write("processes.json", known)

    def living(self) -> dict[str, psutil.Process]:
        """Processes written here that are still the same ones (id, start time)."""
        found = {}
        for name, record in self._read("processes.json").items():
            try:
                process = psutil.Process(record["pid"])
                if (
                    abs(process.create_time() - record["started"]) < 0.01
                    and process.status() != psutil.STATUS_ZOMBIE
                ):
                    found[name] = process
            except psutil.Error:
                continue
        return found

    def stop_all(self) -> list[str]:
        """Ends the processes of this clone, the supervisor first and the database last; names
        them.
        """
        alive = self.living()
        order = sorted(alive, key=lambda name: (name == "postgres", name != "demo", name))
        for name in order:
            try:
                alive[name].send_signal(
                    signal.SIGINT if name in ("postgres", "demo") else signal.SIGTERM
                )
                alive[name].wait(8)
            except psutil.TimeoutExpired:
                alive[name].kill()
            except psutil.Error:
                pass
            self.forget(name)
        return order

    # files -------------------------------------------------------------------------------------

    def _read(self, name: str) -> dict[str, Any]:
        path = self.folder / name
        try:
            return dict(json.loads(path.read_text()))
        except (FileNotFoundError, ValueError):
            return {}

    def _write(self, name: str, value: dict[str, Any]) -> None:
        path = self.folder / name
        draft = path.with_suffix(f".{os.getpid()}")
        draft.write_text(json.dumps(value, indent=1))
        draft.replace(path)


def is_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def wait_for_port(port: int, seconds: float, host: str = "127.0.0.1") -> bool:
    """True as soon as something listens there; False after `seconds`."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        try:
            with socket.create_connection((host, port), timeout=0.3):
                return True
        except OSError:
            time.sleep(0.05)
    return False
