"""Values that hold texts with holes: one walk over them, which reads and changes."""

from collections.abc import Callable, Iterable
from typing import Protocol, Self, TypeVar

Change = Callable[[str, str], str]  # (what it is, text) → the text in its place
Pair = tuple[str, str]


class Holds(Protocol):
    """A frozen value with texts in it."""

    def with_texts(self, change: Change) -> Self:
        """With `change` asked for each text that may have holes, in the order they are filled
        in.
        """
        ...


H = TypeVar("H", bound=Holds)


def texts_in(value: Holds) -> list[Pair]:
    """(what it is, text) for each text of `value` that may have holes."""
    found: list[Pair] = []

    def note(what: str, text: str) -> str:
        found.append((what, text))
        return text

    value.with_texts(note)
    return found


def each_with_texts(values: Iterable[H], change: Change) -> tuple[H, ...]:
    return tuple(value.with_texts(change) for value in values)


def pairs_with_texts(
    pairs: Iterable[Pair], what: str, change: Change, *, names: bool = False
) -> tuple[Pair, ...]:
    """Pairs of a name and a text; with `names` a name may have holes too."""
    return tuple(
        (change(f"name of {what} {name}", name) if names else name, change(f"{what} {name}", value))
        for name, value in pairs
    )
