"""Rows of captures, from the panel and for it. A row has two boxes; BOXES says what each kind of
capture makes of them.
"""

from collections.abc import Callable
from itertools import zip_longest
from typing import Any, NamedTuple

from django.http import QueryDict

from dynamikos.core.captures import KINDS, BetweenForm, Capture, CssForm, RegexForm
from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits
from dynamikos.core.journeys import Request

CAPTURE_FORMS = tuple(KINDS)
PICKS = ("first", "last", "random", "all")
DECODINGS = ("", "percent", "html", "json", "base64")


class Boxes(NamedTuple):
    """How a kind of capture stands in the two boxes of a row; `read` may raise DynamikosError,
    `write` is its opposite.
    """

    read: Callable[[str, str], object]
    write: Callable[[Any], tuple[str, str]]


def _regex(what: str, more: str) -> RegexForm:
    group, _, header = more.strip().partition(" ")  # "1", or "1 Link" for a header
    number = digits(group or "1")
    if number is None:
        raise DynamikosError(
            f"the group is a number, such as 1, and after it a header's name; '{more}' is not"
        )
    return RegexForm(pattern=what, group=number, header=header.strip())


ONE = Boxes(lambda what, more: what, lambda value: (value, ""))
BOXES: dict[str, Boxes] = {
    "json": ONE,
    "css": Boxes(
        lambda what, more: CssForm(selector=what, attribute=more),
        lambda value: (value.selector, value.attribute),
    ),
    "between": Boxes(
        lambda what, more: BetweenForm(before=what, after=more),
        lambda value: (value.before, value.after),
    ),
    "regex": Boxes(_regex, lambda value: (value.pattern, f"{value.group} {value.header}".strip())),
    "header": ONE,
    "cookie": ONE,
    "address": ONE,
}


def captures_from(data: QueryDict) -> tuple[Capture, ...]:
    """Raises DynamikosError for a row that says too little."""
    made = []
    columns = ("name", "form", "what", "more", "pick", "decode", "otherwise")
    for name, form, what, more, pick, decode, missing in zip_longest(
        *(data.getlist(f"capture-{each}") for each in columns), fillvalue=""
    ):
        name = name.strip()
        if not name:
            if typed := what.strip() or more.strip() or missing.strip():
                raise DynamikosError(
                    f"A capture “{typed[:40]}” has no name yet. Write how the value is called, or "
                    "clear the row."
                )
            continue
        if form not in BOXES:
            raise DynamikosError(
                f"capture {name}: '{form}' is not a form of capture; there are {', '.join(BOXES)}"
            )
        try:
            value = BOXES[form].read(what, more)
        except DynamikosError as problem:
            raise DynamikosError(f"capture {name}: {problem}") from problem
        made.append(
            Capture(
                name=name,
                pick=_pick(name, pick),  # type: ignore[arg-type]
                decode=_decoding(name, decode),  # type: ignore[arg-type]
                otherwise=_otherwise(missing),
                **{form: value},  # type: ignore[arg-type]
            )
        )
    return tuple(made)


def _otherwise(text: str) -> str | None:
    """What the value is where nothing is found: two quotes for an empty text."""
    if not text.strip():
        return None
    return "" if text.strip() == '""' else text


def _pick(name: str, text: str) -> object:
    text = text.strip() or "first"
    if text in PICKS:
        return text
    number = digits(text)
    if number is not None and 1 <= number <= 100_000:
        return number
    raise DynamikosError(
        f"capture {name}: which match is {', '.join(PICKS)} or a number from 1; '{text}' is not"
    )


def _decoding(name: str, text: str) -> str:
    if text not in DECODINGS:
        raise DynamikosError(
            f"capture {name}: '{text}' is not a decoding; there are {', '.join(DECODINGS[1:])}"
        )
    return text


def capture_rows(request: Request) -> list[dict[str, str]]:
    """A request's captures as rows of the panel, with an empty one at the end."""
    rows = []
    for capture in request.captures:
        what, more = (
            BOXES[capture.form].write(getattr(capture, capture.form)) if capture.form else ("", "")
        )
        rows.append(
            {
                "name": capture.name,
                "form": capture.form,
                "what": what,
                "more": more,
                "pick": str(capture.pick),
                "decode": capture.decode,
                "otherwise": "" if capture.otherwise is None else capture.otherwise or '""',
            }
        )
    return [
        *rows,
        {
            "name": "",
            "form": "json",
            "what": "",
            "more": "",
            "pick": "first",
            "decode": "",
            "otherwise": "",
        },
    ]
