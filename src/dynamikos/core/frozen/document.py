"""Frozen inputs, their canonical JSON and hash, the numbers of series, and the random streams that
derive from the seed.
"""

import hashlib
import random
from collections.abc import Callable, Iterator, Sequence
from itertools import accumulate
from typing import Annotated, Any, Literal

import msgspec
import orjson

from dynamikos.core.checks import Check
from dynamikos.core.dealing import Deal
from dynamikos.core.forms import VersionedCodec
from dynamikos.core.journeys import Journey, Sending
from dynamikos.core.journeys.model import as_read, as_written
from dynamikos.core.journeys.text import JOURNEY
from dynamikos.core.objectives import Objective
from dynamikos.core.personas import Persona
from dynamikos.core.plans import AgreedTarget, Plan, Way
from dynamikos.core.plans.crowds import Crowd, Places, run_ends_s
from dynamikos.core.plans.model import EVERYBODY, PLAN
from dynamikos.core.profiles import Stretch, measured_part_s

FORM = 2
ENGINE = "0.1"
Level = Literal["round", "step", "request", "embedded", "token", "item", "repeat", "span", "number"]


class DataPile(msgspec.Struct, frozen=True, kw_only=True):
    """A data set as this run saw it: its columns, how many rows, the hashes of its blocks, and how
    it is dealt.
    """

    key: str
    columns: tuple[str, ...]
    secret: tuple[str, ...] = ()
    rows: int = 0
    blocks: tuple[str, ...] = ()
    deal: Deal = Deal()
    first_row: int = 0  # where what is given of it begins (a rehearsal has one row)


class FrozenRun(msgspec.Struct, frozen=True, kw_only=True):
    """What a run is made of. `journeys` and `personas` are by key, which is what the rows of
    `crowds` name; `weights` say by row in which proportion users are given to it, where that is not
    its share. `measured` is from second to second of the run.

    `values` are the environment's, by name in a journey; secrets are named, with fingerprints
    (keyed HMACs, so that two runs can be compared), never held. `functions` are the sources of the
    project's modules by name.
    """

    form: int = FORM
    engine: str = ENGINE
    run: str
    seed: int
    plan: Plan
    journeys: dict[str, Journey]
    crowds: Annotated[tuple[Crowd, ...], msgspec.Meta(min_length=1)]
    measured: tuple[float, float]
    weights: dict[str, float] = {}
    personas: dict[str, Persona] = {}
    values: dict[str, str] = {}
    secret_names: tuple[str, ...] = ()
    fingerprints: dict[str, str] = {}
    way: Way = Way()
    functions: dict[str, str] = {}
    functions_agreed: bool = False
    agreed: tuple[AgreedTarget, ...] = ()
    data: tuple[DataPile, ...] = ()
    cap_per_s: float = 0.0  # requests/s that the installation allows this run; 0: no cap
    trial: bool = False  # everything is kept, and objectives are shown, not judged

    def __post_init__(self) -> None:
        missing = {row.journey for crowd in self.crowds for row in crowd.rows} - set(self.journeys)
        if missing:
            raise ValueError(
                f"its rows name journeys that it has not: {', '.join(sorted(missing))}"
            )
        unknown = {row.persona for crowd in self.crowds for row in crowd.rows if row.persona} - set(
            self.personas
        )
        if unknown:
            raise ValueError(
                f"its rows name personas that it has not: {', '.join(sorted(unknown))}"
            )

    @property
    def journey(self) -> Journey:
        """The first of its journeys, which is the only one of a rehearsal."""
        return next(iter(self.journeys.values()))

    @property
    def places(self) -> Places:
        """Its rows in order, numbered."""
        return Places.of(self.crowds)

    @property
    def ends_s(self) -> float:
        """When its last profile ends, in seconds of the run."""
        return run_ends_s(self.crowds)

    def planned(self, seconds: Sequence[float]) -> list[int]:
        """Users that are planned to be there at each of `seconds`, in order; those that arrive are
        not planned.
        """
        return [
            sum(each)
            for each in zip(*(crowd.planned(seconds) for crowd in self.crowds), strict=True)
        ]

    def planned_at(self, second: float) -> int:
        """As `planned`, at one instant."""
        return self.planned([second])[0]

    @property
    def planned_peak(self) -> int:
        """The most users planned at once; 0 where they all arrive."""
        if len(self.crowds) == 1 and not self.crowds[0].load.is_open:
            return self.crowds[0].seats
        spans = [(start, end) for crowd in self.crowds for _, start, end in crowd.users()]
        edges = sorted([*((start, 1) for start, _ in spans), *((end, -1) for _, end in spans)])
        return max(accumulate(change for _, change in edges), default=0)


def _with_journeys(change: Callable[[Any], Any]) -> Callable[[Any], Any]:
    def changed(plain: Any) -> Any:
        if not isinstance(plain, dict) or not isinstance(plain.get("journeys"), dict):
            return plain
        return {**plain, "journeys": {key: change(each) for key, each in plain["journeys"].items()}}

    return changed


def _with_crowds(plain: dict[str, Any]) -> dict[str, Any]:
    """Form 1 had one journey, and its plan one profile."""
    journey, plan = plain.pop("journey", None), plain.get("plan")
    if not isinstance(journey, dict) or not isinstance(plan, dict):
        return plain
    key, profile = journey.get("journey", ""), plan.get("profile", [])
    row = {"row": EVERYBODY, "journey": key}
    stretches = msgspec.convert(profile, tuple[Stretch, ...])
    return {
        **plain,
        "plan": PLAN.upgraded(plan),
        "journeys": {key: journey},
        "crowds": [{"crowd": EVERYBODY, "profile": profile, "rows": [row]}],
        "measured": list(measured_part_s(stretches)),
    }


