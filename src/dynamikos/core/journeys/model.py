"""The journey model. Every thing with a `key` keeps it through renaming; results refer to keys."""

import math
import re
from collections.abc import Collection, Iterator
from typing import Annotated, Literal

import msgspec
from msgspec.structs import replace

from dynamikos.core.captures import Capture
from dynamikos.core.checks import Check

Key = Annotated[str, msgspec.Meta(pattern=r"^[a-z0-9][a-z0-9-]{0,79}$", description="a-z, 0-9 and -, unique in its parent")]
Method = Annotated[str, msgspec.Meta(pattern=r"^[A-Z]{3,10}$")]
Pair = tuple[str, str]
Part = Literal["opening", "rounds", "closing"]
PARTS: tuple[Part, ...] = ("opening", "rounds", "closing")


class Frozen(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """Base of the values in text forms: frozen, strict, defaults left out."""


class Body(Frozen, frozen=True, kw_only=True):
    """What is sent: form fields, a JSON text or a raw text with its content type. Exactly one is given."""

    form: tuple[Pair, ...] | None = None
    json: str | None = None
    raw: str | None = None
    type: str = ""


class Request(Frozen, frozen=True, kw_only=True):
    """One request. `address` and all values may have `{{ name }}` holes; `recorded` is its number in the recording; `off` leaves it out."""

    request: Key
    method: Method = "GET"
    address: str
    query: tuple[Pair, ...] = ()
    headers: tuple[Pair, ...] = ()
    body: Body | None = None
    embedded: tuple[str, ...] = ()
    captures: tuple[Capture, ...] = ()
    checks: tuple[Check, ...] = ()
    recorded: int | None = None
    off: bool = False
    note: str = ""


class Step(Frozen, frozen=True, kw_only=True):
    """One thing a person does, as they would name it; after it they think for `think_s` seconds.

    `think: even` draws evenly from `think_s` to `think_to_s`; `log-normal` has its median at `think_s` and its p95 at `think_to_s`.
    `recorded_think_s` is what the recording had. `off` leaves the step out.
    """

    step: Key
    name: str
    think_s: Annotated[float, msgspec.Meta(ge=0, le=86_400)] = 0.0
    think: Literal["fixed", "even", "log-normal"] = "fixed"
    think_to_s: Annotated[float, msgspec.Meta(ge=0, le=86_400)] = 0.0
    recorded_think_s: Annotated[float, msgspec.Meta(ge=0, le=86_400)] | None = None
    requests: tuple[Request, ...] = ()
    off: bool = False
    note: str = ""

    def mean_think_s(self) -> float:
        """Mean seconds of think time (of a log-normal: exp(μ + σ²/2))."""
        if self.think == "even":
            return (self.think_s + max(self.think_s, self.think_to_s)) / 2
        if self.think == "log-normal" and self.think_s > 0:
            return float(self.think_s * math.exp(self.sigma() ** 2 / 2))
        return self.think_s

    def sigma(self) -> float:
        """σ of the log-normal whose median is `think_s` and p95 `think_to_s`."""
        return math.log(self.think_to_s / self.think_s) / 1.6448536 if self.think_to_s > self.think_s > 0 else 0.0


class Journey(Frozen, frozen=True, kw_only=True):
    """What one kind of person does, from arriving to leaving."""

    form: Literal[1]
    journey: Key
    name: str
    opening: tuple[Step, ...] = ()
    rounds: tuple[Step, ...] = ()
    closing: tuple[Step, ...] = ()
    note: str = ""

    def part(self, part: Part) -> tuple[Step, ...]:
        steps: tuple[Step, ...] = getattr(self, part)
        return steps

    def steps(self) -> Iterator[tuple[Part, Step]]:
        """All steps in the order they are performed, each with its part."""
        for part in PARTS:
            for step in self.part(part):
                yield part, step

    def active(self) -> "Journey":
        """Without what is switched off: what is rehearsed and run."""
        parts = {
            part: tuple(replace(s, requests=tuple(r for r in s.requests if not r.off)) for s in self.part(part) if not s.off) for part in PARTS
        }  # fmt: skip
        return replace(self, **parts)

    def find_step(self, key: str) -> Step | None:
        return next((step for _, step in self.steps() if step.step == key), None)


def key_from(text: str, taken: Collection[str] = ()) -> str:
    """A key made of `text` ("Find a slot" → "find-a-slot"), numbered when `taken` already."""
    base = re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:60].strip("-") or "item"
    key, number = base, 2
    while key in taken:
        key, number = f"{base}-{number}", number + 1
    return key
