"""Rows of captures, from the panel and for it."""

from itertools import zip_longest

from django.http import QueryDict

from dynamikos.core.captures import Capture
from dynamikos.core.captures.base import BetweenForm, CssForm, RegexForm
from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Request

CAPTURE_FORMS = ("json", "css", "between", "regex", "header", "cookie", "address")


PICKS = ("first", "last", "random", "all")


DECODINGS = ("", "percent", "html", "json", "base64")


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
                    f"A capture “{typed[:40]}” has no name yet. Write how the value is called, or clear the row."
                )
            continue
        value: object = what
        if form == "css":
            value = CssForm(selector=what, attribute=more)
        elif form == "between":
            value = BetweenForm(before=what, after=more)
        elif form == "regex":
            group, _, header = more.strip().partition(" ")  # "1", or "1 Link" for a header
            if group and not group.isdigit():
                raise DynamikosError(
                    f"capture {name}: the group is a number, such as 1, and after it a header's name; '{more}' is not"
                )
            value = RegexForm(pattern=what, group=int(group or 1), header=header.strip())
        elif form not in CAPTURE_FORMS:
            raise DynamikosError(
                f"capture {name}: '{form}' is not a form of capture; there are {', '.join(CAPTURE_FORMS)}"
            )
        otherwise = None if not missing.strip() else "" if missing.strip() == '""' else missing
        made.append(
            Capture(
                name=name,
                pick=_pick(name, pick),  # type: ignore[arg-type]
                decode=_decoding(name, decode),  # type: ignore[arg-type]
                otherwise=otherwise,
                **{form: value},  # type: ignore[arg-type]
            )
        )
    return tuple(made)


def _pick(name: str, text: str) -> object:
    text = text.strip() or "first"
    if text in PICKS:
        return text
    if text.isdigit() and 1 <= int(text) <= 100_000:
        return int(text)
    raise DynamikosError(f"capture {name}: which match is {', '.join(PICKS)} or a number from 1; '{text}' is not")


def _decoding(name: str, text: str) -> str:
    if text not in DECODINGS:
        raise DynamikosError(f"capture {name}: '{text}' is not a decoding; there are {', '.join(DECODINGS[1:])}")
    return text


def capture_rows(request: Request) -> list[dict[str, str]]:
    """A request's captures as rows of the panel, with an empty one at the end."""
    rows = []
    for capture in request.captures:
        form = next(name for name in CAPTURE_FORMS if getattr(capture, name) is not None)
        value = getattr(capture, form)
        what, more = value, ""
        if isinstance(value, CssForm):
            what, more = value.selector, value.attribute
        elif isinstance(value, BetweenForm):
            what, more = value.before, value.after
        elif isinstance(value, RegexForm):
            what, more = value.pattern, f"{value.group} {value.header}".strip()
        rows.append(
            {
                "name": capture.name,
                "form": form,
                "what": what,
                "more": more,
                "pick": str(capture.pick),
                "decode": capture.decode,
                "otherwise": "" if capture.otherwise is None else capture.otherwise or '""',
            }
        )
    return [*rows, {"name": "", "form": "json", "what": "", "more": "", "pick": "first", "decode": "", "otherwise": ""}]
