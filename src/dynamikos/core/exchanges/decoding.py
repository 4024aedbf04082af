"""Content-encodings undone in steps (RFC 9110 §8.4), with limits on what comes out: a few bytes can
say that they are gigabytes.
"""

import zlib
from collections.abc import Callable, Iterator

import brotli
import zstandard

MOST_DECODED = 64_000_000  # bytes that come out at most
FREE, MOST_RATIO = 4_000_000, 200  # beyond so many bytes, at most so many times what went in
MOST_CODINGS = 3
PIECE = 1 << 18


class Bomb(ValueError):
    """It would unpack to more than the limits allow."""


def decode_body(body: bytes, encoding: str) -> bytes:
    """`body` without its content-encodings, the last applied removed first.

    Raises Bomb for what unpacks to more than 64 MB, or to more than 4 MB and 200 times its size;
    ValueError when it is not what `encoding` says, is cut off, or is encoded more than three times.
    """
    names = [part.strip().lower() for part in encoding.split(",") if part.strip()]
    if len(names) > MOST_CODINGS:
        raise ValueError(
            f"the body is said to be encoded {len(names)} times; at most {MOST_CODINGS} are undone"
        )
    for name in reversed(names):
        if name == "identity":
            continue
        if name not in STEPS:
            raise ValueError(f"unknown content-encoding {name[:40]}")
        try:
            body = _bounded(STEPS[name](body), len(body))
        except (EOFError, zlib.error, brotli.error, zstandard.ZstdError) as problem:
            raise ValueError(f"the body is not {name}: {problem}") from problem
    return body


def _bounded(pieces: Iterator[bytes], size: int) -> bytes:
    made, total = [], 0
    most = min(MOST_DECODED, max(FREE, MOST_RATIO * size))
    for piece in pieces:
        total += len(piece)
        if total > most:
            raise Bomb(
                f"{size:,} bytes would unpack to more than {most:,}; they were not unpacked any "
                "further"
            )
        made.append(piece)
    return b"".join(made)


def _zlib(body: bytes, wbits: int) -> Iterator[bytes]:
    """One member after the other (RFC 1952 §2.2). Raises EOFError for one that is cut off."""
    while body:
        member = zlib.decompressobj(wbits)
        piece = member.decompress(body, PIECE)
        while piece or member.unconsumed_tail:
            yield piece
            piece = member.decompress(member.unconsumed_tail, PIECE)
        if not member.eof:
            raise EOFError("it is cut off")
        body = member.unused_data
        if wbits < 0 or wbits == zlib.MAX_WBITS:
            if body:
                raise zlib.error(f"{len(body)} bytes follow its end")
        elif not body.strip(b"\0"):  # padding, as tapes have it
            return


def _gzip(body: bytes) -> Iterator[bytes]:
    if not body:
        raise EOFError("it is empty")
    return _zlib(body, 16 + zlib.MAX_WBITS)


def _deflate(body: bytes) -> Iterator[bytes]:
    """zlib's format, or bare, as some servers have it."""
    if not body:
        raise EOFError("it is empty")
    try:
        zlib.decompressobj().decompress(body[:64], 1)
        wrapped = True
    except zlib.error:
        wrapped = False
    return _zlib(body, zlib.MAX_WBITS if wrapped else -zlib.MAX_WBITS)


def _brotli(body: bytes) -> Iterator[bytes]:
    made = brotli.Decompressor()
    yield made.process(body, output_buffer_limit=PIECE)
    while not made.is_finished():
        piece = made.process(b"", output_buffer_limit=PIECE)
        if not piece and not made.is_finished():
            raise EOFError("it is cut off")
        yield piece


def _zstd(body: bytes) -> Iterator[bytes]:
    """One frame after the other (RFC 8878 §3.1). A step of a kilobyte unpacks to some 43 MB at the
    most.
    """
    if not body:
        raise EOFError("it is empty")
    while body:
        frame, at = zstandard.ZstdDecompressor().decompressobj(), 0
        while not frame.eof:
            if at >= len(body):
                raise EOFError("it is cut off")
            yield frame.decompress(body[at : at + 1024])
            at += 1024
        body = frame.unused_data + body[at:]


STEPS: dict[str, Callable[[bytes], Iterator[bytes]]] = {
    "gzip": _gzip, "x-gzip": _gzip, "deflate": _deflate, "br": _brotli, "zstd": _zstd,
}  # fmt: skip
