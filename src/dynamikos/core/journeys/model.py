"""The journey model. Every thing with a `key` keeps it through renaming; results refer to keys."""

import math
import re
from collections.abc import Callable, Collection, Iterator
from typing import Annotated, Literal

import msgspec
from msgspec.structs import replace

from dynamikos.core.captures import Capture
from dynamikos.core.checks import Check
from dynamikos.core.journeys.items import NESTING, Call, Each, Keep, Kind, Pair, Repeat
from dynamikos.core.text import Frozen

Key = Annotated[
    str, msgspec.Meta(pattern=r"^[a-z0-9][a-z0-9-]{0,79}$", description="a-z, 0-9 and -, unique in its parent")
]
Method = Annotated[
    str, msgspec.Meta(pattern=r"^[!#$%&'*+.^_`|~0-9A-Za-z-]{1,40}$", description="a token (RFC 9110 §9.1)")
]
Part = Literal["opening", "rounds", "closing", "cleanup"]
PLAYED: tuple[Part, ...] = ("opening", "rounds", "closing")
PARTS: tuple[Part, ...] = (*PLAYED, "cleanup")


class FormPart(Frozen, frozen=True, kw_only=True):
    """A part of a multipart body (RFC 7578): a field with its `value`, or a file with its name and content, as text or
    base64.
    """

    name: str
    value: str = ""
    file: str = ""
    type: str = ""
    base64: Annotated[str, msgspec.Meta(max_length=3_000_000)] = ""


class Body(Frozen, frozen=True, kw_only=True):
    """What is sent: form fields, parts of a multipart form, a JSON text or a raw text with its content type, or a
    `file` beside the plan, sent piece by piece however large it is. Exactly one is given.
    """

    form: tuple[Pair, ...] | None = None
    parts: tuple[FormPart, ...] | None = None
    json: str | None = None
    raw: str | None = None
    type: str = ""
    file: str = ""


class Login(Frozen, frozen=True, kw_only=True):
    """Who asks, for Basic (RFC 7617) and Digest (RFC 7616)."""

    user: str
    password: str


class Client(Frozen, frozen=True, kw_only=True):
    """A client that gets its own token (RFC 6749 §4.4) from `address`; `form` sends id and secret as fields instead of
    in a header.
    """

    address: str
    id: str
    secret: str
    scope: str = ""
    form: bool = False


class Authorization(Frozen, frozen=True, kw_only=True):
    """How a request proves who sends it: one of the four, or `none` where the journey's own is not wanted."""

    basic: Login | None = None
    digest: Login | None = None
    bearer: str | None = None
    client: Client | None = None
    none: bool = False

    @property
    def kind(self) -> str:
        """The one that is given; "" when there is none, "several" when there are more."""
        given = [name for name in ("basic", "digest", "bearer", "client") if getattr(self, name) is not None] + [
            "none"
        ] * self.none
        return given[0] if len(given) == 1 else "several" if given else ""

    def texts(self) -> Iterator[tuple[str, str]]:
        """(what it is, text) for each text that may have holes."""
        for login in (self.basic, self.digest):
            if login is not None:
                yield from (("user", login.user), ("password", login.password))
        if self.bearer is not None:
            yield "token", self.bearer
        if self.client is not None:
            yield from ((name, getattr(self.client, name)) for name in ("address", "id", "secret", "scope"))


class Request(Frozen, frozen=True, kw_only=True):
    """One request. `address` and all values may have `{{ name }}` holes; `recorded` is its number in the recording;
    `off` leaves it out.
    """

    request: Key
    method: Method = "GET"
    address: str
    query: tuple[Pair, ...] = ()
    headers: tuple[Pair, ...] = ()
    body: Body | None = None
    authorization: Authorization | None = None
    embedded: tuple[str, ...] = ()
    captures: tuple[Capture, ...] = ()
    checks: tuple[Check, ...] = ()
    recorded: int | None = None
    off: bool = False
    note: str = ""


