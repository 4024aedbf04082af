"""What the panel beside the ladder sends, as core values."""

from django.http import QueryDict

from dynamikos.core.captures import Capture
from dynamikos.core.captures.base import BetweenForm, CssForm, RegexForm
from dynamikos.core.checks import Check, JsonEquals
from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Body, Request

CAPTURE_FORMS = ("json", "css", "between", "regex", "header", "cookie")
CHECK_FORMS = ("status", "contains", "json")


def pairs(data: QueryDict, name: str) -> tuple[tuple[str, str], ...]:
    """Rows with a name; the empty row at the end is not one."""
    return tuple((n, v) for n, v in zip(data.getlist(f"{name}-name"), data.getlist(f"{name}-value"), strict=False) if n.strip())


def body_from(data: QueryDict) -> Body | None:
    kind = data.get("body-kind", "")
    if kind == "form":
        return Body(form=pairs(data, "form"))
    if kind == "json":
        return Body(json=data.get("body-text", ""), type=data.get("body-type", ""))
    if kind == "raw":
        return Body(raw=data.get("body-text", ""), type=data.get("body-type", ""))
    return None


def captures_from(data: QueryDict) -> tuple[Capture, ...]:
    """Raises DynamikosError for a row that says too little."""
    made = []
    rows = zip(
        data.getlist("capture-name"), data.getlist("capture-form"), data.getlist("capture-what"), data.getlist("capture-more"), strict=False
    )
    for name, form, what, more in rows:
        name = name.strip()
        if not name:
            continue
        if form == "json":
            made.append(Capture(name=name, json=what))
        elif form == "css":
            made.append(Capture(name=name, css=CssForm(selector=what, attribute=more)))
        elif form == "between":
            made.append(Capture(name=name, between=BetweenForm(before=what, after=more)))
        elif form == "regex":
            if more and not more.isdigit():
                raise DynamikosError(f"capture {name}: the group is a number, such as 1; '{more}' is not")
            made.append(Capture(name=name, regex=RegexForm(pattern=what, group=int(more or 1))))
        elif form == "header":
            made.append(Capture(name=name, header=what))
        elif form == "cookie":
            made.append(Capture(name=name, cookie=what))
    return tuple(made)


def checks_from(data: QueryDict) -> tuple[Check, ...]:
    made = []
    for form, what, more in zip(data.getlist("check-form"), data.getlist("check-what"), data.getlist("check-more"), strict=False):
        if not what.strip():
            continue
        if form == "status":
            if not what.strip().isdigit():
                raise DynamikosError(f"a status is a number, such as 200; '{what}' is not")
            made.append(Check(status=int(what)))
        elif form == "contains":
            made.append(Check(contains=what))
        elif form == "json":
            made.append(Check(json=JsonEquals(path=what, equals=more)))
    return tuple(made)


def request_changes(data: QueryDict) -> dict[str, object]:
    """The fields of a request that the panel edits."""
    method = data.get("method", "GET").strip().upper()
    if not (method.isalpha() and 3 <= len(method) <= 10):
        raise DynamikosError(f"'{method}' is not a method; write GET, POST, PUT, …")
    address = data.get("address", "").strip()
    if not address:
        raise DynamikosError("A request needs an address, such as {{ env.target }}/sign-in.")
    return {
        "method": method, "address": address, "query": pairs(data, "query"), "headers": pairs(data, "header"), "body": body_from(data),
        "embedded": tuple(line.strip() for line in data.get("embedded", "").splitlines() if line.strip()),
        "captures": captures_from(data), "checks": checks_from(data), "note": data.get("note", "").strip(),
    }  # fmt: skip


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
            what, more = value.pattern, str(value.group)
        rows.append({"name": capture.name, "form": form, "what": what, "more": more})
    return [*rows, {"name": "", "form": "json", "what": "", "more": ""}]


def check_rows(request: Request) -> list[dict[str, str]]:
    rows = []
    for check in request.checks:
        if check.status is not None:
            rows.append({"form": "status", "what": str(check.status), "more": ""})
        elif check.contains is not None:
            rows.append({"form": "contains", "what": check.contains, "more": ""})
        elif check.json is not None:
            rows.append({"form": "json", "what": check.json.path, "more": check.json.equals})
    return [*rows, {"form": "status", "what": "", "more": ""}]
