"""How a value is taken out of an answer: a kind is a file, with its value, its finder and its
words. KINDS is the one list of them, in the order in which they are offered.
"""

from dynamikos.core.captures.kinds import address, between, cookie, css, header, json, regex
from dynamikos.core.captures.view import CaptureKind

KINDS: dict[str, CaptureKind] = {
    kind.name: kind
    for kind in (
        json.KIND,
        css.KIND,
        between.KIND,
        regex.KIND,
        header.KIND,
        cookie.KIND,
        address.KIND,
    )
}