FROZEN = VersionedCodec(
    "frozen run",
    FrozenRun,
    [_with_crowds],
    as_read=_with_journeys(as_read),
    as_written=_with_journeys(as_written),
)


class Series(msgspec.Struct, frozen=True, kw_only=True):
    """What figures are kept for. `no` is the same on every shard; row, journey, step and request
    are keys. A span is from the start of `step` to the end of the step `request`; of a number,
    `request` is its name.
    """

    no: int
    level: Level
    row: str = EVERYBODY
    journey: str = ""
    step: str = ""
    request: str = ""
    name: str = ""


def series_of(
    journey: Journey, row: str = EVERYBODY, first: int = 0, objectives: Sequence[Objective] = ()
) -> tuple[Series, ...]:
    """All series of a journey in a row: the round, then each step with its requests and its
    embedded resources, the fetching of tokens, and the spans and numbers that `objectives` are
    about; numbered from `first`.
    """
    plain = (*_performed(journey), *_asked_for(journey, row, objectives))
    return tuple(
        Series(
            no=no,
            level=level,
            row=row,
            journey=journey.journey,
            step=step,
            request=request,
            name=name,
        )
        for no, (level, name, step, request) in enumerate(plain, first)
    )


Plain = tuple[Level, str, str, str]  # level, name, step, request


def _performed(journey: Journey) -> Iterator[Plain]:
    """What every run of a journey has figures of."""
    yield "round", "Round", "", ""
    steps = [step for _, step in journey.steps()]
    for step in steps:
        if not step.measured:
            continue
        yield "repeat" if step.nests else "step", step.name, step.step, ""
        for request in step.requests:
            yield "request", f"{request.method} {request.address}", step.step, request.request
        if any(request.embedded for request in step.requests):
            yield "embedded", f"{step.name}: embedded resources", step.step, ""
    proofs = [request.authorization for step in steps for request in step.requests]
    if any(
        each is not None and each.client is not None for each in (journey.authorization, *proofs)
    ):
        yield "token", "Tokens of clients", "", ""
    if any(not isinstance(step, Sending) for step in steps):
        yield "item", "Values and logic", "", ""


def _asked_for(journey: Journey, row: str, objectives: Sequence[Objective]) -> Iterator[Plain]:
    """Spans and numbers, each once."""
    names = {step.step: step.name for _, step in journey.steps()}
    wanted = dict.fromkeys(
        (each.level, each.step or "", each.until or each.number or "")
        for each in objectives
        if each.level in ("span", "number") and _is_about(each, journey, row)
    )
    for level, step, end in wanted:
        if level == "span":
            yield "span", f"{names[step]} to {names[end]}", step, end
        else:
            yield "number", end, "", end


def _is_about(objective: Objective, journey: Journey, row: str) -> bool:
    """Whether a span or number of an objective is there in a journey of a row."""
    if objective.row not in (None, row) or objective.journey not in (None, journey.journey):
        return False
    if objective.number is not None:
        return objective.number in journey.captured
    keys = {step.step for _, step in journey.steps()}
    return objective.step in keys and objective.until in keys


class CheckPlace(msgspec.Struct, frozen=True, kw_only=True):
    """A check by its number `no` in the run; `first` is that of its request's first check."""

    no: int
    first: int
    row: str = EVERYBODY
    journey: str = ""
    step: str
    request: str
    check: Check


def checks_of(journey: Journey, row: str = EVERYBODY, begin: int = 0) -> tuple[CheckPlace, ...]:
    """All checks of a journey in a row, numbered from `begin`, alike on all shards."""
    made: list[CheckPlace] = []
    for _, step in journey.steps():
        for request in step.requests:
            first = begin + len(made)
            made.extend(
                CheckPlace(
                    no=first + at,
                    first=first,
                    row=row,
                    journey=journey.journey,
                    step=step.step,
                    request=request.request,
                    check=check,
                )
                for at, check in enumerate(request.checks)
            )
    return tuple(made)


_known: dict[int, tuple[FrozenRun, tuple[Series, ...]]] = {}  # of the runs that were looked at last
KNOWN = 16


def every_series(frozen: FrozenRun) -> tuple[Series, ...]:
    """Those of all rows, one after the other; of a run that was looked at a moment ago they are not
    made again.
    """
    there = _known.get(id(frozen))
    if there is not None and there[0] is frozen:
        return there[1]
    found = _every_series(frozen)
    if len(_known) >= KNOWN:
        _known.clear()
    _known[id(frozen)] = frozen, found
    return found


def _every_series(frozen: FrozenRun) -> tuple[Series, ...]:
    made: list[Series] = []
    for row in frozen.places.rows:
        made.extend(
            series_of(frozen.journeys[row.journey], row.row, len(made), frozen.plan.objectives)
        )
    return tuple(made)


def every_check(frozen: FrozenRun) -> tuple[CheckPlace, ...]:
    """Those of all rows, one after the other."""
    made: list[CheckPlace] = []
    for row in frozen.places.rows:
        made.extend(checks_of(frozen.journeys[row.journey], row.row, len(made)))
    return tuple(made)


def canonical(value: Any) -> bytes:
    """`value` (a msgspec type or plain) as canonical JSON: sorted keys, no spaces, UTF-8; what is
    stored as its kind of document is written.
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
