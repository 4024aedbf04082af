"""What a journey does besides sending requests: the rules of repeating, choosing, calling, writing back."""

from typing import Annotated, Literal

import msgspec

from dynamikos.core.checks import Then
from dynamikos.core.text import Frozen

Pair = tuple[str, str]
Kind = Literal["step", "set", "pause", "log", "call", "keep", "repeat", "each", "if", "choose"]
NESTING: tuple[Kind, ...] = ("repeat", "each", "if", "choose")
Seconds = Annotated[float, msgspec.Meta(ge=0, le=86_400)]


class Repeat(Frozen, frozen=True, kw_only=True):
    """Its steps again and again: `times` of them, `while` a condition holds (asked before each try) or `until` it does
    (asked after).

    `every_s` is from the begin of one try to the begin of the next; after `limit_s` or `at_most` tries it ends. A
    `while` or `until` that has not come about by then, or `times` that are not done by then, are a failure, which means
    what `then` says.
    """

    times: str = ""
    while_: str = msgspec.field(name="while", default="")
    until: str = ""
    every_s: Seconds = 0.0
    limit_s: Annotated[float, msgspec.Meta(gt=0, le=86_400)] = 60.0
    at_most: Annotated[int, msgspec.Meta(ge=1, le=100_000)] = 1000
    then: Then = "round"


class Each(Frozen, frozen=True, kw_only=True):
    """Its steps for each of a list, `in`: a JSON list or an expression that gives one; the value at hand is called
    `name`.
    """

    name: Annotated[str, msgspec.Meta(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$")]
    in_: str = msgspec.field(name="in")
    at_most: Annotated[int, msgspec.Meta(ge=1, le=100_000)] = 100
    note: str = ""


class Call(Frozen, frozen=True, kw_only=True):
    """A Python function of the project, `module.function`, called with named texts; what it returns becomes the value
    `into`.
    """

    function: Annotated[str, msgspec.Meta(pattern=r"^[a-z_][a-z0-9_]*\.[A-Za-z_][A-Za-z0-9_]*$")]
    with_: tuple[Pair, ...] = msgspec.field(name="with", default=())
    into: str = ""


class Keep(Frozen, frozen=True, kw_only=True):
    """A row written back: into the data set `into` (made when it is not there), columns with their texts."""

    into: Annotated[str, msgspec.Meta(pattern=r"^[a-z][a-z0-9_]{0,79}$")]
    row: tuple[Pair, ...]
