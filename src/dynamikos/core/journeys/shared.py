"""Steps that several journeys use: their requests stand in one place, a step with `use` stands for
them.
"""

from collections.abc import Mapping
from typing import Literal

import msgspec
from msgspec.structs import replace

from dynamikos.core.forms import VersionedCodec
from dynamikos.core.journeys.kinds import Sending, Step
from dynamikos.core.journeys.model import Journey
from dynamikos.core.journeys.request import Key, Request
from dynamikos.core.text import Frozen, parse, schema, write


class Shared(Frozen, frozen=True, kw_only=True):
    """A shared step: signing in, say."""

    form: Literal[1]
    shared: Key
    name: str
    requests: tuple[Request, ...] = ()
    note: str = ""


SHARED = VersionedCodec("shared step", Shared)


def parse_shared(text: str, *, file: str = "") -> Shared:
    """The shared step in `text`. Raises TextError with line and column."""
    return parse(text, SHARED, noted=frozenset({"shared", "request"}), file=file)


def write_shared(shared: Shared) -> str:
    return write(msgspec.to_builtins(shared))


def shared_schema() -> dict[str, object]:
    return schema(Shared, "Dynamikos shared step, form 1")


def used_in(journey: Journey) -> set[str]:
    """Keys of the shared steps that a journey uses."""
    return {step.use for _, step in journey.steps() if step.use}


def expand(journey: Journey, shared: Mapping[str, Shared]) -> Journey:
    """`journey` with the requests of shared steps put in; a step whose shared step does not exist
    has none.
    """

    def whole(step: Step) -> Step:
        if not isinstance(step, Sending) or not step.use:
            return step
        numbers = dict(step.recorded)
        requests = shared[step.use].requests if step.use in shared else ()
        return replace(
            step,
            requests=tuple(replace(each, recorded=numbers.get(each.request)) for each in requests),
            recorded=(),
        )

    if not used_in(journey):
        return journey
    return journey.mapped(whole)


def fold(journey: Journey, shared: Mapping[str, Shared]) -> tuple[Journey, dict[str, Shared]]:
    """The opposite of `expand` after an edit: the journey as it is stored, and the shared steps
    whose requests were changed in it.
    """
    changed: dict[str, Shared] = {}

    def stored(step: Step) -> Step:
        if not isinstance(step, Sending) or not step.use or step.use not in shared:
            return step
        bare = tuple(replace(each, recorded=None) for each in step.requests)
        if bare != shared[step.use].requests:
            changed[step.use] = replace(shared[step.use], requests=bare)
        numbers = tuple(
            (each.request, each.recorded) for each in step.requests if each.recorded is not None
        )
        return replace(step, requests=(), recorded=numbers)

    return journey.mapped(stored), changed


def share(journey: Journey, step: Step, key: str) -> tuple[Journey, Shared]:
    """`step` of `journey` made a shared one under `key`; the journey as it is before folding."""
    made = Shared(
        form=1,
        shared=key,
        name=step.name,
        requests=tuple(replace(each, recorded=None) for each in step.requests),
        note=step.note,
    )

    def used(each: Step) -> Step:
        return (
            replace(each, use=key) if isinstance(each, Sending) and each.step == step.step else each
        )

    return journey.mapped(used), made
