"""The small library in C that notes when a process could not run, compiled where a compiler is
there.
"""

import ctypes
import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

SOURCE = Path(__file__).with_name("stops.c")
COMPILE_S = 30


def place(prefix: Path | None = None) -> Path:
    """Where it lies: by what its source says, so that a changed one is another."""
    digest = hashlib.sha256(SOURCE.read_bytes()).hexdigest()[:16]
    return (prefix or Path(sys.prefix)) / f"stops-{digest}.so"


def made(prefix: Path | None = None) -> Path | None:
    """The library, compiled if it was not; None where that can't be done."""
    found = place(prefix)
    if found.is_file():
        return found
    compiler = shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        return None
    try:
        with tempfile.TemporaryDirectory(dir=found.parent, prefix="stops-") as folder:
            new = Path(folder) / found.name
            command = [compiler, "-O2", "-shared", "-fPIC", "-pthread", "-o", str(new), str(SOURCE)]
            subprocess.run(command, capture_output=True, timeout=COMPILE_S, check=True)
            os.replace(new, found)
    except (OSError, subprocess.SubprocessError):
        return None
    return found


def loaded(prefix: Path | None = None) -> ctypes.CDLL | None:
    """The library with the types of its functions; None where there is none."""
    found = made(prefix)
    if found is None:
        return None
    try:
        library = ctypes.CDLL(str(found))
    except OSError:
        return None
    library.stops_begin.argtypes = [ctypes.c_int]
    library.stops_take.argtypes = [ctypes.POINTER(ctypes.c_double), ctypes.c_int]
    return library
