"""A load plan and what it names, read from text files that stand beside it."""

import ast
import os
import uuid
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from msgspec.structs import replace

from dynamikos.core.dealing import Deal, Table, read_table
from dynamikos.core.errors import PlanError
from dynamikos.core.frozen import DataPile, FrozenRun
from dynamikos.core.frozen.freeze import Inputs, freeze
from dynamikos.core.journeys import (
    Journey,
    Shared,
    expand,
    key_from,
    parse_journey,
    parse_shared,
    used_in,
)
from dynamikos.core.personas import Persona, parse_persona
from dynamikos.core.plans import Environment, Plan, parse_environment, parse_plan, parse_target
from dynamikos.core.plans.model import refuse_if, twice_said
from dynamikos.core.plans.workloads import Replayed


@dataclass(frozen=True, slots=True)
class PlanFiles:
    """Everything a run from files needs."""

    plan: Plan
    journeys: dict[str, Journey]  # by the paths that the plan's rows name
    environment: Environment
    tables: dict[str, Table]
    functions: dict[str, str]
    personas: dict[str, Persona] = field(
        default_factory=dict
    )  # by the paths that the plan's rows name
    plan_file: str = ""
    environment_file: str = ""

    def frozen(self, secrets: Mapping[str, str], *, trial: bool = False) -> FrozenRun:
        """The frozen document. Raises PlanError with all problems, one a line."""
        inputs = Inputs(
            plan=self.plan,
            journeys={name: journey.active() for name, journey in self.journeys.items()},
            way=self.environment.way,
            values=self.environment.known(),
            secrets=frozenset(name.removeprefix("secrets.") for name in secrets),
            agreed=tuple(parse_target(line) for line in self.environment.agreed),
            data=tuple(
                DataPile(
                    key=key,
                    columns=t.columns,
                    secret=t.secret,
                    rows=len(t.rows),
                    deal=self.plan.deals.get(key, Deal()),
                )
                for key, t in self.tables.items()
            ),
            functions=self.functions,
            callable=frozenset(names_of_functions(self.functions)),
            functions_agreed=True,
            from_files=True,
            plan_file=self.plan_file,
            environment_file=self.environment_file,
            personas=self.personas,
        )
        return freeze(inputs, run=str(uuid.uuid4()), seed=self.plan.drawn_seed(), trial=trial)


def load(path: Path, environment: str | None = None) -> PlanFiles:
    """Reads `path` and the files it names, all inside its own folder. Raises DynamikosError."""
    folder = path.resolve().parent
    plan = parse_plan(_text(path), file=path.name)
    refuse_if(twice_said(plan))
    plan = with_files(plan, lambda name: _text(_inside(folder, name)))
    journeys = {name: _journey(folder, name) for name in plan.journeys}
    named = environment or plan.environment
    if "/" not in named and not named.endswith((".yaml", ".yml")):
        named = f"environments/{named}.yaml"
    found = parse_environment(_text(_inside(folder, named)), file=named)
    tables = {}
    for name in plan.data:
        file = _inside(folder, name)
        key = key_from(file.stem).replace("-", "_")
        tables[key] = read_table(_bytes(file), name)
    functions = {
        _inside(folder, name).stem: _text(_inside(folder, name)) for name in plan.functions
    }
    personas = {
        name: parse_persona(_text(_inside(folder, name)), file=name) for name in plan.personas
    }
    return PlanFiles(plan, journeys, found, tables, functions, personas, path.name, named)


def with_files(plan: Plan, text: Callable[[str], str]) -> Plan:
    """The plan with what its loads name as files read into them."""
    crowds = tuple(
        replace(crowd, load=replace(crowd.load, times=text(crowd.load.file), file=""))
        if isinstance(crowd.load, Replayed) and crowd.load.file
        else crowd
        for crowd in plan.everybody()
    )
    return plan if crowds == plan.everybody() else plan.with_crowds(crowds)


def _journey(folder: Path, name: str) -> Journey:
    """The journey in a file, its shared steps put in: they stand beside it."""
    journey = parse_journey(_text(_inside(folder, name)), file=name)
    shared: dict[str, Shared] = {}
    for key in sorted(used_in(journey)):
        file_name = f"{name.rpartition('/')[0] or '.'}/steps/{key}.yaml"
        shared[key] = parse_shared(_text(_inside(folder, file_name)), file=file_name)
    return expand(journey, shared).with_body_files(lambda file: str(_file(folder, file)))


def names_of_functions(modules: dict[str, str]) -> set[str]:
    """Every "module.function", found by reading. Raises PlanError for a module that can't be
    read.
    """
    found = set()
    for name, source in modules.items():
        try:
            tree = ast.parse(source, f"{name}.py")
        except SyntaxError as problem:
            raise PlanError(f"{name}.py, line {problem.lineno}: {problem.msg}") from problem
        found |= {
            f"{name}.{node.name}"
            for node in tree.body
            if isinstance(node, ast.FunctionDef) and not node.name.startswith("_")
        }
    return found


def _inside(folder: Path, name: str) -> Path:
    """`name` under `folder`; `..`, absolute paths and links that lead out are refused."""
    path = folder / name
    if (
        Path(name).is_absolute()
        or ".." in Path(name).parts
        or not path.resolve().is_relative_to(folder)
    ):
        raise PlanError(f"'{name}' leads out of {folder}; files of a plan stand in its own folder")
    return path


def _file(folder: Path, name: str) -> Path:
    """A body's file; it is read while it is sent, however large it is."""
    path = _inside(folder, name).resolve()
    if not path.is_file() or not os.access(path, os.R_OK):
        raise PlanError(
            f"{path} can't be read: a request's body needs it. It is a file beside the plan."
        )
    return path


def _bytes(path: Path) -> bytes:
    if path.exists() and not path.is_file():  # a pipe or a device would be waited for, or never end
        raise PlanError(f"{path} is not a file")
    try:
        return path.read_bytes()
    except OSError as problem:
        raise PlanError(f"{path} can't be read: {problem.strerror}") from problem


def _text(path: Path) -> str:
    try:
        return _bytes(path).decode("utf-8")
    except UnicodeDecodeError as problem:
        raise PlanError(f"{path} is not UTF-8 text; save it as UTF-8") from problem
