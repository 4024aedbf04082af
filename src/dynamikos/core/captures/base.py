"""The capture as a value, and as what takes it out of an answer."""

from collections.abc import Iterator
from typing import Annotated, Literal

import msgspec
import orjson

from dynamikos.core.captures.decoding import REGISTRY
from dynamikos.core.captures.kinds import KINDS
from dynamikos.core.captures.kinds.between import BetweenForm
from dynamikos.core.captures.kinds.css import CssForm
from dynamikos.core.captures.kinds.regex import RegexForm
from dynamikos.core.captures.view import Captured, CaptureKind, Finder, Taker, View
from dynamikos.core.errors import RuleError
from dynamikos.core.text import Frozen

Decoding = Literal["", "percent", "html", "json", "base64"]
Pick = Literal["first", "last", "random", "all"] | Annotated[int, msgspec.Meta(ge=1, le=100_000)]


class Capture(Frozen, frozen=True, kw_only=True):
    """Takes one value out of an answer and keeps it as `name`. Exactly one form is given.

    `address` is a regular expression with one group, searched in the addresses of the request and
    of its redirects. Of several matches `pick` takes one ("all": their JSON list); `decode` undoes
    an encoding of what was found. Where nothing is found the request fails, unless `otherwise` says
    what the value is then.
    """

    name: str
    json: str | None = None
    css: CssForm | None = None
    between: BetweenForm | None = None
    regex: RegexForm | None = None
    header: str | None = None
    cookie: str | None = None
    address: str | None = None
    pick: Pick = "first"
    decode: Decoding = ""
    otherwise: str | None = None
    note: str = ""

    @property
    def form(self) -> str:
        """The name of the one kind that is given; "" for none or several."""
        given = [name for name in KINDS if getattr(self, name) is not None]
        return given[0] if len(given) == 1 else ""

    @property
    def kind(self) -> CaptureKind | None:
        return KINDS.get(self.form)


def compile_finder(capture: Capture) -> Finder:
    """`capture` as a function View → its matches one after the other, decoded.

    Raises RuleError with the place of a wrong expression.
    """
    kind = capture.kind
    if kind is None:
        given = sum(getattr(capture, name) is not None for name in KINDS)
        raise RuleError(
            f"capture '{capture.name}' needs exactly one of {', '.join(KINDS)}; it has {given}"
        )
    find = kind.find(getattr(capture, kind.name))
    if not capture.decode:
        return find
    decode = REGISTRY[capture.decode]

    def decoded(view: View) -> Iterator[str]:
        return (value for value in map(decode, find(view)) if value is not None)

    return decoded


def compile_capture(capture: Capture) -> Taker:
    """`capture` as a function View → text or None. Raises RuleError with the place of a wrong
    expression.
    """
    taker, otherwise = _taker(capture), capture.otherwise
    if otherwise is None:
        return taker

    def take(view: View) -> Captured:
        found = taker(view)
        return otherwise if found is None else found

    return take


def _taker(capture: Capture) -> Taker:
    pick, kind = capture.pick, capture.kind
    find = compile_finder(capture)
    if pick == "first" and not capture.decode and kind is not None and kind.first is not None:
        return kind.first(getattr(capture, kind.name))
    if pick == "all":
        return lambda view: orjson.dumps(list(find(view))).decode()
    if pick == "first":
        return lambda view: next(find(view), None)

    def take(view: View) -> Captured:
        found = list(find(view))
        if not found:
            return None
        if pick == "last":
            return found[-1]
        if pick == "random":
            return found[view.choose(len(found))]
        return found[pick - 1] if isinstance(pick, int) and pick <= len(found) else None

    return take


def described(capture: Capture) -> tuple[str, str]:
    """(kind, expression in one line) of a capture, for reading."""
    tail = (f", {capture.pick}" if capture.pick != "first" else "") + (
        f", decoded from {capture.decode}" if capture.decode else ""
    )
    kind = capture.kind
    return (
        (kind.name, kind.says(getattr(capture, kind.name)) + tail) if kind is not None else ("", "")
    )
