"""The journey model. Every thing with a `key` keeps it through renaming; results refer to keys."""

import re
from collections.abc import Callable, Collection, Iterator
from typing import Any, Literal, Self

from msgspec.structs import replace

from dynamikos.core.journeys.kinds import Step, tagged, untagged
from dynamikos.core.journeys.request import Authorization, Key, Request
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Change, Pair, pairs_with_texts, texts_in

Part = Literal["opening", "rounds", "closing", "cleanup"]
PLAYED: tuple[Part, ...] = ("opening", "rounds", "closing")
PARTS: tuple[Part, ...] = (*PLAYED, "cleanup")


def walk(steps: tuple[Step, ...]) -> Iterator[Step]:
    """All steps, those inside others right after them."""
    for step in steps:
        yield step
        for inner in step.slots():
            yield from walk(inner)


def mapped(steps: tuple[Step, ...], change: Callable[[Step], Step | None]) -> tuple[Step, ...]:
    """With `change` applied to every step, inner ones first; None leaves a step out."""
    made: list[Step] = []
    for step in steps:
        for slot, inner in enumerate(step.slots()):
            if inner:
                step = step.with_slot(slot, mapped(inner, change))
        changed = change(step)
        if changed is not None:
            made.append(changed)
    return tuple(made)


class Journey(Frozen, frozen=True, kw_only=True):
    """What one kind of person does, from arriving to leaving.

    `headers` and `authorization` are common to all requests that don't say otherwise. `cleanup`
    undoes what a rehearsal left behind; a run never performs it.
    """

    form: Literal[1]
    journey: Key
    name: str
    headers: tuple[Pair, ...] = ()
    authorization: Authorization | None = None
    opening: tuple[Step, ...] = ()
    rounds: tuple[Step, ...] = ()
    closing: tuple[Step, ...] = ()
    cleanup: tuple[Step, ...] = ()
    note: str = ""

    def part(self, part: Part) -> tuple[Step, ...]:
        steps: tuple[Step, ...] = getattr(self, part)
        return steps

    def steps(self) -> Iterator[tuple[Part, Step]]:
        """All steps in the order they stand, each with its part; those inside others right after
        them.
        """
        for part in PARTS:
            for step in walk(self.part(part)):
                yield part, step

    def requests(self) -> Iterator[tuple[Step, Request]]:
        """All requests in the order they stand, each with its step."""
        for _, step in self.steps():
            for request in step.requests:
                yield step, request

    def mapped(self, change: Callable[[Step], Step | None]) -> Self:
        """With `change` applied to every step of every part; None leaves a step out."""
        return replace(self, **{part: mapped(self.part(part), change) for part in PARTS})

    def with_texts(self, change: Change) -> Self:
        """With `change(what it is, text)` in place of each text that may have holes, of its steps
        and requests too.
        """
        common = self.with_common_texts(change)
        return common.mapped(
            lambda step: step.with_requests(lambda request: request.with_texts(change)).with_texts(
                change
            )
        )

    def with_common_texts(self, change: Change) -> Self:
        """Only of what all its requests have in common."""
        proof = self.authorization
        return replace(
            self,
            headers=pairs_with_texts(self.headers, "common header", change),
            authorization=proof.with_texts(change) if proof is not None else None,
        )

    def texts(self) -> list[Pair]:
        """(what it is, text) for each text that may have holes."""
        return texts_in(self)

    def common_texts(self) -> list[Pair]:
        """Only of what all its requests have in common."""
        return texts_in(_Common(self))

    def active(self, *, cleanup: bool = False) -> "Journey":
        """Without what is switched off, and without the clean-up unless asked for: what is
        rehearsed and run.
        """
        made = self.mapped(
            lambda step: (
                None
                if step.off
                else step.with_requests(lambda request: None if request.off else request)
            )
        )
        return made if cleanup else replace(made, cleanup=())

    def body_files(self) -> list[str]:
        """The names of the files that bodies are read from, as they are written."""
        return [r.body.file for _, r in self.requests() if r.body is not None and r.body.file]

    def with_body_files(self, place: Callable[[str], str]) -> "Journey":
        """With the name of every body's file replaced by what `place` makes of it."""

        def placed(request: Request) -> Request:
            body = request.body
            return (
                replace(request, body=replace(body, file=place(body.file)))
                if body is not None and body.file
                else request
            )

        return self.mapped(lambda step: step.with_requests(placed))

    @property
    def captured(self) -> frozenset[str]:
        """The names of all that its requests capture."""
        return frozenset(
            capture.name for _, request in self.requests() for capture in request.captures
        )

    def find_step(self, key: str) -> Step | None:
        return next((step for _, step in self.steps() if step.step == key), None)


class _Common:
    """A journey's common texts as a value that holds texts."""

    def __init__(self, journey: Journey) -> None:
        self.journey = journey

    def with_texts(self, change: Change) -> Self:
        self.journey.with_common_texts(change)
        return self


def as_read(plain: Any) -> Any:
    """A plain journey as it is written, with the kind of each step. Raises ValidationError."""
    if not isinstance(plain, dict):
        return plain
    return {
        name: tagged(value, (name,)) if name in PARTS else value for name, value in plain.items()
    }


def as_written(plain: dict[str, Any]) -> dict[str, Any]:
    """The opposite of `as_read`."""
    return {name: untagged(value) if name in PARTS else value for name, value in plain.items()}


def key_from(text: str, taken: Collection[str] = ()) -> str:
    """A key made of `text` ("Find a slot" → "find-a-slot"), numbered when `taken` already."""
    base = re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:60].strip("-") or "item"
    key, number = base, 2
    while key in taken:
        key, number = f"{base}-{number}", number + 1
    return key
