"""Rows of checks, from the panel and for it. A row has two boxes; BOXES says what each kind of
check makes of them.
"""

import re
from collections.abc import Callable
from itertools import zip_longest
from typing import Any, NamedTuple, get_args

from django.http import QueryDict

from dynamikos.core.checks import (
    KINDS,
    Bounds,
    Check,
    Comparing,
    CssText,
    Expected,
    HeaderText,
    JsonEquals,
)
from dynamikos.core.checks.kinds.comparing import Comparison
from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Request
from dynamikos.web.ui.numbers import number, whole

CHECK_FORMS = tuple(KINDS)
FOUND = ("equals", "matches", "above", "below", "count")
BOUNDS = ("at least", "at most", "between")
HOWS = ("", *FOUND, "type", *BOUNDS, *get_args(Comparison))
JSON_TYPES = ("text", "number", "boolean", "list", "object", "null")
THENS = (
    ("round", "skips the rest of the round"),
    ("step", "fails the step"),
    ("count", "is only counted"),
    ("user", "makes the user leave"),
)


class Row(NamedTuple):
    """The two boxes of a row, and what stands between them."""

    what: str = ""
    how: str = ""
    more: str = ""


class Boxes(NamedTuple):
    """How a kind of check stands in a row. `only` names the box that it needs, where one is enough;
    `first` is what the first box holds, in words. `read` may raise DynamikosError; `write` is its
    opposite.
    """

    read: Callable[[Row], object]
    write: Callable[[Any], Row]
    only: str = ""
    first: str = "the value to compare"
    strips: bool = True  # whether spaces around what stands in the first box mean nothing


def _status(row: Row) -> object:
    codes = [part for part in row.what.replace(",", " ").split() if part]
    for code in codes:
        if not re.fullmatch(r"[1-5](xx|\d\d)", code):
            raise DynamikosError(
                f"a status is a number such as 200, or a class such as 2xx; '{code}' is not"
            )
    given = [int(code) if code.isdigit() else code for code in codes]
    return given[0] if len(given) == 1 else tuple(given)


def _bounds(form: str) -> Callable[[Row], object]:
    def read(row: Row) -> object:
        if row.how == "between":
            low, _, high = row.more.strip().replace("–", " ").partition(" ")
            return Bounds(
                at_least=number(low, f"check {form}"), at_most=number(high, f"check {form}")
            )
        bound = number(row.more, f"check {form}")
        return Bounds(at_least=bound) if row.how == "at least" else Bounds(at_most=bound)

    return read


def _bounds_row(value: Bounds) -> Row:
    if value.at_least is not None and value.at_most is not None:
        return Row("", "between", f"{value.at_least:g} {value.at_most:g}")
    if value.at_least is not None:
        return Row("", "at least", f"{value.at_least:g}")
    return Row("", "at most", f"{value.at_most:g}" if value.at_most is not None else "")


def _comparing(row: Row) -> object:
    sign: Comparison = row.how if row.how in get_args(Comparison) else "="  # type: ignore[assignment]
    return Comparing(left=row.what, right=row.more, compare=sign)


def _found(row: Row, form: str) -> dict[str, Any]:
    """What is expected of what is found; nothing while how was chosen, with what is still to
    come.
    """
    if not row.more.strip():
        return {}
    match row.how:
        case "matches":
            return {"matches": row.more}
        case "above" | "below":
            return {row.how: number(row.more, f"check {form} {row.what}")}
        case "count":
            return {"count": whole(row.more, f"check {form} {row.what}")}
    return {"equals": row.more}


def _found_row(what: str, value: Expected) -> Row:
    how = next((name for name in FOUND if getattr(value, name) is not None), "")
    return Row(what, how, str(getattr(value, how)) if how else "")


def _json(row: Row) -> object:
    if row.how != "type" or not row.more.strip():
        return JsonEquals(path=row.what, **_found(row, "json"))
    if row.more not in JSON_TYPES:
        raise DynamikosError(
            f"check {row.what}: '{row.more}' is not a type of JSON; there are "
            f"{', '.join(JSON_TYPES)}"
        )
    return JsonEquals(path=row.what, type=row.more)  # type: ignore[arg-type]


def _json_row(value: JsonEquals) -> Row:
    return Row(value.path, "type", value.type) if value.type else _found_row(value.path, value)


def _css(row: Row) -> object:
    selector, _, attribute = row.what.partition(" @")
    return CssText(selector=selector, attribute=attribute.strip(), **_found(row, "css"))


def _css_row(value: CssText) -> Row:
    return _found_row(value.selector + (f" @{value.attribute}" if value.attribute else ""), value)


def _one(row: Row) -> object:
    return row.what


BOXES: dict[str, Boxes] = {
    "status": Boxes(
        _status,
        lambda value: Row(" ".join(map(str, value)) if isinstance(value, tuple) else str(value)),
        "what",
    ),
    "type": Boxes(_one, Row, "what"),
    "contains": Boxes(_one, Row, "what", strips=False),
    "regex": Boxes(_one, Row, "what"),
    "json": Boxes(_json, _json_row, first="a path"),
    "css": Boxes(_css, _css_row, first="a selector"),
    "header": Boxes(
        lambda row: HeaderText(name=row.what, **_found(row, "header")),
        lambda value: _found_row(value.name, value),
        first="a header's name",
    ),
    "size": Boxes(_bounds("size"), _bounds_row, "more"),
    "time": Boxes(_bounds("time"), _bounds_row, "more"),
    "value": Boxes(
        _comparing, lambda value: Row(value.left, value.compare, value.right), strips=False
    ),
}


def checks_from(data: QueryDict) -> tuple[Check, ...]:
    """Raises DynamikosError for a row that says too little or the wrong thing."""
    made = []
    columns = ("form", "what", "how", "more", "then", "never")
    for form, what, how, more, then, never in zip_longest(
        *(data.getlist(f"check-{each}") for each in columns), fillvalue=""
    ):
        boxes = BOXES.get(form)
        if boxes is None:
            if (what + more).strip():
                raise DynamikosError(
                    f"'{form}' is not a kind of check; there are {', '.join(BOXES)}."
                )
            continue
        row = _in_place(form, boxes, Row(what.strip() if boxes.strips else what, how, more))
        if not (row.more if boxes.only == "more" else row.what).strip():
            continue
        then = then if then in dict(THENS) else "round"
        made.append(Check(**{form: boxes.read(row)}, never=never == "never", then=then))  # type: ignore[arg-type]
    return tuple(made)


def _in_place(form: str, boxes: Boxes, row: Row) -> Row:
    """What stands in the wrong one of the two boxes is taken from there, or said."""
    what, how, more = row
    if boxes.only:
        if what.strip() and more.strip():
            raise DynamikosError(
                f"A check of {form} has one box; “{what[:30]}” and “{more[:30]}” are two. Clear "
                "one of them."
            )
        one = what if what.strip() else more
        return Row(one, how) if boxes.only == "what" else Row("", how, one)
    if more.strip() and not what.strip():
        raise DynamikosError(
            f"A check of {form} that compares with “{more[:30]}” needs {boxes.first} in its first "
            "box."
        )
    return row


def check_rows(request: Request) -> list[dict[str, str]]:
    """A request's checks as rows of the panel, with an empty one at the end."""
    rows = []
    for check in request.checks:
        row = BOXES[check.form].write(getattr(check, check.form)) if check.form else Row()
        rows.append(
            {
                "form": check.form,
                **row._asdict(),
                "then": check.then,
                "never": "never" if check.never else "",
            }
        )
    return [*rows, {"form": "status", **Row()._asdict(), "then": "round", "never": ""}]
