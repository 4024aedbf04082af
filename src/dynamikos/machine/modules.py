"""Which modules become machine code, and whether that at hand was made from today's sources."""

import hashlib
import json
import os
import sys
from collections.abc import Iterable, Sequence
from pathlib import Path

SOURCES = Path(__file__).parents[2]  # the folder with the package
# elsewhere by the process environment: a pipeline keeps it from one of its machines to the next
PLACE = Path(os.environ.get("DYNAMIKOS_MACHINE_CODE") or Path(sys.prefix) / "machine-code")
MADE_FROM = "made-from.json"
SWITCH = "DYNAMIKOS_INTERPRETED"  # set in the environment: Python only

# What an exchange passes through, each time
MODULES = (
    "dynamikos.core.captures.view",
    "dynamikos.core.checks.kinds.regex",
    "dynamikos.core.checks.kinds.status",
    "dynamikos.engine.http.connection",
    "dynamikos.engine.http.cookies",
    "dynamikos.engine.http.messages",
    "dynamikos.engine.http.protocol",
    "dynamikos.engine.sockets",
    "dynamikos.engine.http.writing",
    "dynamikos.engine.reporting.cells",
    "dynamikos.engine.reporting.keeping",
    "dynamikos.engine.reporting.recorder",
    "dynamikos.engine.reporting.seconds",
    "dynamikos.engine.users.asking",
    "dynamikos.engine.users.attempt",
    "dynamikos.engine.users.bodies",
    "dynamikos.engine.users.compiled",
    "dynamikos.engine.users.filling",
    "dynamikos.engine.users.user_state",
    "dynamikos.engine.users.judging",
    "dynamikos.engine.users.lifecycle",
    "dynamikos.engine.users.patience",
    "dynamikos.engine.users.performer",
    "dynamikos.engine.users.pool",
    "dynamikos.engine.users.resources",
    "dynamikos.engine.users.spans",
    "dynamikos.engine.users.thinking",
    "dynamikos.engine.users.user_context",
    "dynamikos.engine.users.walking",
    "dynamikos.engine.users.wire",
)


def source_of(module: str, sources: Path = SOURCES) -> Path | None:
    """The file of a module of ours; None when there is none."""
    path = sources.joinpath(*module.split("."))
    return next(
        (each for each in (path.with_suffix(".py"), path / "__init__.py") if each.is_file()), None
    )


def signs(paths: Iterable[Path], sources: Path = SOURCES) -> dict[str, str]:
    """Each source, by its path in `sources`, and the SHA-256 of what it says."""
    return {
        str(path.relative_to(sources)): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(paths)
    }


def is_current(
    place: Path = PLACE, modules: Sequence[str] = MODULES, sources: Path = SOURCES
) -> bool:
    """Whether the machine code in `place` is that of `modules` as their sources are now, for this
    Python.
    """
    try:
        made = json.loads((place / MADE_FROM).read_bytes())
        return bool(
            made["python"] == sys.version
            and made["modules"] == list(modules)
            and made["sources"] == signs([sources / each for each in made["sources"]], sources)
        )
    except (OSError, ValueError, KeyError, TypeError):
        return False
