"""Types made known to msgspec before several threads use them: it learns a type at its first use,
and two threads that do so at once end the process (seen with msgspec 0.22: a segmentation fault in
its C code).
"""

import dataclasses
import sys
from collections.abc import Iterator
from typing import Any

import msgspec


def _types() -> Iterator[type[Any]]:
    """Those that our loaded modules have."""
    for name, module in list(sys.modules.items()):
        if name.startswith("dynamikos."):
            for value in list(vars(module).values()):
                if issubclass(
                    type(value), type
                ):  # asked of the value itself, a lazy one would be made
                    yield value


def make_ready() -> int:
    """All types that are loaded: structs, and dataclasses, which are read alike. How many."""
    count = 0
    for kind in dict.fromkeys(_types()):
        if not (issubclass(kind, msgspec.Struct) or dataclasses.is_dataclass(kind)):
            continue
        try:
            msgspec.json.Decoder(kind)
        except (TypeError, NameError, AttributeError):
            continue  # one that is never read
        count += 1
    return count
