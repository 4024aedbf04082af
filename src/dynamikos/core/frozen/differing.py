"""What a run was made of as texts, and in words what differs between two runs."""

import difflib
import json
from collections.abc import Iterator, Mapping

import msgspec
from msgspec.structs import replace

from dynamikos.core.figures import short
from dynamikos.core.frozen.document import FrozenRun
from dynamikos.core.journeys import write_journey
from dynamikos.core.objectives import Objective, describe
from dynamikos.core.personas import write_persona
from dynamikos.core.plans import write_plan
from dynamikos.core.profiles import highest


def written(inputs: FrozenRun) -> list[tuple[str, str]]:
    """(title, text) of everything that a run was made of."""
    made = [("The plan", write_plan(inputs.plan))]
    made.extend((f"Journey: {each.name}", write_journey(each)) for each in inputs.journeys.values())
    made.extend(
        (f"Persona: {each.name or key}", write_persona(each))
        for key, each in inputs.personas.items()
    )
    for pile in inputs.data:
        said = (
            f"{pile.rows:,} rows of "
            f"{', '.join(pile.columns)}\n{json.dumps(msgspec.to_builtins(pile.deal), indent=1)}"
        )
        made.append((f"Data: {pile.key}", said))
    made.extend((f"Functions: {name}", source) for name, source in inputs.functions.items())
    values = "\n".join(f"{name}: {value}" for name, value in inputs.values.items())
    agreed = "\n".join(str(each) for each in inputs.agreed)
    made.append(
        (
            "Environment",
            f"{inputs.plan.environment}\n{values}\n\nagreed targets\n{agreed}\n\nseed "
            f"{inputs.seed}",
        )
    )
    return made


def differing(before: FrozenRun, after: FrozenRun) -> list[str]:
    """In words what of the inputs is not the same; seeds, which are new for each run, left out."""
    one, other = before.plan, after.plan
    return [
        *([f"plan {one.name} → {other.name}"] if one.plan != other.plan else []),
        *_texts("journey", _journeys(before), _journeys(after)),
        *_texts("persona", _personas(before), _personas(after)),
        *_load(before, after),
        *_data(before, after),
        *_objectives(before.plan.objectives, after.plan.objectives),
        *_surroundings(before, after),
    ]


def _journeys(inputs: FrozenRun) -> dict[str, str]:
    return {each.name: write_journey(each) for each in inputs.journeys.values()}


def _personas(inputs: FrozenRun) -> dict[str, str]:
    return {each.name or key: write_persona(each) for key, each in inputs.personas.items()}


def _texts(what: str, before: Mapping[str, str], after: Mapping[str, str]) -> Iterator[str]:
    for name in sorted({*before, *after}):
        if name not in after:
            yield f"{what} {name}: not there any more"
        elif name not in before:
            yield f"{what} {name}: new"
        elif before[name] != after[name]:
            lines = difflib.ndiff(before[name].splitlines(), after[name].splitlines())
            count = sum(line.startswith(("+ ", "- ")) for line in lines)
            yield f"{what} {name}: {count} line{'s' if count != 1 else ''} changed"


def _size(inputs: FrozenRun) -> str:
    comes = [f"{inputs.planned_peak:,} users"] if inputs.planned_peak else []
    comes += [
        f"{short(highest(crowd.profile))} {crowd.load.unit}"
        for crowd in inputs.crowds if crowd.load.is_open
    ]  # fmt: skip
    return f"{', '.join(comes) or 'nobody'} at most, {inputs.ends_s:g} s"


CACHES = {"none": "none", "user": "kept by each", "round": "emptied before each round"}


def _load(before: FrozenRun, after: FrozenRun) -> Iterator[str]:
    if before.crowds != after.crowds or before.weights != after.weights:
        one, other = _size(before), _size(after)
        yield (
            f"load: {one} → {other}"
            if one != other
            else f"load: another curve or other rows ({one})"
        )
    if before.measured != after.measured:
        yield "measured part: {:g}–{:g} s → {:g}–{:g} s".format(*before.measured, *after.measured)
    for name, words in (("think_factor", "think times ×"), ("generators", "generators")):
        one, other = getattr(before.plan, name), getattr(after.plan, name)
        if one != other:
            yield f"{words} {one:g} → {other:g}"
    if before.plan.cache != after.plan.cache:
        yield f"cache of users: {CACHES[before.plan.cache]} → {CACHES[after.plan.cache]}"


def _data(before: FrozenRun, after: FrozenRun) -> Iterator[str]:
    piles = [{each.key: each for each in inputs.data} for inputs in (before, after)]
    for key in sorted({*piles[0], *piles[1]}):
        one, other = (found.get(key) for found in piles)
        if one is None or other is None:
            yield f"data {key}: {'new' if one is None else 'not used any more'}"
            continue
        if one.rows != other.rows:
            yield f"data {key}: {one.rows:,} → {other.rows:,} rows"
        elif one.blocks != other.blocks:
            yield f"data {key}: other values"
        if one.deal != other.deal:
            yield f"data {key}: dealt by another rule"


def _objectives(before: tuple[Objective, ...], after: tuple[Objective, ...]) -> Iterator[str]:
    named = [{each.objective: each for each in all_} for all_ in (before, after)]
    for key in dict.fromkeys([*named[0], *named[1]]):
        one, other = (found.get(key) for found in named)
        if one is None or other is None:
            there = one or other
            assert there is not None
            yield f"objective {describe(there)}: {'new' if one is None else 'taken away'}"
        elif one != other:
            is_limit = replace(one, limit=other.limit) == other
            said = f"limit {one.limit:g} → {other.limit:g}" if is_limit else "changed"
            yield f"objective {describe(one)}: {said}"


def _surroundings(before: FrozenRun, after: FrozenRun) -> Iterator[str]:
    if before.plan.environment != after.plan.environment:
        yield f"environment {before.plan.environment} → {after.plan.environment}"
    for name in sorted({*before.values, *after.values}):
        one, other = before.values.get(name, "—"), after.values.get(name, "—")
        if one != other:
            yield f"{name}: {one[:60]} → {other[:60]}"
    if before.fingerprints and after.fingerprints and before.fingerprints != after.fingerprints:
        yield "secrets: other values"
    if before.way != after.way:
        yield "the way to the targets"
    if before.functions != after.functions:
        yield "Python functions"
    if before.engine != after.engine:
        yield f"engine {before.engine} → {after.engine}"
