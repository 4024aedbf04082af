"""Compiles the modules, all cores at once: `python -m dynamikos.machine.making`.

Nothing is done while what is there was made from the same sources.
"""

import ast
import contextlib
import io
import json
import os
import sys
import tempfile
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

from dynamikos.machine import stops
from dynamikos.machine.modules import (
    MADE_FROM,
    MODULES,
    PLACE,
    SOURCES,
    is_current,
    signs,
    source_of,
)


class NotMade(Exception):
    """There is no machine code, and why."""


def make(place: Path = PLACE, modules: Sequence[str] = MODULES, sources: Path = SOURCES) -> None:
    """Compiles `modules`, which lie in `sources`, into `place`, whole or not at all. Raises
    NotMade, OSError.
    """
    files = [
        str(path.relative_to(sources)) for module in modules if (path := source_of(module, sources))
    ]
    made_from = signs(read_with(modules, sources), sources)
    place.parent.mkdir(parents=True, exist_ok=True)
    with (
        tempfile.TemporaryDirectory(dir=place.parent, prefix="machine-code-") as name,
        contextlib.chdir(sources),
    ):
        folder, told = Path(name), io.StringIO()
        try:
            with contextlib.redirect_stdout(told), contextlib.redirect_stderr(told):
                _compiled(files, folder)
        except (Exception, SystemExit) as problem:
            said = "\n".join(told.getvalue().strip().splitlines()[-12:])
            raise NotMade(f"{problem or type(problem).__name__}\n{said}") from problem
        about = {"python": sys.version, "modules": list(modules), "sources": made_from}
        (folder / "code" / MADE_FROM).write_text(json.dumps(about, indent=1))
        old = folder / "old"
        with contextlib.suppress(FileNotFoundError):
            place.rename(old)  # whoever has it loaded keeps it
        (folder / "code").rename(place)


def read_with(modules: Iterable[str], sources: Path = SOURCES) -> set[Path]:
    """The sources of `modules` and of what they import of ours: a compiler relies on the types of
    both.
    """
    found = set()
    for module in modules:
        path = source_of(module, sources)
        if path is None:
            raise FileNotFoundError(f"{module} has no source in {sources}")
        found.add(path)
        for node in ast.walk(ast.parse(path.read_bytes())):
            if isinstance(node, ast.ImportFrom) and node.module and node.level == 0:
                names = [node.module, *(f"{node.module}.{each.name}" for each in node.names)]
                found |= {imported for name in names if (imported := source_of(name, sources))}
    return found


def _compiled(files: Sequence[str], folder: Path) -> None:
    """One library for all, in which they call each other directly, and a small one for each to be
    found by.
    """
    from mypyc.build import mypycify  # not at the top: they take a second
    from setuptools import Distribution
    from setuptools.command.build_ext import build_ext

    class Build(build_ext):  # type: ignore[misc]
        """Compiles the files of a part side by side, the largest first."""

        def build_extensions(self) -> None:
            self.compiler.compile = partial(_at_once, self.compiler)
            super().build_extensions()

    parts = mypycify(
        [
            "--config-file=",
            "--ignore-missing-imports",
            "--follow-imports=silent",
            "--cache-dir=/dev/null",
            *files,
        ],
        opt_level="2",
        debug_level="0",
        multi_file=True,
        target_dir=str(folder / "c"),
        group_name="dynamikos_engine",
    )
    command = Build(Distribution({"name": "dynamikos", "ext_modules": parts}))
    command.build_lib, command.build_temp = str(folder / "code"), str(folder / "objects")
    command.ensure_finalized()
    command.run()


def _at_once(
    compiler: Any,
    sources: list[str],
    output_dir: str | None = None,
    macros: Any = None,
    include_dirs: Any = None,
    debug: bool = False,
    extra_preargs: Any = None,
    extra_postargs: Any = None,
    depends: Any = None,
) -> list[str]:
    """As a compiler's own `compile`, on all cores."""
    _, objects, post, options, build = compiler._setup_compile(
        output_dir, macros, include_dirs, sources, depends, extra_postargs
    )
    flags = compiler._get_cc_args(options, debug, extra_preargs)
    largest_first = sorted(objects, key=lambda each: -os.path.getsize(build[each][0]))
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        list(
            pool.map(
                lambda each: compiler._compile(each, *build[each], flags, post, options),
                largest_first,
            )
        )
    return list(objects)


def main() -> int:
    """0 when it is there, 1 when the engine has to be interpreted."""
    stops.made()
    if is_current():
        return 0
    print("dynamikos: compiling the engine, once: it takes about a minute", file=sys.stderr)
    try:
        make()
    except (NotMade, OSError) as problem:
        print(
            "dynamikos: the engine is interpreted, which is slower: it could not be compiled: "
            f"{problem}",
            file=sys.stderr,
        )
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
