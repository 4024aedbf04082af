"""Checks: status, contains, JSONPath equals. Each returns None when passed, else expected beside actual."""

from collections.abc import Callable, Mapping
from typing import Any

import msgspec

from dynamikos.core.captures.base import View
from dynamikos.core.captures.paths import MISSING, as_text, compile_path
from dynamikos.core.errors import RuleError
from dynamikos.core.values import compile_text


class JsonEquals(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """The first value at `path`, as text, equals `equals` (which may have holes)."""

    path: str
    equals: str


class Check(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """Exactly one of `status` (a code such as 200), `contains` (a text with holes) or `json`."""

    status: int | None = None
    contains: str | None = None
    json: JsonEquals | None = None
    note: str = ""


class Verdict(msgspec.Struct, frozen=True):
    """A failed check: what was expected and what came, both as texts for a person."""

    kind: str
    expected: str
    actual: str


Judge = Callable[[View, Mapping[str, str]], Verdict | None]


def compile_check(check: Check) -> Judge:
    """`check` as a function (View, values) → Verdict or None. Raises RuleError or TemplateError."""
    given = [name for name in REGISTRY if getattr(check, name) is not None]
    if len(given) != 1:
        raise RuleError(f"a check needs exactly one of {', '.join(REGISTRY)}; this one has {len(given)}")
    return REGISTRY[given[0]](getattr(check, given[0]))


def _status(expected: int) -> Judge:
    if not 100 <= expected <= 599:
        raise RuleError(f"{expected} is not an HTTP status; write 100 to 599")
    failed = f"status {expected}"

    def judge(view: View, values: Mapping[str, str]) -> Verdict | None:
        return None if view.status == expected else Verdict("check-status", failed, f"status {view.status}")

    return judge


def _contains(expected: str) -> Judge:
    template = compile_text(expected)
    if not expected:
        raise RuleError("'contains' needs a text")

    def judge(view: View, values: Mapping[str, str]) -> Verdict | None:
        wanted = template.fill(values)
        if wanted.encode() in view.body or (not wanted.isascii() and wanted in view.text):
            return None
        return Verdict("check-contains", f"contains “{wanted}”", f"{len(view.body):,} bytes without it: {view.text[:120]}")

    return judge


def _json(rule: JsonEquals) -> Judge:
    walk, template = compile_path(rule.path), compile_text(rule.equals)

    def judge(view: View, values: Mapping[str, str]) -> Verdict | None:
        wanted = template.fill(values)
        try:
            found: Any = walk(view.json())
        except ValueError:
            return Verdict("check-json", f"{rule.path} = {wanted}", "the body is not JSON")
        actual = "nothing at this path" if found is MISSING else as_text(found)
        return None if actual == wanted and found is not MISSING else Verdict("check-json", f"{rule.path} = {wanted}", actual)

    return judge


REGISTRY: dict[str, Callable[[Any], Judge]] = {"status": _status, "contains": _contains, "json": _json}
