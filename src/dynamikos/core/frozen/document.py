"""Frozen inputs, their canonical JSON and hash, the numbers of series, and the random streams that derive from the
seed.
"""

import hashlib
import random
from collections.abc import Callable
from typing import Any, Literal

import msgspec
import orjson

from dynamikos.core.checks import Check
from dynamikos.core.dealing import Deal
from dynamikos.core.forms import Stored
from dynamikos.core.journeys import Journey, Sending
from dynamikos.core.journeys.model import as_read, as_written
from dynamikos.core.journeys.text import JOURNEY
from dynamikos.core.plans import AgreedTarget, Plan, Way

FORM = 1
ENGINE = "0.1"
Level = Literal["round", "step", "request", "embedded", "token", "item", "repeat"]


class DataPile(msgspec.Struct, frozen=True, kw_only=True):
    """A data set as this run saw it: its columns, how many rows, the hashes of its blocks, and how it is dealt."""

    key: str
    columns: tuple[str, ...]
    secret: tuple[str, ...] = ()
    rows: int = 0
    blocks: tuple[str, ...] = ()
    deal: Deal = Deal()
    first_row: int = 0  # where what is given of it begins (a rehearsal has one row)


class FrozenRun(msgspec.Struct, frozen=True, kw_only=True):
    """What a run is made of. `values` are the environment's, by name in a journey; secrets are named, with fingerprints
    (keyed HMACs, so that two runs can be compared), never held. `functions` are the sources of the project's modules by
    name.
    """

    form: int = FORM
    engine: str = ENGINE
    run: str
    seed: int
    plan: Plan
    journey: Journey
    values: dict[str, str] = {}
    secret_names: tuple[str, ...] = ()
    fingerprints: dict[str, str] = {}
    way: Way = Way()
    functions: dict[str, str] = {}
    functions_agreed: bool = False
    agreed: tuple[AgreedTarget, ...] = ()
    data: tuple[DataPile, ...] = ()
    cap_per_s: float = 0.0  # requests/s that the installation allows this run; 0: no cap


def _with_journey(change: Callable[[Any], Any]) -> Callable[[Any], Any]:
    def changed(plain: Any) -> Any:
        if not isinstance(plain, dict) or "journey" not in plain:
            return plain
        return {**plain, "journey": change(plain["journey"])}

    return changed


FROZEN = Stored("frozen run", FrozenRun, as_read=_with_journey(as_read), as_written=_with_journey(as_written))


class Series(msgspec.Struct, frozen=True, kw_only=True):
    """What figures are kept for. `no` is the same on every shard; step and request are keys."""

    no: int
    level: Level
    step: str = ""
    request: str = ""
    name: str = ""


def series_of(journey: Journey) -> tuple[Series, ...]:
    """All series of a journey: the round, then each step with its requests and its embedded resources, and the fetching
    of tokens.
    """
    made = [Series(no=0, level="round", name="Round")]
    for _, step in journey.steps():
        if not step.measured:
            continue
        made.append(Series(no=len(made), level="repeat" if step.nests else "step", step=step.step, name=step.name))
        for request in step.requests:
            made.append(
                Series(
                    no=len(made),
                    level="request",
                    step=step.step,
                    request=request.request,
                    name=f"{request.method} {request.address}",
                )
            )
        if any(request.embedded for request in step.requests):
            made.append(Series(no=len(made), level="embedded", step=step.step, name=f"{step.name}: embedded resources"))
    proofs = [
        journey.authorization,
        *(request.authorization for _, step in journey.steps() for request in step.requests),
    ]
    if any(each is not None and each.client is not None for each in proofs):
        made.append(Series(no=len(made), level="token", name="Tokens of clients"))
    if any(not isinstance(step, Sending) for _, step in journey.steps()):
        made.append(Series(no=len(made), level="item", name="Values and logic"))
    return tuple(made)


class CheckPlace(msgspec.Struct, frozen=True, kw_only=True):
    """A check by its number `no` in the journey; `first` is that of its request's first check."""

    no: int
    first: int
    step: str
    request: str
    check: Check


def checks_of(journey: Journey) -> tuple[CheckPlace, ...]:
    """All checks of a journey, numbered alike on all shards."""
    made: list[CheckPlace] = []
    for _, step in journey.steps():
        for request in step.requests:
            first = len(made)
            made.extend(
                CheckPlace(no=first + at, first=first, step=step.step, request=request.request, check=check)
                for at, check in enumerate(request.checks)
            )
    return tuple(made)


def canonical(value: Any) -> bytes:
    """`value` (a msgspec type or plain) as canonical JSON: sorted keys, no spaces, UTF-8; what is stored as its kind of
    document is written.
    """
    plain = msgspec.to_builtins(value)
    if isinstance(value, Journey):
        plain = JOURNEY.as_written(plain)
    elif isinstance(value, FrozenRun):
        plain = FROZEN.as_written(plain)
    return orjson.dumps(plain, option=orjson.OPT_SORT_KEYS)


def digest(data: bytes) -> str:
    """sha256 as 64 hexadecimal digits."""
    return hashlib.sha256(data).hexdigest()


def stream(seed: int, purpose: str, key: str, number: int) -> random.Random:
    """A random stream that depends on these four alone, never on the order of calls."""
    material = hashlib.sha256(f"{seed}\0{purpose}\0{key}\0{number}".encode()).digest()
    return random.Random(int.from_bytes(material, "big"))
