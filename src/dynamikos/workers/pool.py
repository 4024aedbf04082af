"""Asking a worker: a warm child process per job kind's memory, one job at a time, killed when it
takes too long.
"""

import atexit
import os
import select
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

from dynamikos.core.errors import DynamikosError

HEAD = struct.Struct(">cI")  # kind of frame (p progress, d done, w wrong), length
KEPT = 2  # idle workers of a size that are kept warm


class WorkerError(DynamikosError):
    """The job took too long, too much memory, or its worker died. Says so in words for a person."""


class Worker:
    """One child. `memory_mb` bounds its address space."""

    def __init__(self, memory_mb: int) -> None:
        self.memory_mb = memory_mb
        environment = {
            "PYTHONPATH": str(Path(__file__).parents[2]),
            "PATH": "/usr/bin:/bin",
            "LANG": "C.UTF-8",
        }
        self.process = subprocess.Popen(
            [sys.executable, "-m", "dynamikos.workers", str(memory_mb)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            env=environment,
            start_new_session=True,
            close_fds=True,
        )

    def ask(
        self, name: str, payload: bytes, seconds: float, progress: Callable[[float], None]
    ) -> bytes:
        """The job's answer. Raises DynamikosError as the job does, WorkerError when it is over its
        bounds; `progress` may raise to end it.
        """
        stdin, stdout = self.process.stdin, self.process.stdout
        assert stdin is not None and stdout is not None
        end = time.monotonic() + seconds
        label = name.encode()
        try:
            stdin.write(struct.pack(">II", len(label), len(payload)) + label + payload)
            stdin.flush()
            while True:
                head = self._read(HEAD.size, end, seconds)
                kind, length = HEAD.unpack(head)
                body = self._read(length, end, seconds)
                if kind == b"p":
                    try:
                        progress(struct.unpack(">d", body)[0])
                    except BaseException:  # nobody waits for it any more
                        self.kill()
                        raise
                elif kind == b"d":
                    return body
                else:
                    raise DynamikosError(body.decode())
        except (BrokenPipeError, EOFError) as problem:
            self.kill()
            raise WorkerError(
                f"This took more than {self.memory_mb} MB of memory, so it was ended; nothing was "
                "changed. Try with"
                " less, or a simpler expression."
            ) from problem

    def _read(self, size: int, end: float, seconds: float) -> bytes:
        stdout = self.process.stdout
        assert stdout is not None
        parts = bytearray()
        while len(parts) < size:
            ready, _, _ = select.select([stdout], [], [], max(0.0, end - time.monotonic()))
            if not ready:
                self.kill()
                raise WorkerError(
                    f"This took longer than {seconds:g} s, so it was ended; nothing was changed. "
                    "Try a simpler"
                    " expression, or less."
                )
            part = os.read(stdout.fileno(), min(1 << 20, size - len(parts)))
            if not part:
                raise EOFError
            parts += part
        return bytes(parts)

    def kill(self) -> None:
        self.process.kill()
        self.process.wait()
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe is not None:
                try:
                    pipe.close()
                except OSError:
                    pass


_idle: dict[int, list[Worker]] = {}
_lock = threading.Lock()


def call(
    name: str,
    payload: bytes,
    *,
    seconds: float = 2.0,
    memory_mb: int = 512,
    progress: Callable[[float], None] = lambda share: None,
) -> bytes:
    """Performs job `name` (dynamikos.workers.jobs) in a worker.

    Raises DynamikosError; never takes much longer than `seconds`.
    """
    with _lock:
        waiting = _idle.setdefault(memory_mb, [])
        worker = waiting.pop() if waiting else None
    if worker is None or worker.process.poll() is not None:
        worker = Worker(memory_mb)
        seconds += 3.0  # it starts first
    answered = False
    try:
        found = worker.ask(name, payload, seconds, progress)
        answered = True
        return found
    except DynamikosError:  # of the job: its worker can go on, unless it was ended
        answered = worker.process.poll() is None
        raise
    finally:
        with _lock:
            if answered and len(_idle[memory_mb]) < KEPT:
                _idle[memory_mb].append(worker)
            else:
                worker.kill()


@atexit.register
def _end() -> None:
    with _lock:
        for workers in _idle.values():
            for worker in workers:
                worker.kill()
        _idle.clear()
