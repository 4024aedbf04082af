"""A persona as it is stored and written."""

from collections.abc import Iterator
from typing import Annotated, Any, Literal

import msgspec

from dynamikos.core.forms import VersionedCodec
from dynamikos.core.journeys.headers import header_problem
from dynamikos.core.journeys.request import Key
from dynamikos.core.personas.kinds import CLIENTS, LINES
from dynamikos.core.text import Frozen, parse, schema, write

Spread = Annotated[float, msgspec.Meta(ge=0, le=3)]  # of a log-normal distribution: its sigma


class Pace(Frozen, frozen=True, kw_only=True):
    """Think times × `factor`; each user has a factor of its own, drawn log-normal around it with
    `spread`.
    """

    factor: Annotated[float, msgspec.Meta(ge=0, le=100)] = 1.0
    spread: Spread = 0.0


class Patience(Frozen, frozen=True, kw_only=True):
    """How long a user waits for a step: `seconds`, or drawn for each user log-normal around them
    with `spread`. Then it leaves, or reloads the step up to `reloads` times and leaves after that.
    """

    seconds: Annotated[float, msgspec.Meta(gt=0, le=86_400)]
    spread: Spread = 0.0
    then: Literal["leave", "reload"] = "leave"
    reloads: Annotated[int, msgspec.Meta(ge=1, le=100)] = 1


class Line(Frozen, frozen=True, kw_only=True):
    """What lies between a user and the network: one of LINES by `line`, and figures of its own that
    go before those. `latency_ms` is there and back, `jitter_ms` at most so much more or less of it
    for each answer.
    """

    line: str = ""
    down_kbit_s: Annotated[float, msgspec.Meta(gt=0, le=100_000_000)] | None = None
    up_kbit_s: Annotated[float, msgspec.Meta(gt=0, le=100_000_000)] | None = None
    latency_ms: Annotated[float, msgspec.Meta(ge=0, le=60_000)] | None = None
    jitter_ms: Annotated[float, msgspec.Meta(ge=0, le=60_000)] | None = None


class Visit(Frozen, frozen=True, kw_only=True):
    """`first`: with an empty cache and no cookies, a new user after each round. `return`: with what
    was fetched `away_s` ago in its cache, and `cookies` that lasted.
    """

    visit: Literal["first", "return"]
    away_s: Annotated[float, msgspec.Meta(ge=0, le=31_536_000)] = 86_400.0
    cookies: tuple[tuple[str, str], ...] = ()


class Persona(Frozen, frozen=True, kw_only=True):
    """Without a `visit` a user has no cache: it asks for everything, each time. `client` is one of
    CLIENTS; `headers` go before its own, and both before the journey's common ones. `connections`
    is how many a page's resources are fetched over, from each origin.
    """

    form: Literal[1]
    persona: Key
    name: str = ""
    client: str = ""
    headers: tuple[tuple[str, str], ...] = ()
    connections: Annotated[int, msgspec.Meta(ge=1, le=64)] = 6
    pace: Pace = Pace()
    patience: Patience | None = None
    line: Line | None = None
    visit: Visit | None = None
    note: str = ""


PERSONA = VersionedCodec("persona", Persona)


def parse_persona(text: str, *, file: str = "") -> Persona:
    """The persona in `text`. Raises TextError with line and column."""
    return parse(text, PERSONA, noted=frozenset({"persona"}), file=file)


def write_persona(persona: Persona) -> str:
    return write(msgspec.to_builtins(persona))


def persona_schema() -> dict[str, Any]:
    """The published JSON Schema of the text form."""
    return schema(Persona, "Dynamikos persona, form 1")


def persona_problems(persona: Persona) -> Iterator[str]:
    """What stands in its way, a sentence each."""
    if persona.client and persona.client not in CLIENTS:
        yield f"'{persona.client}' is no client; choose {', '.join(CLIENTS)}, or write headers."
    for name, value in persona.headers:
        if problem := header_problem(name, value):
            yield f"Header: {problem}."
    line = persona.line
    if line is not None and line.line and line.line not in LINES:
        yield f"'{line.line}' is no line; choose {', '.join(LINES)}, or write figures."
    if line is not None and not line.line and (line.down_kbit_s is None or line.up_kbit_s is None):
        yield "A line of its own needs figures for down and up."


def headers_of(persona: Persona) -> tuple[tuple[str, str], ...]:
    """Its own headers, and those of its client."""
    given = {name.lower() for name, _ in persona.headers}
    return (
        *persona.headers,
        *(each for each in CLIENTS.get(persona.client, ()) if each[0].lower() not in given),
    )


def line_of(persona: Persona) -> tuple[float, float, float, float] | None:
    """(bytes/s down, bytes/s up, seconds there and back, seconds of jitter); None for a user who is
    not held back.
    """
    line = persona.line
    if line is None:
        return None
    down, up, latency, jitter = LINES.get(line.line, (1e8, 1e8, 0.0, 0.0))
    down = line.down_kbit_s if line.down_kbit_s is not None else down
    up = line.up_kbit_s if line.up_kbit_s is not None else up
    latency = line.latency_ms if line.latency_ms is not None else latency
    jitter = line.jitter_ms if line.jitter_ms is not None else jitter
    return down * 125, up * 125, latency / 1000, jitter / 1000


def describe(persona: Persona) -> list[str]:
    """What it is like, a phrase each."""
    said = []
    if persona.pace.factor != 1 or persona.pace.spread:
        said.append(
            f"thinks {persona.pace.factor:g} × as long"
            + (", each its own way" if persona.pace.spread else "")
        )
    if persona.patience is not None:
        times = "once" if persona.patience.reloads == 1 else f"{persona.patience.reloads} times"
        then = (
            "leaves" if persona.patience.then == "leave" else f"reloads it {times} before it leaves"
        )
        about = "about " if persona.patience.spread else ""
        said.append(f"waits {about}{persona.patience.seconds:g} s for a step and then {then}")
    if persona.client or persona.headers:
        said.append(f"client {persona.client or 'of its own'}")
    figures = line_of(persona)
    if figures is not None:
        named = persona.line.line if persona.line is not None else ""
        rates = (
            f"{figures[0] / 125:,.0f} kbit/s down, {figures[1] / 125:,.0f} up, "
            f"{figures[2] * 1000:g} ms"
        )
        said.append(f"{named or 'a line of its own'}: {rates}")
    if persona.visit is not None:
        away = f"comes back after {persona.visit.away_s:g} s"
        said.append(
            "comes for the first time, each round" if persona.visit.visit == "first" else away
        )
    return said or ["does as the journey says"]
