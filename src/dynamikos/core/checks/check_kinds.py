"""What looking at an answer gives, and what a kind of check is made of."""

from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

from dynamikos.core.captures.view import View
from dynamikos.core.text.template_walk import Change

Values = Mapping[str, str]


class Beyond(Exception):
    """A check would need more of the body than is looked at."""

    def __init__(self, expected: str) -> None:
        self.expected = expected
        super().__init__(expected)


class Look(NamedTuple):
    """Whether it is so, asked of every answer, and in words what was expected and what came, asked
    when it is not. Both may raise Beyond.
    """

    is_so: Callable[[View, Values], bool]
    words: Callable[[View, Values], tuple[str, str]]


def _same(value: Any, change: Change) -> Any:
    return value


class CheckKind(NamedTuple):
    """A kind of check: `look` makes of its value what looks at answers (raises RuleError,
    TemplateError); `says` is what it expects, in a line; `with_texts` changes the texts with holes
    in its value.

    `looks_inside`: what it looks for may stand where nobody looked, in a body that is not read to
    its end; `needs_body`: it can't be judged without the body.
    """

    name: str
    look: Callable[[Any], Look]
    says: Callable[[Any], str]
    with_texts: Callable[[Any, Change], Any] = _same
    looks_inside: bool = False
    needs_body: bool = False
