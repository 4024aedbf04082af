"""Rows of a big table in a file of the generator's own: written as their blocks arrive, read one by
one, never all in memory.
"""

import mmap
import os
import tempfile
from collections.abc import Iterable, Sequence
from pathlib import Path

import numpy as np

from dynamikos.core.dealing import decode_row


class RowFile(Sequence[list[str]]):
    """A sequence of rows. `add` encoded ones, then `finish`; reading a row takes some microseconds,
    the system keeps what is used in its cache.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self._file = tempfile.TemporaryFile(dir=folder, prefix="rows-")  # noqa: SIM115  (open as long as the rows are read)
        self._sizes: list[np.typing.NDArray[np.int64]] = []
        self._starts: np.typing.NDArray[np.int64] = np.zeros(1, np.int64)
        self._map: mmap.mmap | None = None

    def add(self, rows: Iterable[bytes]) -> None:
        given = list(rows)
        self._file.write(b"".join(given))
        self._sizes.append(np.fromiter(map(len, given), np.int64, len(given)))

    def finish(self) -> "RowFile":
        self._file.flush()
        sizes = np.concatenate(self._sizes) if self._sizes else np.zeros(0, np.int64)
        self._starts = np.concatenate((np.zeros(1, np.int64), np.cumsum(sizes)))
        self._sizes = []
        if os.fstat(self._file.fileno()).st_size:
            self._map = mmap.mmap(self._file.fileno(), 0, prot=mmap.PROT_READ)
        return self

    def __len__(self) -> int:
        return len(self._starts) - 1

    def __getitem__(self, at: int) -> list[str]:  # type: ignore[override]
        if not 0 <= at < len(self) or self._map is None:
            raise IndexError(at)
        return decode_row(self._map[int(self._starts[at]) : int(self._starts[at + 1])])

    def close(self) -> None:
        if self._map is not None:
            self._map.close()
        self._file.close()
