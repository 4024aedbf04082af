"""The child: reads jobs from standard input, answers on standard output, one after the
other, until its parent is gone.
"""

import resource
import struct
import sys

from dynamikos.core.errors import DynamikosError
from dynamikos.workers import documents, jobs

JOBS = {**jobs.JOBS, **documents.JOBS}

HEAD = struct.Struct(">cI")


def main() -> None:
    limit = int(sys.argv[1]) * 1_000_000
    resource.setrlimit(resource.RLIMIT_AS, (limit, limit))
    resource.setrlimit(resource.RLIMIT_NOFILE, (16, 16))
    source, sink = sys.stdin.buffer, sys.stdout.buffer

    def say(kind: bytes, body: bytes) -> None:
        sink.write(HEAD.pack(kind, len(body)) + body)
        sink.flush()

    last = -1.0

    def progress(share: float) -> None:
        nonlocal last
        if share - last >= 0.01 or share >= 1:
            last = share
            say(b"p", struct.pack(">d", share))

    while len(head := source.read(8)) == 8:
        named, size = struct.unpack(">II", head)
        try:
            name, payload = source.read(named).decode(), source.read(size)
        except MemoryError:
            sys.exit(1)
        last = -1.0
        try:
            say(b"d", JOBS[name](payload, progress))
        except DynamikosError as problem:
            say(b"w", str(problem).encode())
        except (MemoryError, RecursionError):
            sys.exit(1)  # what is left of its memory is not trusted
        except Exception as problem:
            say(b"w", f"{name} broke: {type(problem).__name__}: {problem}".encode())


if __name__ == "__main__":
    main()
