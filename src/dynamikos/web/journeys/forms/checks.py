"""Rows of checks, from the panel and for it."""

import re
from itertools import zip_longest
from typing import get_args

from django.http import QueryDict

from dynamikos.core.checks import FORMS, Bounds, Check, Comparing, CssText, Expected, HeaderText, JsonEquals
from dynamikos.core.checks.base import Comparison
from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Request
from dynamikos.web.journeys.forms.rows import number

CHECK_FORMS = FORMS


HOWS = (
    "",
    "equals",
    "matches",
    "above",
    "below",
    "count",
    "type",
    "at least",
    "at most",
    "between",
    "=",
    "≠",
    "<",
    "≤",
    ">",
    "≥",
)


JSON_TYPES = ("text", "number", "boolean", "list", "object", "null")


THENS = (
    ("round", "skips the rest of the round"),
    ("step", "fails the step"),
    ("count", "is only counted"),
    ("user", "makes the user leave"),
)


ONE_BOX = ("status", "type", "contains", "regex")


def checks_from(data: QueryDict) -> tuple[Check, ...]:
    """Raises DynamikosError for a row that says too little or the wrong thing."""
    made = []
    columns = ("form", "what", "how", "more", "then", "never")
    for form, what, how, more, then, never in zip_longest(
        *(data.getlist(f"check-{each}") for each in columns), fillvalue=""
    ):
        what, more = _boxes(form, what if form in ("contains", "value") else what.strip(), more)
        if not (more if form in ("size", "time") else what).strip():
            continue
        if form not in FORMS:
            raise DynamikosError(f"'{form}' is not a kind of check; there are {', '.join(FORMS)}.")
        then = then if then in dict(THENS) else "round"
        made.append(Check(**{form: _expectation(form, what, how, more)}, never=never == "never", then=then))  # type: ignore[arg-type]
    return tuple(made)


def _boxes(form: str, what: str, more: str) -> tuple[str, str]:
    """The two boxes of a row, as the kind of check reads them: what stands in the wrong one is taken from there, or
    said.
    """
    if form in ONE_BOX or form in ("size", "time"):
        if what.strip() and more.strip():
            raise DynamikosError(
                f"A check of {form} has one box; “{what[:30]}” and “{more[:30]}” are two. Clear one of them."
            )
        one = what if what.strip() else more
        return (one, "") if form in ONE_BOX else ("", one)
    if more.strip() and not what.strip():
        needs = {"json": "a path", "css": "a selector", "header": "a header's name"}.get(form, "the value to compare")
        raise DynamikosError(f"A check of {form} that compares with “{more[:30]}” needs {needs} in its first box.")
    return what, more


def _expectation(form: str, what: str, how: str, more: str) -> object:
    if form == "status":
        codes = [part for part in what.replace(",", " ").split() if part]
        for code in codes:
            if not re.fullmatch(r"[1-5](xx|\d\d)", code):
                raise DynamikosError(f"a status is a number such as 200, or a class such as 2xx; '{code}' is not")
        given = [int(code) if code.isdigit() else code for code in codes]
        return given[0] if len(given) == 1 else tuple(given)
    if form in ("type", "contains", "regex"):
        return what
    if form in ("size", "time"):
        if how == "between":
            low, _, high = more.strip().replace("–", " ").partition(" ")
            return Bounds(at_least=number(low, form), at_most=number(high, form))
        bound = number(more, form)
        return Bounds(at_least=bound) if how == "at least" else Bounds(at_most=bound)
    if form == "value":
        sign: Comparison = how if how in get_args(Comparison) else "="  # type: ignore[assignment]
        return Comparing(left=what, right=more, compare=sign)
    told: dict[str, object] = {}
    if not more.strip():
        pass  # how was chosen, with what is still to come
    elif how in ("equals", "matches"):
        told[how] = more
    elif how in ("above", "below"):
        told[how] = number(more, f"{form} {what}")
    elif how == "count":
        told[how] = int(number(more, f"{form} {what}"))
    elif more.strip():
        told["equals"] = more
    if form == "json" and how == "type" and more.strip():
        if more not in JSON_TYPES:
            raise DynamikosError(f"check {what}: '{more}' is not a type of JSON; there are {', '.join(JSON_TYPES)}")
        return JsonEquals(path=what, type=more)  # type: ignore[arg-type]
    if form == "json":
        return JsonEquals(path=what, **told)  # type: ignore[arg-type]
    if form == "css":
        selector, _, attribute = what.partition(" @")
        return CssText(selector=selector, attribute=attribute.strip(), **told)  # type: ignore[arg-type]
    return HeaderText(name=what, **told)  # type: ignore[arg-type]


def check_rows(request: Request) -> list[dict[str, str]]:
    """A request's checks as rows of the panel, with an empty one at the end."""
    rows = []
    for check in request.checks:
        value, what, how, more = getattr(check, check.form, None), "", "", ""
        if isinstance(value, Bounds):
            both = value.at_least is not None and value.at_most is not None
            how, number = ("at least", value.at_least) if value.at_least is not None else ("at most", value.at_most)
            more = f"{number:g}" if number is not None else ""
            if both:
                how, more = "between", f"{value.at_least:g} {value.at_most:g}"
        elif isinstance(value, Comparing):
            what, how, more = value.left, value.compare, value.right
        elif isinstance(value, Expected):
            if isinstance(value, JsonEquals):
                what = value.path
            elif isinstance(value, CssText):
                what = value.selector + (f" @{value.attribute}" if value.attribute else "")
            elif isinstance(value, HeaderText):
                what = value.name
            how = next(
                (each for each in ("equals", "matches", "above", "below", "count") if getattr(value, each) is not None),
                "",
            )
            more = str(getattr(value, how)) if how else ""
            if isinstance(value, JsonEquals) and value.type:
                how, more = "type", value.type
        else:
            what = " ".join(map(str, value)) if isinstance(value, tuple) else str(value)
        rows.append(
            {
                "form": check.form,
                "what": what,
                "how": how,
                "more": more,
                "then": check.then,
                "never": "never" if check.never else "",
            }
        )
    return [*rows, {"form": "status", "what": "", "how": "", "more": "", "then": "round", "never": ""}]
