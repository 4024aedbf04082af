"""A request's body as the panel sends it: a form, JSON, text, or parts with files."""

import base64
import json
from itertools import zip_longest

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges import jsontext
from dynamikos.core.figures import digits
from dynamikos.core.journeys import Body, FormPart
from dynamikos.web.journeys.forms.rows import pairs

MAX_FILE_BYTES = 2_000_000


def body_from(data: QueryDict, old: Body | None) -> Body | None:
    """Raises DynamikosError for what can't be sent as the kind it is said to be."""
    kind = data.get("body-kind", "")
    if kind == "file":
        return old
    if kind == "form":
        return Body(form=pairs(data, "form"))
    if kind == "parts":
        return Body(parts=parts_from(data, old))
    if kind == "base64":
        return _bytes_from(data, old)
    text = data.get("body-text")
    if text is None:  # another kind was chosen just now: what was typed goes with it
        text = _as_text(old)
    if kind == "json":
        leaves = dict(zip(data.getlist("leaf-path"), data.getlist("leaf-value"), strict=False))
        before = dict(leaves_of(text))
        changes = {
            path: value.strip() or '""'
            for path, value in leaves.items()
            if path in before and before[path] != value
        }
        if changes:
            text = jsontext.change(text, changes)
        wrong = jsontext.problem_in(text) if text.strip() else ""
        if wrong and data.get("body-text") is not None:
            raise DynamikosError(
                f"JSON body, {wrong}. To send it as it is, choose “raw text” first."
            )
        return Body(json=text, type=data.get("body-type", ""))
    if kind == "raw":
        return Body(raw=text, type=data.get("body-type", ""))
    return None


def _bytes_from(data: QueryDict, old: Body | None) -> Body:
    """A body that is no text: the file that was chosen now, else what was there before."""
    content = data.get("part-content", "keep")
    if content.startswith("keep"):
        before = old.base64 if old is not None and old.base64 is not None else None
        if before is None:
            before = base64.b64encode(_as_text(old).encode()).decode()
        content = before
    else:
        _verify_size("the body", content)
    return Body(base64=content, type=data.get("part-type", "").strip())


def _verify_size(what: str, content: str) -> None:
    """Raises DynamikosError for a chosen file that came broken or is too large."""
    try:
        size = len(base64.b64decode(content, validate=True))
    except ValueError as problem:
        raise DynamikosError(
            f"{what}: its content came broken; choose the file again."
        ) from problem
    if size > MAX_FILE_BYTES:
        raise DynamikosError(
            f"{what}: a file of {size:,} bytes is too large for a journey; at most "
            f"{MAX_FILE_BYTES:,} go with it."
        )


def leaves_of(text: str) -> list[tuple[str, str]]:
    """(JSONPath, scalar as written) of a JSON text; none when it is not JSON."""
    try:
        return [(path, text[start:end]) for path, start, end in jsontext.spans(text)]
    except jsontext.NotJson:
        return []


def _as_text(body: Body | None) -> str:
    if body is None or body.base64 is not None:
        return ""
    if body.json is not None or body.raw is not None:
        return body.json if body.json is not None else body.raw or ""
    fields = (
        body.form
        if body.form is not None
        else [(part.name, part.value) for part in body.parts or ()]
    )
    return json.dumps(dict(fields), ensure_ascii=False, indent=1)


def parts_from(data: QueryDict, old: Body | None) -> tuple[FormPart, ...]:
    """Rows of a multipart body. A content is what was chosen now (base64), or "keep N": that of row
    N before.
    """
    before = (old.parts if old is not None else None) or ()
    columns = ("name", "value", "file", "type", "content")
    made = []
    for name, value, file, kind, content in zip_longest(
        *(data.getlist(f"part-{each}") for each in columns), fillvalue=""
    ):
        if not name.strip():
            continue
        if content.startswith("keep "):
            number = digits(content[5:])
            content = before[number].base64 if number is not None and number < len(before) else ""
        elif content:
            _verify_size(f"part {name}", content)
        made.append(
            FormPart(
                name=name.strip(),
                value="" if content else value,
                file=file.strip(),
                type=kind.strip(),
                base64=content,
            )
        )
    if not made and old is not None and old.form is not None:  # just chosen: the fields stay
        return tuple(FormPart(name=name, value=value) for name, value in old.form)
    return tuple(made)
