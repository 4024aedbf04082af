"""What the columns of a table hold: how many of their values differ, how many are empty, which is
there most often.
"""

from collections.abc import Iterable

import msgspec
import numpy as np


class Facts(msgspec.Struct, frozen=True, array_like=True):
    """Of a column: different values, empty cells, the row (from 0) that is the first with the most
    frequent value, and how often it is there.
    """

    different: int
    empty: int
    first: int
    times: int


def count_columns(blocks: Iterable[list[list[str]]], columns: int) -> list[Facts]:
    """Facts of each of `columns` columns; all 0 for a table without rows. Takes 8 bytes a cell.

    Values are told apart by their 64-bit hash: among a million different ones two are taken for one
    with a probability of 3 in 10⁸.
    """
    parts: list[list[np.ndarray]] = [[] for _ in range(columns)]
    for rows in blocks:
        for at, part in enumerate(parts):
            part.append(np.fromiter((hash(row[at]) for row in rows), np.int64, len(rows)))
    made = []
    for part in parts:
        hashes = np.concatenate(part) if part else np.empty(0, np.int64)
        if not len(hashes):
            made.append(Facts(0, 0, 0, 0))
            continue
        _, first, counts = np.unique(hashes, return_index=True, return_counts=True)
        times = int(counts.max())
        made.append(
            Facts(
                len(counts),
                int((hashes == hash("")).sum()),
                int(first[counts == times].min()),
                times,
            )
        )
    return made
