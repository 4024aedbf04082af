"""What the panel beside the ladder sends, as core values."""

import base64
import json
import re
from itertools import zip_longest
from typing import Any, TypeVar

import msgspec
from django.http import QueryDict
from msgspec.structs import replace

from dynamikos.core.captures import Capture
from dynamikos.core.captures.base import BetweenForm, CssForm, RegexForm
from dynamikos.core.checks import FORMS, Bounds, Check, Comparing, CssText, Expected, HeaderText, JsonEquals
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges import jsontext
from dynamikos.core.journeys import (
    Authorization,
    Body,
    Call,
    Client,
    Each,
    FormPart,
    Keep,
    Login,
    Repeat,
    Request,
    Step,
)
from dynamikos.core.journeys.headers import header_problem

CAPTURE_FORMS = ("json", "css", "between", "regex", "header", "cookie", "address")
PICKS = ("first", "last", "random", "all")
DECODINGS = ("", "percent", "html", "json", "base64")
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
MAX_FILE_BYTES = 2_000_000


def pairs(data: QueryDict, name: str) -> tuple[tuple[str, str], ...]:
    """Rows with a name; the empty row at the end is not one. Raises DynamikosError for a value without a name."""
    rows = list(zip(data.getlist(f"{name}-name"), data.getlist(f"{name}-value"), strict=False))
    for number, (given, value) in enumerate(rows, 1):
        if value.strip() and not given.strip():
            raise DynamikosError(
                f"{name}, row {number}: “{value[:40]}” has no name yet. Write one, or clear the value too."
            )
    return tuple((given, value) for given, value in rows if given.strip())


def body_from(data: QueryDict, old: Body | None) -> Body | None:
    """Raises DynamikosError for what can't be sent as the kind it is said to be."""
    kind = data.get("body-kind", "")
    if kind == "file":
        return old
    if kind == "form":
        return Body(form=pairs(data, "form"))
    if kind == "parts":
        return Body(parts=parts_from(data, old))
    text = data.get("body-text")
    if text is None:  # another kind was chosen just now: what was typed goes with it
        text = _as_text(old)
    if kind == "json":
        leaves = dict(zip(data.getlist("leaf-path"), data.getlist("leaf-value"), strict=False))
        before = dict(leaves_of(text))
        changes = {
            path: value.strip() or '""' for path, value in leaves.items() if path in before and before[path] != value
        }
        if changes:
            text = jsontext.change(text, changes)
        wrong = jsontext.problem_in(text) if text.strip() else ""
        if wrong and data.get("body-text") is not None:
            raise DynamikosError(f"JSON body, {wrong}. To send it as it is, choose “raw text” first.")
        return Body(json=text, type=data.get("body-type", ""))
    if kind == "raw":
        return Body(raw=text, type=data.get("body-type", ""))
    return None


def leaves_of(text: str) -> list[tuple[str, str]]:
    """(JSONPath, scalar as written) of a JSON text; none when it is not JSON."""
    try:
        return [(path, text[start:end]) for path, start, end in jsontext.spans(text)]
    except jsontext.NotJson:
        return []


def _as_text(body: Body | None) -> str:
    if body is None:
        return ""
    if body.json is not None or body.raw is not None:
        return body.json if body.json is not None else body.raw or ""
    fields = body.form if body.form is not None else [(part.name, part.value) for part in body.parts or ()]
    return json.dumps(dict(fields), ensure_ascii=False, indent=1)


def parts_from(data: QueryDict, old: Body | None) -> tuple[FormPart, ...]:
    """Rows of a multipart body. A content is what was chosen now (base64), or "keep N": that of row N before."""
    before = (old.parts if old is not None else None) or ()
    columns = ("name", "value", "file", "type", "content")
    made = []
    for name, value, file, kind, content in zip_longest(
        *(data.getlist(f"part-{each}") for each in columns), fillvalue=""
    ):
        if not name.strip():
            continue
        if content.startswith("keep "):
            number = int(content[5:]) if content[5:].isdigit() else -1
            content = before[number].base64 if 0 <= number < len(before) else ""
        elif content:
            try:
                size = len(base64.b64decode(content, validate=True))
            except ValueError as problem:
                raise DynamikosError(f"part {name}: its content came broken; choose the file again.") from problem
            if size > MAX_FILE_BYTES:
                raise DynamikosError(
                    f"part {name}: a file of {size:,} bytes is too large for a journey; at most {MAX_FILE_BYTES:,} go"
                    " with it."
                )
        made.append(
            FormPart(
                name=name.strip(), value="" if content else value, file=file.strip(), type=kind.strip(), base64=content
            )
        )
    if not made and old is not None and old.form is not None:  # just chosen: the fields stay
        return tuple(FormPart(name=name, value=value) for name, value in old.form)
    return tuple(made)


def headers_from(data: QueryDict, name: str) -> tuple[tuple[str, str], ...]:
    """Header rows. Raises DynamikosError for what makes no valid request."""
    found = pairs(data, name)
    for header, value in found:
        if problem := header_problem(header.strip(), value):
            raise DynamikosError(f"Header: {problem}.")
    return tuple((header.strip(), value) for header, value in found)


PROOFS = ("basic", "digest", "bearer", "client")