class Step(Frozen, frozen=True, kw_only=True):
    """One thing a person does, as they would name it; after it they think for `think_s` seconds.

    `think: even` draws evenly from `think_s` to `think_to_s`; `log-normal` has its median at `think_s` and its p95 at
    `think_to_s`.
    `recorded_think_s` is what the recording had. `off` leaves the step out. `use` names a shared step whose requests it
    performs; `recorded` then says which of them is which exchange of this journey's recording. `at_once` sends its
    requests in parallel.

    Besides requests a step can do one other thing: `set` values, `pause` (seconds), `log` a text, `call` a function,
    `keep` a row; or hold further `steps`, which it performs by `repeat` or for `each` of a list, or in `branches`: the
    first whose `when` holds, or with `choose` one by weight.
    """

    step: Key
    name: str
    think_s: Annotated[float, msgspec.Meta(ge=0, le=86_400)] = 0.0
    think: Literal["fixed", "even", "log-normal"] = "fixed"
    think_to_s: Annotated[float, msgspec.Meta(ge=0, le=86_400)] = 0.0
    recorded_think_s: Annotated[float, msgspec.Meta(ge=0, le=86_400)] | None = None
    use: str = ""
    recorded: tuple[tuple[str, int], ...] = ()
    requests: tuple[Request, ...] = ()
    at_once: bool = False
    set: tuple[Pair, ...] = ()
    pause: str = ""
    log: str = ""
    call: Call | None = None
    keep: Keep | None = None
    repeat: Repeat | None = None
    each: Each | None = None
    choose: Literal["at random", "evenly"] | None = None
    branches: tuple["Branch", ...] = ()
    steps: tuple["Step", ...] = ()
    off: bool = False
    note: str = ""

    @property
    def kind(self) -> Kind:
        """What it does; "step" is sending requests."""
        if self.branches or self.choose is not None:
            return "choose" if self.choose is not None else "if"
        given: tuple[Kind, ...] = ("repeat", "each", "call", "keep", "set", "pause", "log")
        return next((kind for kind in given if getattr(self, kind)), "step")

    @property
    def nests(self) -> bool:
        return self.kind in NESTING

    @property
    def measured(self) -> bool:
        """Whether its time is a figure of its own: of requests, and of repeating."""
        return self.kind in ("step", "repeat")

    def slots(self) -> list[tuple["Step", ...]]:
        """Its lists of steps: of each branch, or its own."""
        return [branch.steps for branch in self.branches] if self.branches else [self.steps]

    def with_slot(self, slot: int, steps: tuple["Step", ...]) -> "Step":
        """With one of its lists replaced."""
        if not self.branches:
            return replace(self, steps=steps)
        branches = tuple(replace(each, steps=steps) if at == slot else each for at, each in enumerate(self.branches))
        return replace(self, branches=branches)

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


class Branch(Frozen, frozen=True, kw_only=True):
    """One way to go on: by its `weight` among the others, or when its condition `when` holds
    (without one: otherwise).
    """

    name: str = ""
    weight: Annotated[float, msgspec.Meta(ge=0, le=1_000_000)] = 1.0
    when: str = ""
    steps: tuple[Step, ...] = ()
    note: str = ""


def walk(steps: tuple[Step, ...]) -> Iterator[Step]:
    """All steps, those inside others right after them."""
    for step in steps:
        yield step
        for inner in step.slots():
            yield from walk(inner)


def mapped(steps: tuple[Step, ...], change: Callable[[Step], Step | None]) -> tuple[Step, ...]:
    """With `change` applied to every step, inner ones first; None leaves a step out."""
    made = []
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

    `headers` and `authorization` are common to all requests that don't say otherwise. `cleanup` undoes what a rehearsal
    left behind; a run never performs it.
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
        """All steps in the order they stand, each with its part; those inside others right after them."""
        for part in PARTS:
            for step in walk(self.part(part)):
                yield part, step

    def mapped(self, change: Callable[[Step], Step | None]) -> "Journey":
        """With `change` applied to every step of every part; None leaves a step out."""
        return replace(self, **{part: mapped(self.part(part), change) for part in PARTS})

    def active(self, *, cleanup: bool = False) -> "Journey":
        """Without what is switched off, and without the clean-up unless asked for: what is rehearsed and run."""
        made = self.mapped(
            lambda step: None if step.off else replace(step, requests=tuple(r for r in step.requests if not r.off))
        )
        return made if cleanup else replace(made, cleanup=())

    def body_files(self) -> list[str]:
        """The names of the files that bodies are read from, as they are written."""
        return [r.body.file for _, step in self.steps() for r in step.requests if r.body is not None and r.body.file]

    def with_body_files(self, place: Callable[[str], str]) -> "Journey":
        """With the name of every body's file replaced by what `place` makes of it."""

        def placed(request: Request) -> Request:
            body = request.body
            return (
                replace(request, body=replace(body, file=place(body.file)))
                if body is not None and body.file
                else request
            )

        return self.mapped(lambda step: replace(step, requests=tuple(map(placed, step.requests))))

    def find_step(self, key: str) -> Step | None:
        return next((step for _, step in self.steps() if step.step == key), None)


def key_from(text: str, taken: Collection[str] = ()) -> str:
    """A key made of `text` ("Find a slot" → "find-a-slot"), numbered when `taken` already."""
    base = re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:60].strip("-") or "item"
    key, number = base, 2
    while key in taken:
        key, number = f"{base}-{number}", number + 1
    return key
