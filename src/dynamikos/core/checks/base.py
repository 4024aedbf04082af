"""What is expected of an answer. A check returns None when passed, else expected beside actual."""

from typing import Literal, Self

import msgspec
from msgspec.structs import replace

from dynamikos.core.captures.view import View
from dynamikos.core.checks.check_kinds import Beyond, CheckKind, Values
from dynamikos.core.checks.kinds import KINDS
from dynamikos.core.checks.kinds.bounds import Bounds
from dynamikos.core.checks.kinds.comparing import Comparing
from dynamikos.core.checks.kinds.css import CssText
from dynamikos.core.checks.kinds.header import HeaderText
from dynamikos.core.checks.kinds.json import JsonEquals
from dynamikos.core.checks.kinds.status import Status
from dynamikos.core.errors import RuleError
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Change

Then = Literal["count", "step", "round", "user"]


class Check(Frozen, frozen=True, kw_only=True):
    """Exactly one expectation; `never` turns it round. `then` says what a failure means: it is only
    counted, it fails the step, it also skips the rest of the round (as every failure does without a
    word), or the user leaves.

    `status` is a code, a class such as "2xx", or several of either; `type` a content type;
    `contains` a text with holes; `regex` a regular expression; `size` in bytes; `time` in ms, from
    the instant the request was due to the last byte.
    """

    status: Status | None = None
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
        changed = {
            name: kind.with_texts(given, change)
            for name, kind in KINDS.items()
            if (given := getattr(self, name)) is not None
        }
        return replace(self, **changed)

    @property
    def kind(self) -> CheckKind | None:
        """The kind of its expectation; None for none or several."""
        return KINDS.get(self.form)

    @property
    def form(self) -> str:
        """The expectation that is given; "" for none or several."""
        given = [name for name in KINDS if getattr(self, name) is not None]
        return given[0] if len(given) == 1 else ""


class Verdict(msgspec.Struct, frozen=True):
    """A failed check: what was expected and what came, both as texts for a person, and what
    follows.
    """

    kind: str
    expected: str
    actual: str
    then: Then = "round"


class Judge:
    """A compiled check: `judge(view, values)` is None when passed, else the verdict; `passes` only
    says whether, and must not be asked of a view with something beyond.
    """

    __slots__ = ("_check", "_look", "_looks_inside", "passes")

    def __init__(self, check: Check, kind: CheckKind) -> None:
        look = kind.look(getattr(check, kind.name))
        self._check, self._look, self._looks_inside = check, look, kind.looks_inside
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
            return Verdict(
                "body-limit", unknown.expected, f"that can't be said: {view.beyond}", check.then
            )
        expected = f"not: {expected}" if never else expected
        if view.beyond and self._looks_inside and not is_so:  # it may stand where nobody looked
            return Verdict("body-limit", expected, f"that can't be said: {view.beyond}", check.then)
        # the status that decided
        told = f"status-{view.status}" if check.form == "status" else f"check-{check.form}"
        return Verdict(told, expected, actual, check.then)


def compile_check(check: Check) -> Judge:
    """`check` as a function (View, values) → Verdict or None. Raises RuleError or TemplateError."""
    if check.kind is None:
        raise RuleError(f"a check needs exactly one of {', '.join(KINDS)}")
    return Judge(check, check.kind)


def described(check: Check) -> str:
    """What a check expects, in a line."""
    words = check.kind.says(getattr(check, check.form)) if check.kind is not None else ""
    return ("not: " if check.never else "") + words
