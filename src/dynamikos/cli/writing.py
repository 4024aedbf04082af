"""Files that are whole or not there."""

import os
from pathlib import Path


def write_over(file: Path, content: bytes) -> None:
    """The whole content or, when the disk is full, what stood there. A link stays one, and what is
    no file (a terminal, a pipe) is written to. Raises OSError, which names the file.
    """
    if file.exists() and not file.is_file():
        file.write_bytes(content)
        return
    file = file.resolve()
    beside = file.with_name(f".{file.name}.{os.getpid()}")
    try:
        beside.write_bytes(content)
        if file.exists():
            beside.chmod(file.stat().st_mode)
        beside.replace(file)
    except OSError as problem:
        raise OSError(problem.errno, problem.strerror, str(file)) from problem
    finally:
        beside.unlink(missing_ok=True)
