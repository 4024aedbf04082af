"""By the name of a header."""

from dynamikos.core.captures.kinds.patterns import TOKEN
from dynamikos.core.captures.view import CaptureKind, Finder
from dynamikos.core.errors import RuleError


def find(name: str) -> Finder:
    """The values of a response header."""
    if not TOKEN.fullmatch(name):
        raise RuleError(f"'{name}' is not a header name")
    wanted = name.lower().encode()
    return lambda view: (
        value.decode("latin-1") for key, value in view.headers if key.lower() == wanted
    )


KIND = CaptureKind("header", find, str, needs_body=False)
