"""Probes that are read by a process of their own, so that nobody who sends load or serves others
waits for them.
"""

import contextlib
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping

import msgspec

from dynamikos.chromium import own_environment
from dynamikos.core.frozen import FrozenRun, canonical
from dynamikos.engine.probing import ProbeSecond

PROBE_SECOND = msgspec.json.Decoder(ProbeSecond)


class ProbeProcess:
    """Such a process for the probes of `frozen`. What it tells lies in a file, since a pipe would
    fill up.
    """

    READY_S = 5.0

    def __init__(
        self,
        frozen: FrozenRun,
        own_ports: frozenset[int] = frozenset(),
        secrets: Mapping[str, str] | None = None,
    ) -> None:
        """`secrets`, as "secrets.token", are those that its probes need."""
        self._seen = 0  # bytes of what it told that were looked at
        self._out = tempfile.TemporaryFile()  # noqa: SIM115  (lives as long as the process)
        self._process = subprocess.Popen(
            [sys.executable, "-m", "dynamikos.cli", "probes"],
            stdin=subprocess.PIPE,
            stdout=self._out,
            env={
                **own_environment(os.environ),
                **{
                    name: os.environ[name]
                    for name in ("PYTHONPATH", "DYNAMIKOS_INTERPRETED")
                    if name in os.environ
                },
                "DYNAMIKOS_OWN_PORTS": ",".join(map(str, sorted(own_ports))),
            },
        )
        self._say(canonical(frozen) + b"\n" + msgspec.json.encode(dict(secrets or {})) + b"\n")

    def wait_ready(self) -> None:
        """Until it has loaded what it needs, or that takes too long."""
        until = time.monotonic() + self.READY_S
        while (
            os.fstat(self._out.fileno()).st_size == 0 and self.is_alive and time.monotonic() < until
        ):
            time.sleep(0.02)

    @property
    def is_alive(self) -> bool:
        return self._process.poll() is None

    def _say(self, line: bytes) -> None:
        assert self._process.stdin is not None
        with contextlib.suppress(BrokenPipeError):
            self._process.stdin.write(line)
            self._process.stdin.flush()

    def begin(self, begin: float) -> None:
        """Second 0 is the instant `begin` of the monotonic clock, which all processes of a machine
        share.
        """
        self._say(f"{begin!r}\n".encode())

    def begin_now(self) -> None:
        """The first probe is read as soon as the process can."""
        self._say(b"now\n")

    def newest(self) -> Iterator[ProbeSecond]:
        """What it told since this was asked last."""
        body = os.pread(
            self._out.fileno(), os.fstat(self._out.fileno()).st_size - self._seen, self._seen
        )
        whole = body[: body.rfind(b"\n") + 1]
        self._seen += len(whole)
        for line in whole.splitlines():
            if line.startswith(b"{"):
                yield PROBE_SECOND.decode(line)

    def end(self) -> None:
        """Ends it; what it told can be asked for still."""
        if self._process.poll() is None:
            self._process.terminate()
        try:
            self._process.communicate(timeout=4)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
