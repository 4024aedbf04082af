"""A thing that was seen, as it stands in a casebook: its title, where it was seen, and what it
shows.
"""

from base64 import b64encode
from collections.abc import Sequence
from dataclasses import dataclass, field

from dynamikos.core.telling.drawing import Drawn


@dataclass(frozen=True, slots=True)
class Picture:
    """An SVG drawing: paths as (class, d), dots as (class, x, y), texts as (x, y, anchor, text);
    `left` and `top` are where it begins.
    """

    title: str
    width: float
    height: float
    paths: Sequence[tuple[str, str]] = ()
    dots: Sequence[tuple[str, float, float]] = ()
    texts: Sequence[tuple[float, float, str, str]] = ()
    left: float = 0
    top: float = 0


@dataclass(frozen=True, slots=True)
class Photo:
    """What a browser saw, as JPEG."""

    title: str
    jpeg: bytes

    @property
    def address(self) -> str:
        """Itself, so that a file with it needs nothing else (RFC 2397)."""
        return f"data:image/jpeg;base64,{b64encode(self.jpeg).decode()}"


@dataclass(frozen=True, slots=True)
class Table:
    """`heads` that end in # are of columns of figures."""

    heads: Sequence[str]
    rows: Sequence[Sequence[str]]

    @property
    def names(self) -> list[str]:
        return [each.rstrip(" #") for each in self.heads]


@dataclass(frozen=True, slots=True)
class Evidence:
    """`where` says of which run, window and slice; `texts` are (title, text) as they came."""

    title: str
    where: str = ""
    sentences: Sequence[str] = ()
    lanes: Sequence[Drawn] = ()
    pictures: Sequence[Picture] = ()
    photos: Sequence[Photo] = ()
    tables: Sequence[Table] = field(default_factory=tuple)
    texts: Sequence[tuple[str, str]] = ()
