"""What can be expected of an answer: a kind is a file, with its value, its texts, its look and its
words. KINDS is the one list of them, in the order in which they are offered.
"""

from dynamikos.core.checks.check_kinds import CheckKind
from dynamikos.core.checks.kinds import (
    bounds,
    comparing,
    contains,
    content_type,
    css,
    header,
    json,
    regex,
    status,
)

KINDS: dict[str, CheckKind] = {
    kind.name: kind
    for kind in (
        status.KIND,
        content_type.KIND,
        contains.KIND,
        regex.KIND,
        json.KIND,
        css.KIND,
        header.KIND,
        bounds.SIZE,
        bounds.TIME,
        comparing.KIND,
    )
}
