"""What is expected of an answer. A check returns None when passed, else expected beside actual."""

from collections.abc import Callable, Mapping
from typing import Annotated, Literal, NamedTuple, Self

import msgspec
from msgspec.structs import replace

from dynamikos.core.captures.base import View
from dynamikos.core.errors import RuleError
from dynamikos.core.text.holding import Change

Then = Literal["count", "step", "round", "user"]
StatusClass = Annotated[str, msgspec.Meta(pattern=r"^[1-5](xx|[0-9][0-9])$")]
Comparison = Literal["=", "≠", "<", "≤", ">", "≥"]


class Expected(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """What is expected of what was found: by default that it is there. At most one is given; texts may have holes."""

    equals: str | None = None
    matches: str | None = None
    above: float | None = None
    below: float | None = None
    count: int | None = None

    def with_texts(self, change: Change) -> Self:
        made = self
        if self.equals is not None:
            made = replace(made, equals=change("check", self.equals))
        if self.matches is not None:
            made = replace(made, matches=change("check", self.matches))
        return made


class JsonEquals(Expected, frozen=True, kw_only=True):
    """The first value at a JSONPath, or with `count` all of them; `type` is one of JSON's."""

    path: str
    type: Literal["", "text", "number", "boolean", "list", "object", "null"] = ""


class CssText(Expected, frozen=True, kw_only=True):
    """The text, or an attribute, of the elements a selector finds."""

    selector: str
    attribute: str = ""


class HeaderText(Expected, frozen=True, kw_only=True):
    """A header of the answer."""

    name: str


class Bounds(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """At least, at most, or both."""

    at_least: float | None = None
    at_most: float | None = None


class Comparing(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """Two texts with holes, compared as numbers where both are (arithmetic with + − * / and brackets is done first),
    else as texts.
    """

    left: str
    right: str
    compare: Comparison = "="

    def with_texts(self, change: Change) -> Self:
        return replace(self, left=change("check", self.left), right=change("check", self.right))


class Check(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """Exactly one expectation; `never` turns it round. `then` says what a failure means: it is only counted, it fails
    the step, it also skips the rest of the round (as every failure does without a word), or the user leaves.

    `status` is a code, a class such as "2xx", or several of either; `type` a content type; `contains` a text with
    holes; `regex` a regular expression; `size` in bytes; `time` in ms, from the instant the request was due to the last
    byte.
    """

    status: int | StatusClass | tuple[int | StatusClass, ...] | None = None
    type: str | None = None
    contains: str | None = None
    regex: str | None = None
    json: JsonEquals | None = None
    css: CssText | None = None
    header: HeaderText | None = None
    size: Bounds | None = None
    time: Bounds | None = None
    value: Comparing | None = None
    never: bool = False
    then: Then = "round"
    note: str = ""

    def with_texts(self, change: Change) -> Self:
        """With `change` in place of each text that may have holes."""
        made = self
        if self.contains is not None:
            made = replace(made, contains=change("check", self.contains))
        for name in ("json", "css", "header"):
            part = getattr(self, name)
            if part is not None:
                made = replace(made, **{name: part.with_texts(change)})
        if self.value is not None:
            made = replace(made, value=self.value.with_texts(change))
        return made

    @property
    def form(self) -> str:
        """The expectation that is given; "" for none or several."""
        given = [name for name in FORMS if getattr(self, name) is not None]
        return given[0] if len(given) == 1 else ""


FORMS = ("status", "type", "contains", "regex", "json", "css", "header", "size", "time", "value")


class Verdict(msgspec.Struct, frozen=True):
    """A failed check: what was expected and what came, both as texts for a person, and what follows."""

    kind: str
    expected: str
    actual: str
    then: Then = "round"


class Beyond(Exception):
    """A check would need more of the body than is looked at."""

    def __init__(self, expected: str) -> None:
        self.expected = expected
        super().__init__(expected)


Values = Mapping[str, str]


class Look(NamedTuple):
    """A form of check: whether it is so, asked of every answer, and in words what was expected and what came, asked
    when it is not. Both may raise Beyond.
    """

    is_so: Callable[[View, Values], bool]
    words: Callable[[View, Values], tuple[str, str]]


class Judge:
    """A compiled check: `judge(view, values)` is None when passed, else the verdict; `passes` only says whether, and
    must not be asked of a view with something beyond.
    """

    __slots__ = ("_check", "_look", "_looks_inside", "passes")

    def __init__(self, check: Check, look: Look) -> None:
        self._check, self._look = check, look
        self._looks_inside = check.form in ("contains", "regex", "json", "css")
        is_so = look.is_so
        self.passes = (lambda view, values: not is_so(view, values)) if check.never else is_so

    def __call__(self, view: View, values: Values) -> Verdict | None:
        check, never = self._check, self._check.never
        try:
            is_so = self._look.is_so(view, values)
            if is_so != never and (is_so or not view.beyond or not self._looks_inside):
                return None
            expected, actual = self._look.words(view, values)
        except Beyond as unknown:
            return Verdict("body-limit", unknown.expected, f"that can't be said: {view.beyond}", check.then)
        expected = f"not: {expected}" if never else expected
        if view.beyond and self._looks_inside and not is_so:  # it may stand where nobody looked
            return Verdict("body-limit", expected, f"that can't be said: {view.beyond}", check.then)
        # the status that decided
        told = f"status-{view.status}" if check.form == "status" else f"check-{check.form}"
        return Verdict(told, expected, actual, check.then)


def compile_check(check: Check) -> Judge:
    """`check` as a function (View, values) → Verdict or None. Raises RuleError or TemplateError."""
    from dynamikos.core.checks import forms

    if not check.form:
        raise RuleError(f"a check needs exactly one of {', '.join(FORMS)}")
    return Judge(check, forms.REGISTRY[check.form](getattr(check, check.form)))


def described(check: Check) -> str:
    """What a check expects, in a line."""
    value, form = getattr(check, check.form, None), check.form
    words = f"{form} {value}"
    if isinstance(value, tuple):
        words = f"{form} {' or '.join(map(str, value))}"
    elif isinstance(value, Bounds):
        unit = "ms" if form == "time" else "bytes"
        least = f" ≥ {value.at_least:g}" if value.at_least is not None else ""
        most = f" ≤ {value.at_most:g}" if value.at_most is not None else ""
        words = f"{form}{least}{most} {unit}"
    elif isinstance(value, Comparing):
        words = f"{value.left} {value.compare} {value.right}"
    elif isinstance(value, Expected):
        where = getattr(value, "path", "") or getattr(value, "selector", "") or f"header {getattr(value, 'name', '')}"
        what = next(
            (
                f"{sign} {getattr(value, name)}"
                for name, sign in (
                    ("equals", "="),
                    ("matches", "matches"),
                    ("above", ">"),
                    ("below", "<"),
                    ("count", "so many:"),
                    ("type", "is a"),
                )
                if getattr(value, name, None) not in (None, "")
            ),
            "is there",
        )
        words = f"{where} {what}"
    elif form in ("contains", "regex"):
        words = f"{'contains' if form == 'contains' else 'matches'} {value}"
    return ("not: " if check.never else "") + words
