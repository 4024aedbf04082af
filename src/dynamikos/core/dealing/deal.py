"""The deal: one pile for everyone, in order, a new row each round, starting over when used up."""


def row_of(turn: int, shard: int, shards: int, rows: int) -> int:
    """The row (from 0) of the `turn`-th taking (from 0) on `shard` of `shards`.

    Shards take turns through the pile, so no row is dealt twice before all have been. Raises ValueError for an empty pile.
    """
    if rows < 1:
        raise ValueError("the data set has no rows to deal")
    return (turn * shards + shard) % rows
