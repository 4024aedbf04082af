"""Ports of this machine for the servers of tests, of which several runs and parts of one go on side
by side.
"""

import fcntl
import os
import random
import tempfile
from pathlib import Path

from dynamikos.cli.state import is_free

PORTS = range(18470, 19400)
_held: dict[int, int] = {}  # files that are locked until this process ends, by port


def free_port() -> int:
    """One that nobody listens on, and that no other process of tests is given while this one
    lives.
    """
    folder = Path(tempfile.gettempdir()) / f"dynamikos-test-ports-{os.geteuid()}"
    folder.mkdir(exist_ok=True)
    for port in random.sample(PORTS, len(PORTS)):
        if port in _held:
            continue
        file = os.open(folder / str(port), os.O_RDWR | os.O_CREAT, 0o600)
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            os.close(file)
            continue
        if is_free(port):
            _held[port] = file
            return port
        os.close(file)
    raise AssertionError("no port is free")
