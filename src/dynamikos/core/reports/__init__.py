"""Wire messages of a shard, and how they add up.

Never stores or sends. Start reading at `messages`.
"""

from dynamikos.core.reports.frames import Frame, frame_of
from dynamikos.core.reports.ledger import Ledger, Row, SeriesTotal
from dynamikos.core.reports.messages import (
    Health,
    KeptExchange,
    SeriesSecond,
    ShardSecond,
    decode,
    encode,
    pack_kept,
    unpack_kept,
)

__all__ = [
    "Frame",
    "Health",
    "KeptExchange",
    "Ledger",
    "Row",
    "SeriesSecond",
    "SeriesTotal",
    "ShardSecond",
    "decode",
    "encode",
    "frame_of",
    "pack_kept",
    "unpack_kept",
]
