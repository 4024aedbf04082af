"""Room on the disk that the installation lives on: a run is ended in words before it is full, and
something is put by so that these words can still be written when it is.
"""

import os
import shutil
import socket
from pathlib import Path

from dynamikos.fleet.settings import DISK_LOW_MB, DISK_RESERVE_MB

MB = 1_000_000
AGAIN = 2  # the reserve is put by again where there is room for it so many times


def shortage(folder: Path, needed: float = DISK_LOW_MB * MB) -> str:
    """The machine, what is free and the folder, where less than `needed` bytes are; "" where there
    is enough or the folder is not there.
    """
    try:
        free = shutil.disk_usage(folder).free
    except OSError:
        return ""
    if free >= needed:
        return ""
    return (
        f"the disk of {socket.gethostname()} is full: {free / MB:,.0f} of {needed / MB:,.0f} MB "
        f"free in {folder}"
    )


class Reserve:
    """A file of no content that is deleted when there is no room left: what is free then is enough
    to say so. While it is spent, the disk counts as full until there is room for it again.
    """

    def __init__(
        self, folder: Path, size: float = DISK_RESERVE_MB * MB, low: float = DISK_LOW_MB * MB
    ) -> None:
        self._folder, self._file, self._size, self._low = folder, folder / "reserve", int(size), low

    def put_by(self) -> None:
        """Where there is room for it and it is not there yet."""
        if self._is_there() or shortage(self._folder, self._low + AGAIN * self._size):
            return
        try:
            with self._file.open("wb") as file:
                os.posix_fallocate(file.fileno(), 0, self._size)
        except OSError:
            self._file.unlink(missing_ok=True)

    def shortage(self) -> str:
        """See `shortage`; looking also spends the reserve when there is too little room."""
        if self._is_there():
            said = shortage(self._folder, self._low)
            if said:
                self._file.unlink(missing_ok=True)
            return said
        return shortage(self._folder, self._low + self._size)

    def _is_there(self) -> bool:
        try:
            return self._file.stat().st_size >= self._size
        except OSError:
            return False
