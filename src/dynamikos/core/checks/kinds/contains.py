"""A text that stands in the body."""

from collections.abc import Callable

from dynamikos.core.captures.view import View
from dynamikos.core.checks.check_kinds import CheckKind, Look, Values
from dynamikos.core.errors import RuleError
from dynamikos.core.values import compile_text


def look(given: str) -> Look:
    if not given:
        raise RuleError("'contains' needs a text")
    template = compile_text(given)

    def is_so(view: View, values: Values) -> bool:
        wanted = template.fill(values)
        return wanted.encode() in view.body or (not wanted.isascii() and wanted in view.text)

    def words(view: View, values: Values) -> tuple[str, str]:
        wanted = template.fill(values)
        expected, size = f"contains “{wanted}”", f"{len(view.body):,} bytes"
        if is_so(view, values):
            return expected, f"it stands in {size}"
        near = nearest(view.text, wanted)
        return (
            expected,
            f"{size} without it; nearest: {near}"
            if near
            else f"{size} without it: {view.text[:120]}",
        )

    return Look(is_so, words)


def nearest(text: str, wanted: str) -> str:
    """The place of `text` that has most of the beginning or of the end of `wanted`, between » and
    «, with what is around it; empty when there is none.

    Looked for in O(len(text) · log len(wanted)).
    """
    text, wanted = text[:2_000_000], wanted[:200]

    def longest(part: Callable[[int], str]) -> int:
        low, high = 0, len(wanted)
        while low < high:
            middle = (low + high + 1) // 2
            low, high = (middle, high) if part(middle) in text else (low, middle - 1)
        return low

    head, tail = longest(lambda n: wanted[:n]), longest(lambda n: wanted[len(wanted) - n :])
    if max(head, tail) < min(3, len(wanted)):
        return ""
    begin = (
        text.find(wanted[:head])
        if head >= tail
        else text.find(wanted[len(wanted) - tail :]) + tail - len(wanted)
    )
    begin = max(0, begin)
    end = begin + len(wanted)
    return f"{text[max(0, begin - 20) : begin]}»{text[begin:end]}«{text[end : end + 20]}"


KIND = CheckKind(
    "contains",
    look,
    lambda given: f"contains {given}",
    lambda given, change: change("check", given),
    looks_inside=True,
    needs_body=True,
)
