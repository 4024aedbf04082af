"""What a JSONPath finds."""

from collections.abc import Iterator
from typing import Any, Literal

from dynamikos.core.captures.paths import as_text, compile_all
from dynamikos.core.captures.view import View
from dynamikos.core.checks.check_kinds import CheckKind, Look, Values
from dynamikos.core.checks.kinds.expected import Expected, look_for

TYPES = {
    str: "text",
    bool: "boolean",
    list: "list",
    dict: "object",
    type(None): "null",
    int: "number",
    float: "number",
}


class JsonEquals(Expected, frozen=True, kw_only=True):
    """The first value at a JSONPath, or with `count` all of them; `type` is one of JSON's."""

    path: str
    type: Literal["", "text", "number", "boolean", "list", "object", "null"] = ""

    def says(self) -> str:
        return f"is a {self.type}" if self.type else super().says()


def look(given: JsonEquals) -> Look:
    walk = compile_all(given.path)
    if given.type:
        expected = f"{given.path} is {given.type}"

        def kind(view: View) -> tuple[str, Any]:
            found = next(iter(walk(view.json())), None)
            return TYPES.get(type(found), "something else"), found

        def is_so(view: View, values: Values) -> bool:
            try:
                return kind(view)[0] == given.type
            except ValueError:
                return False

        def words(view: View, values: Values) -> tuple[str, str]:
            try:
                actual, found = kind(view)
            except ValueError:
                return expected, "the body is not JSON"
            return expected, f"{actual}: {as_text(found)[:80]}"

        return Look(is_so, words)

    def find(view: View) -> Iterator[str]:
        return (as_text(each) for each in walk(view.json()))

    return look_for(given, given.path, find, "nothing at this path")


KIND = CheckKind(
    "json",
    look,
    lambda given: f"{given.path} {given.says()}",
    JsonEquals.with_texts,
    looks_inside=True,
    needs_body=True,
)
