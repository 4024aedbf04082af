"""Has the interpreter take the machine code of a module instead of its source."""

import os
import sys
from collections.abc import Sequence
from importlib.abc import MetaPathFinder
from importlib.machinery import EXTENSION_SUFFIXES, ModuleSpec
from importlib.util import spec_from_file_location
from pathlib import Path
from types import ModuleType

from dynamikos.machine.modules import PLACE, SWITCH, is_current


class Finder(MetaPathFinder):
    """Finds what was compiled into `place`."""

    def __init__(self, place: Path) -> None:
        suffix = EXTENSION_SUFFIXES[0]
        self.files = {
            ".".join(path.relative_to(place).parts).removesuffix(suffix): path
            for path in place.rglob(f"*{suffix}")
        }

    def find_spec(
        self, fullname: str, path: Sequence[str] | None, target: ModuleType | None = None
    ) -> ModuleSpec | None:
        file = self.files.get(fullname)
        return spec_from_file_location(fullname, file) if file is not None else None


def use(place: Path = PLACE) -> bool:
    """From now on, for this process; whether there is any that may be used."""
    if os.environ.get(SWITCH) or not is_current(place):
        return False
    sys.meta_path.insert(0, Finder(place))
    return True
