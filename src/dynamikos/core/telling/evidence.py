"""A thing that was seen, as it stands in a casebook: its title, where it was seen, and what it shows."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from dynamikos.core.telling.drawing import Drawn


@dataclass(frozen=True, slots=True)
class Picture:
    """An SVG drawing: paths as (class, d), dots as (class, x, y), texts as (x, y, anchor, text)."""

    title: str
    width: float
    height: float
    paths: Sequence[tuple[str, str]] = ()
    dots: Sequence[tuple[str, float, float]] = ()
    texts: Sequence[tuple[float, float, str, str]] = ()


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
    tables: Sequence[Table] = field(default_factory=tuple)
    texts: Sequence[tuple[str, str]] = ()
