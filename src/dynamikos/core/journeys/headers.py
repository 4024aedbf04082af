"""Which headers a journey may give, and which ones make no valid request (RFC 9110 §5.5, §5.6.2;
RFC 9112 §6).
"""

import re

TOKEN = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+\Z")
# the body says them; a second one makes the request invalid
COMPUTED = frozenset(("content-length", "transfer-encoding"))


def header_problem(name: str, value: str) -> str:
    """Why this header can't be sent, in words; "" when it can."""
    if not TOKEN.match(name):
        return f"'{name[:60]}' can't be the name of a header: letters, digits and - without spaces"
    if name.lower() in COMPUTED:
        return (
            f"{name} is computed from the body; a second one would make the request invalid, so "
            "take this row away"
        )
    if any(sign in value for sign in "\r\n\0"):
        return (
            f"the value of {name} has a line break, which would begin another header; take it out"
        )
    return ""
