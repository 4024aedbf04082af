"""How well tests hold what decides a verdict: one place of a module is changed, and a test has to
fail. `./dynamikos test --long` does it for 400 places drawn with a fixed seed.

A change that lives is no error by itself (a limit that can't be met exactly, a text for people);
those that do are printed, and more than ALLOWED of them fail the run.
"""

import ast
import importlib.util
import io
import os
import random
import signal
import sys
import time
import unittest
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

ROOT = Path(__file__).parents[1]
CORE = ROOT / "src" / "dynamikos" / "core"
COUNT, SEED, ALLOWED, AT_ONCE = 400, 28, 0.10, 2
LONGEST_S = 60  # a change after which tests go on for ever has been noticed
# by package of the core: the tests that are asked, quick ones first
TESTS = {
    "verdicts": "boundaries objectives intervals cut_off readings endings verdicts telling",
    "objectives": "boundaries objectives intervals cut_off readings verdicts",
    "statistics": "boundaries statistics figures intervals cut_off objectives sides comparison",
    "profiles": "boundaries profiles once starting crowds",
    "comparison": "sides run_changes trend comparison",
    "dealing": "boundaries dealing preflight",
}
SWAPS: dict[type, type] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult,
    ast.FloorDiv: ast.Mult, ast.Mod: ast.Mult, ast.Pow: ast.Mult, ast.And: ast.Or, ast.Or: ast.And,
}  # fmt: skip


class Change(NamedTuple):
    """The `nth` place of a file that can be changed, and what is done there."""

    path: Path
    nth: int
    line: int
    what: str

    def __str__(self) -> str:
        return f"{self.path.relative_to(ROOT)}:{self.line} {self.what}"


def places(tree: ast.AST) -> Iterator[tuple[int, str, Callable[[], None]]]:
    """(line, what, doing it) of each place, in a fixed order; annotations and texts are none."""
    skipped = {
        id(inner)
        for node in ast.walk(tree)
        for part in (getattr(node, "annotation", None), getattr(node, "returns", None))
        if part is not None
        for inner in ast.walk(part)
    }
    for node in ast.walk(tree):
        if id(node) in skipped:
            continue
        if isinstance(node, ast.Compare) and type(node.ops[0]) in SWAPS:
            yield node.lineno, _named(node.ops[0]), lambda node=node: _swap_first(node)
        elif isinstance(node, ast.BinOp | ast.BoolOp) and type(node.op) in SWAPS:
            yield node.lineno, _named(node.op), lambda node=node: _swap(node)
        elif isinstance(node, ast.IfExp | ast.If):
            yield node.lineno, "if → if not", lambda node=node: _negate(node)
        elif isinstance(node, ast.Constant) and type(node.value) in (int, float, bool):
            yield node.lineno, f"{node.value} → {_other(node.value)}", lambda n=node: _set(n)


def _named(op: ast.AST) -> str:
    return f"{type(op).__name__} → {SWAPS[type(op)].__name__}"


def _swap_first(node: ast.Compare) -> None:
    node.ops[0] = SWAPS[type(node.ops[0])]()


def _swap(node: Any) -> None:
    node.op = SWAPS[type(node.op)]()


def _negate(node: Any) -> None:
    node.test = ast.UnaryOp(ast.Not(), node.test)


def _other(value: float) -> float:
    return not value if isinstance(value, bool) else value + 1


def _set(node: ast.Constant) -> None:
    node.value = _other(node.value)  # type: ignore[arg-type]


def every_change() -> list[Change]:
    """Of all modules of TESTS."""
    made = []
    for package in TESTS:
        for path in sorted((CORE / package).glob("*.py")):
            tree = ast.parse(path.read_text(encoding="utf-8"))
            for nth, (line, what, _) in enumerate(places(tree)):
                made.append(Change(path, nth, line, what))
    return made


def changed(change: Change) -> ast.AST:
    """The module with it."""
    tree = ast.parse(change.path.read_text(encoding="utf-8"))
    for nth, (_, _, do) in enumerate(places(tree)):
        if nth == change.nth:
            do()
            break
    return ast.fix_missing_locations(tree)


class Finder:
    """Has one module imported as it was changed."""

    def __init__(self, change: Change) -> None:
        parts = change.path.relative_to(ROOT / "src").with_suffix("").parts
        self._name = ".".join(parts[:-1] if parts[-1] == "__init__" else parts)
        self._code = compile(changed(change), str(change.path), "exec")  # type: ignore[arg-type]
        self._path = change.path

    def find_spec(self, name: str, path: Any, target: Any = None) -> Any:
        if name != self._name:
            return None
        folder = [str(self._path.parent)] if self._path.name == "__init__.py" else None
        return importlib.util.spec_from_file_location(
            name, self._path, loader=self, submodule_search_locations=folder
        )

    def create_module(self, spec: Any) -> None:
        return None

    def exec_module(self, module: Any) -> None:
        exec(self._code, module.__dict__)


def notices(change: Change | None, names: list[str]) -> bool:
    """Whether a test fails. In a process of its own."""
    signal.alarm(LONGEST_S)
    sys.stdout = sys.stderr = io.StringIO()
    if change is not None:
        sys.meta_path.insert(0, Finder(change))
    for name in names:
        suite = unittest.defaultTestLoader.loadTestsFromName(name)
        result = unittest.TextTestRunner(stream=io.StringIO(), failfast=True).run(suite)
        if not result.wasSuccessful():
            return True
    return False


def begin(change: Change | None, names: list[str]) -> int:
    """A process that ends with 1 where the change was noticed, else with 0."""
    child = os.fork()
    if child:
        return child
    try:
        os._exit(int(notices(change, names)))
    except BaseException:  # what can't be imported any more was noticed, too
        os._exit(1)


def names_of(package: str) -> list[str]:
    return [f"tests.core.test_{name}" for name in TESTS[package].split()]


def survivors(changes: list[Change], tell: Callable[[str], None]) -> list[Change]:
    """Those that no test notices."""
    waiting, running, lived = list(changes), dict[int, Change](), list[Change]()
    while waiting or running:
        while waiting and len(running) < AT_ONCE:
            change = waiting.pop(0)
            running[begin(change, names_of(change.path.parent.name))] = change
        child, status = os.wait()
        change = running.pop(child)
        if status == 0:
            lived.append(change)
            tell(f"  lives: {change}")
    return lived


def main(count: int = COUNT) -> int:
    import orjson  # noqa: F401
    import scipy.optimize
    import scipy.stats  # noqa: F401
    import yaml  # noqa: F401

    begun = time.monotonic()
    for package in TESTS:
        child = begin(None, names_of(package))
        if os.waitpid(child, 0)[1]:
            print(f"the tests of {package} fail as they are")
            return 2
    every = every_change()
    drawn = random.Random(SEED).sample(every, min(count, len(every)))
    lived = survivors(drawn, lambda text: print(text, flush=True))
    share = 1 - len(lived) / len(drawn)
    took = (time.monotonic() - begun) / 60
    print(f"{len(drawn)} of {len(every)} changes: {share:.1%} noticed, in {took:.0f} min")
    return int(share < 1 - ALLOWED)


if __name__ == "__main__":
    sys.exit(main(*map(int, sys.argv[1:])))
