"""The stand-in that a run from files starts for itself, when its environment asks for one."""

import os
import re
import socket
import subprocess
import sys
import time
from dataclasses import dataclass
from urllib.parse import urlsplit

import psutil
from msgspec.structs import replace

from dynamikos.cli.state import is_free
from dynamikos.core.plans import Environment

OF_A_RUN = "DYNAMIKOS_STAND_IN_OF_A_RUN"
START_S = 20


@dataclass(frozen=True, slots=True)
class Practice:
    """What was started, and the environment that leads to it."""

    environment: Environment
    process: subprocess.Popen[bytes] | None = None
    said: str = ""

    def end(self) -> None:
        if self.process is not None:
            self.process.terminate()
            self.process.wait()


def practice_for(environment: Environment) -> Practice:
    """Starts the stand-in unless something listens there already; where that is another run's,
    which ends with it, on a port of its own.
    """
    for address in environment.addresses.values() if environment.practice else ():
        parts = urlsplit(address)
        if parts.hostname not in ("127.0.0.1", "localhost") or not parts.port:
            continue
        if is_free(parts.port):
            process = _started(parts.port, environment.practice)
            if process is not None:
                return Practice(environment, process)
        if _is_of_a_run(parts.port):
            with socket.socket() as free:
                free.bind(("127.0.0.1", 0))
                port = free.getsockname()[1]
            said = (
                f"another run's stand-in listens on port {parts.port}; this run has its own on "
                f"port {port}"
            )
            return Practice(
                moved(environment, parts.port, port), _started(port, environment.practice), said
            )
    return Practice(environment)


def moved(environment: Environment, port: int, to: int) -> Environment:
    """The same on another port of this machine."""

    def on_it(text: str) -> str:
        return re.sub(rf"(?<=//)(127\.0\.0\.1|localhost):{port}(?!\d)", rf"\g<1>:{to}", text)

    return replace(
        environment,
        addresses={name: on_it(address) for name, address in environment.addresses.items()},
        values={name: on_it(value) for name, value in environment.values.items()},
        agreed=tuple(on_it(line) for line in environment.agreed),
    )


def _started(port: int, weather: str) -> subprocess.Popen[bytes] | None:
    """None where somebody else took the port meanwhile."""
    command = [sys.executable, "-m", "observatory", "--port", str(port), "--weather", weather]
    process = subprocess.Popen(
        command, env={**os.environ, OF_A_RUN: "1"}, stderr=subprocess.DEVNULL
    )
    until = time.monotonic() + START_S
    while process.poll() is None and _listens(port) != process.pid and time.monotonic() < until:
        time.sleep(0.05)
    return process if process.poll() is None else None


def _listens(port: int) -> int | None:
    """The process that listens there, where this one may know it."""
    for each in psutil.net_connections("tcp"):
        if each.status == psutil.CONN_LISTEN and each.laddr and each.laddr.port == port:
            return each.pid
    return None


def _is_of_a_run(port: int) -> bool:
    """Whether what listens there was started by another run."""
    pid = _listens(port)
    try:
        return pid is not None and OF_A_RUN in psutil.Process(pid).environ()
    except psutil.Error:
        return False