def authorization_from(data: QueryDict) -> Authorization | None:
    """None: nothing of its own. What is still empty is said by `verify`."""
    kind = data.get("auth-kind", "")

    def field(name: str) -> str:
        return data.get(f"auth-{name}", "").strip()

    if kind in ("basic", "digest"):
        return Authorization(**{kind: Login(user=field("user"), password=field("password"))})  # type: ignore[arg-type]
    if kind == "bearer":
        return Authorization(bearer=field("token"))
    if kind == "client":
        return Authorization(
            client=Client(
                address=field("address"),
                id=field("id"),
                secret=field("secret"),
                scope=field("scope"),
                form=bool(data.get("auth-form")),
            )
        )
    return Authorization(none=True) if kind == "none" else None


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


ONE_BOX = ("status", "type", "contains", "regex")


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
            return Bounds(at_least=_number(low, form), at_most=_number(high, form))
        number = _number(more, form)
        return Bounds(at_least=number) if how == "at least" else Bounds(at_most=number)
    if form == "value":
        return Comparing(left=what, right=more, compare=how if how in ("=", "≠", "<", "≤", ">", "≥") else "=")  # type: ignore[arg-type]
    told: dict[str, object] = {}
    if not more.strip():
        pass  # how was chosen, with what is still to come
    elif how in ("equals", "matches"):
        told[how] = more
    elif how in ("above", "below"):
        told[how] = _number(more, f"{form} {what}")
    elif how == "count":
        told[how] = int(_number(more, f"{form} {what}"))
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


def _number(text: str, what: str) -> float:
    try:
        return float(text.replace(",", "."))
    except ValueError as problem:
        raise DynamikosError(f"check {what}: a number is expected, such as 200; '{text}' is not") from problem


def item_changes(data: QueryDict, old: Step) -> dict[str, object]:
    """The fields of an item that the panel edits. Raises DynamikosError for what can't be kept."""
    match old.kind:
        case "set":
            return {"set": pairs(data, "set") or (("name", ""),)}
        case "pause":
            return {"pause": data.get("pause", "").strip() or "0"}
        case "log":
            return {"log": data.get("log", "").strip() or "…"}
        case "call":
            return {
                "call": _made(
                    Call,
                    function=data.get("function", "").strip(),
                    with_=pairs(data, "with"),
                    into=data.get("into", "").strip(),
                )
            }
        case "keep":
            return {"keep": _made(Keep, into=data.get("into", "").strip(), row=pairs(data, "row"))}
        case "each":
            return {
                "each": _made(
                    Each,
                    name=data.get("name-of-one", "").strip(),
                    in_=data.get("in", ""),
                    at_most=int(_number(data.get("at_most", "100"), "at most")),
                )
            }
        case "repeat":
            how, text = data.get("how", "times"), data.get("text", "").strip()
            told = {
                {"times": "times", "while": "while_", "until": "until"}.get(how, "times"): (
                    text or ("1" if how == "times" else "{{ 1 }}")
                )
            }
            then = data.get("then", "round")
            return {
                "repeat": _made(
                    Repeat,
                    **told,
                    every_s=_number(data.get("every_s") or "0", "every"),
                    limit_s=_number(data.get("limit_s") or "60", "limit"),
                    at_most=int(_number(data.get("at_most") or "1000", "at most")),
                    then=then if then in dict(THENS) else "round",
                )
            }
        case "if" | "choose":
            names, weights, whens = (
                data.getlist("branch-name"),
                data.getlist("branch-weight"),
                data.getlist("branch-when"),
            )
            made = []
            for at, branch in enumerate(old.branches):
                changed: dict[str, object] = {}
                if at < len(names):
                    changed["name"] = names[at].strip()
                if at < len(weights):
                    changed["weight"] = _number(weights[at] or "0", "weight")
                if at < len(whens):
                    changed["when"] = whens[at].strip()
                made.append(replace(branch, **changed))
            found: dict[str, object] = {"branches": tuple(made)}
            if old.kind == "choose":
                found["choose"] = "evenly" if data.get("choose") == "evenly" else "at random"
            return found
    return {"at_once": bool(data.get("at_once"))} if "shows-at-once" in data else {}


def _made(kind: type[Any], **fields: Any) -> Any:
    """A value whose own limits are verified. Raises DynamikosError in words."""
    try:
        return msgspec.convert(msgspec.to_builtins(kind(**fields)), kind)
    except (msgspec.ValidationError, TypeError) as problem:
        text = str(problem)
        if "matching regex" in text:
            text = "a name has small letters, digits and _; a function is written as module.function"
        raise DynamikosError(f"This can't be kept: {text}") from problem


Noted = TypeVar("Noted", Capture, Check)


def noted(new: tuple[Noted, ...], old: tuple[Noted, ...]) -> tuple[Noted, ...]:
    """With the notes of what stayed the same: the panel does not show them."""
    notes = {replace(each, note=""): each.note for each in old}
    return tuple(replace(each, note=notes.get(each, "")) for each in new)


def request_changes(data: QueryDict, old: Request) -> dict[str, object]:
    """The fields of a request that the panel edits."""
    method = data.get("method", "GET").strip().upper()
    if not (method.isalpha() and 3 <= len(method) <= 10):
        raise DynamikosError(f"'{method}' is not a method; write GET, POST, PUT, …")
    address = data.get("address", "").strip()
    if not address:
        raise DynamikosError("A request needs an address, such as {{ env.target }}/sign-in.")
    return {
        "method": method,
        "address": address,
        "query": pairs(data, "query"),
        "headers": headers_from(data, "header"),
        "body": body_from(data, old.body),
        "authorization": authorization_from(data),
        "embedded": tuple(line.strip() for line in data.get("embedded", "").splitlines() if line.strip()),
        "captures": noted(captures_from(data), old.captures),
        "checks": noted(checks_from(data), old.checks),
        "note": data.get("note", "").strip(),
    }


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
