"""Rows in blocks of a thousand, each known by the hash of its content: a change of one cell makes
one new block.
"""

import hashlib
import zlib
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from dynamikos.core.errors import DynamikosError

BLOCK_ROWS = 1000
_encoder = msgspec.msgpack.Encoder()
_decoder = msgspec.msgpack.Decoder(list[list[str]])
_raw = msgspec.msgpack.Decoder(list[msgspec.Raw])


class Block(msgspec.Struct, frozen=True, kw_only=True):
    """A block as it is stored: sha256 of its plain form, compressed body, number of rows."""

    sha256: str
    body: bytes
    rows: int


def pack(rows: Sequence[Sequence[str]]) -> Block:
    plain = _encoder.encode(rows)
    return Block(
        sha256=hashlib.sha256(plain).hexdigest(), body=zlib.compress(plain, 1), rows=len(rows)
    )


def packed(rows: Iterable[Sequence[str]]) -> Iterator[Block]:
    """Blocks of a thousand rows, the last one with what is left."""
    waiting: list[Sequence[str]] = []
    for row in rows:
        waiting.append(row)
        if len(waiting) == BLOCK_ROWS:
            yield pack(waiting)
            waiting = []
    if waiting:
        yield pack(waiting)


def unpack(body: bytes) -> list[list[str]]:
    return _decoder.decode(zlib.decompress(body))


def raw_rows(body: bytes, sha256: str) -> list[bytes]:
    """Each row still encoded, for `decode_row`. Raises DynamikosError when the body is not what its
    hash says.
    """
    plain = zlib.decompress(body)
    if hashlib.sha256(plain).hexdigest() != sha256:
        raise DynamikosError(
            f"a block of rows is damaged (its content is not {sha256[:12]}…); import the data set "
            "again"
        )
    return [bytes(each) for each in _raw.decode(plain)]


_row = msgspec.msgpack.Decoder(list[str])


def decode_row(raw: bytes | memoryview) -> list[str]:
    return _row.decode(raw)
