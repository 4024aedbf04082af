"""The status that decided."""

import re
from typing import Annotated

import msgspec

from dynamikos.core.checks.check_kinds import CheckKind, Look
from dynamikos.core.errors import RuleError

StatusClass = Annotated[str, msgspec.Meta(pattern=r"^[1-5](xx|[0-9][0-9])$")]
Status = int | StatusClass | tuple[int | StatusClass, ...]


def look(given: int | str | tuple[int | str, ...]) -> Look:
    codes: set[int] = set()
    for each in given if isinstance(given, tuple) else (given,):
        text = str(each).strip().lower()
        if re.fullmatch(r"[1-5]xx", text):
            codes.update(range(int(text[0]) * 100, int(text[0]) * 100 + 100))
        elif re.fullmatch(r"[1-5]\d\d", text):
            codes.add(int(text))
        else:
            raise RuleError(
                f"{each} is not an HTTP status; write 100 to 599, or a class such as 2xx"
            )
    expected = (
        "status " + " or ".join(map(str, given)) if isinstance(given, tuple) else f"status {given}"
    )
    return Look(
        lambda view, values: view.status in codes,
        lambda view, values: (expected, f"status {view.status}"),
    )


def says(given: int | str | tuple[int | str, ...]) -> str:
    return "status " + (" or ".join(map(str, given)) if isinstance(given, tuple) else str(given))


KIND = CheckKind("status", look, says)
