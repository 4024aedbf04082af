"""What is looked at before a start: how each thing stands, and how it is mended. Pure: others find
the facts.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal
from urllib.parse import urljoin, urlsplit

from dynamikos.core.errors import TemplateError
from dynamikos.core.figures import short
from dynamikos.core.journeys import Journey, Request
from dynamikos.core.journeys.from_recording import NOT_AS_RECORDED
from dynamikos.core.journeys.kinds import Sending
from dynamikos.core.objectives import Objective
from dynamikos.core.plans.environment import AgreedTarget, parse_target
from dynamikos.core.plans.follows import Follows, expected
from dynamikos.core.plans.lengths import too_short
from dynamikos.core.plans.mending import Mend
from dynamikos.core.plans.model import Plan
from dynamikos.core.plans.saying import levels_say
from dynamikos.core.ports import port_of
from dynamikos.core.values import bind

Level = Literal["fine", "warning", "blocker"]
SOON_DAYS = 14  # a certificate that ends sooner is worth a word
PORT_S, PORT_SHARE = (
    60.0,
    0.8,
)  # a closed connection keeps its source port for so long; so much of them is too much
SPARE_BYTES = 1_000_000_000


@dataclass(frozen=True, slots=True)
class Finding:
    """`what` was looked at and how it stands. `mend` says what to do about it, and `place` where:
    "plan", "settings", "generators", "journey:KEY", "data:KEY" or "run:NUMBER".
    """

    what: str
    level: Level
    said: str
    mend: str = ""
    place: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Knocked:
    """What came of knocking at a target once: how long connecting took, or why it did not; days
    until its certificate ends, where it has one.
    """

    origin: str
    connected_ms: float | None = None
    problem: str = ""
    certificate_days: float | None = None
    verified: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Machine:
    """A free generator: files it may have open, and source ports there are."""

    name: str
    descriptors: int
    ports: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Answered:
    """What a generator that was asked to knock says of the targets, and of itself."""

    knocked: list[Knocked]
    machine: Machine


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """`problems` are all that keep a run from being made. `unrehearsed` says by journey why nothing
    shows yet that it holds; `data` by data set what becomes of its rows, and whether that ends
    users or the run early. `others` are (number, sentence) of what runs on the same targets.
    `capped` are targets that have a limit of exchanges/s, `values` the environment's, as they are
    named in a journey.
    """

    plan: Plan
    journeys: Mapping[str, Journey]
    follows: Follows | None
    problems: Sequence[str] = ()
    unrehearsed: Mapping[str, str] = field(default_factory=dict)
    data: Sequence[tuple[str, str, bool]] = ()
    knocked: Sequence[Knocked] | None = None  # None: there was nobody to knock, or no answer came
    living: int = 0
    free: int = 0
    busy_with: str = ""
    machine: Machine | None = None
    users_per_generator: int | None = (
        None  # measured; `carried_by` says by what, and whether it may be more
    )
    carried_by: str = ""
    may_be_more: bool = False
    others: Sequence[tuple[int, str]] = ()
    capped: Sequence[AgreedTarget] = ()
    values: Mapping[str, str] = field(default_factory=dict)
    agreed: Sequence[AgreedTarget] = ()
    disk_free_bytes: int | None = None
    report_bytes: int = 0


def _origin(address: str, page: str, values: Mapping[str, str]) -> str:
    """Scheme, host and port of an address in a page; "" where they are not known before the run."""
    try:
        parts = urlsplit(urljoin(page, bind(address, dict(values))))
        port = port_of(parts)
    except (ValueError, TemplateError):
        return ""
    host = parts.hostname or ""
    if parts.scheme not in ("http", "https") or not host or "{" in host:
        return ""
    return f"{parts.scheme}://{f'[{host}]' if ':' in host else host}:{port}"


def _origins(request: Request, values: Mapping[str, str]) -> Iterator[str]:
    """Of a request and of each resource that its page embeds."""
    page = _origin(request.address, "", values)
    yield page
    yield from (_origin(each, page, values) for each in request.embedded)


def origins_of(journeys: Mapping[str, Journey], values: Mapping[str, str]) -> list[str]:
    """Scheme, host and port of every address that is known before the run, in order."""
    requests = (request for journey in journeys.values() for _, request in journey.requests())
    return [
        each
        for each in dict.fromkeys(one for request in requests for one in _origins(request, values))
        if each
    ]


def probed_by(plan: Plan, values: Mapping[str, str]) -> list[str]:
    """Scheme, host and port of what probes read."""
    found = (_origin(address, "", values) for each in plan.probes for address in each.addresses)
    return [each for each in found if each]


def _sent_per_s(facts: Facts, target: AgreedTarget) -> float:
    """Exchanges/s that come to a target when most users are there; those of which it is not known
    yet count as well.
    """
    assert facts.follows is not None
    made = 0.0
    for row in facts.follows.rows:
        journey = facts.journeys.get(row.journey)
        for step, share in expected(journey.active().rounds) if journey is not None else ():
            origins = [one for request in step.requests for one in _origins(request, facts.values)]
            theirs = sum(not one or _covers(target, one) for one in origins)
            made += row.rounds_per_h / 3600 * share * theirs
    return made


def _covers(target: AgreedTarget, origin: str) -> bool:
    found = parse_target(origin)
    return target.covers(found.scheme, found.host, found.port)


def preflight(facts: Facts) -> list[Finding]:
    """Everything that is looked at, what stands in the way first."""
    found = [
        *_made(facts),
        *_shares(facts.plan),
        *_rehearsed(facts),
        *_checks(facts),
        *_as_recorded(facts),
        *_data(facts),
        *_targets(facts),
        *_probes(facts),
        *_levels(facts),
        *_lengths(facts),
        *_generators(facts),
        *_objectives(facts),
        *_caps(facts),
        *_others(facts),
        *_disk(facts),
    ]
    order = ("blocker", "warning", "fine")
    return sorted(found, key=lambda each: order.index(each.level))


def _made(facts: Facts) -> Iterator[Finding]:
    for each in facts.problems:
        place = "settings" if "agreed" in each or "secrets." in each or "env." in each else "plan"
        yield Finding("Plan, names and secrets", "blocker", each, "Mend it", place)
    if not facts.problems:
        yield Finding(
            "Plan, names and secrets",
            "fine",
            "Every name, secret, step and row that is named is there.",
        )


def _shares(plan: Plan) -> Iterator[Finding]:
    said = [each for _, each in share_doubts(plan)]
    for each in said:
        yield Finding("Shares", "warning", each, "Change the rows", "plan")
    if not said:
        yield Finding("Shares", "fine", "The rows of each crowd make up all of it.")


def share_doubts(plan: Plan) -> Iterator[tuple[Mend, str]]:
    """What is odd about the rows of crowds, as it is said while they are typed, and by which word
    it is mended.
    """
    for crowd in plan.everybody():
        named = f"{crowd.name or crowd.crowd}: " if len(plan.crowds) > 1 else ""
        total = sum(row.share for row in crowd.rows)
        if len(crowd.rows) > 1 and abs(total - 100) > 0.005:
            yield (
                "sum",
                f"{named}the shares come to {total:g}, not 100; they are taken in proportion.",
            )
        for row in crowd.rows:
            if not row.share:
                yield (
                    "zero",
                    f"{named}the row {row.name or row.row} has a share of 0, so nobody of it "
                    "comes.",
                )
        kinds = [(row.journey, row.persona) for row in crowd.rows]
        twice = [
            row for row in crowd.rows if row.share and kinds.count((row.journey, row.persona)) > 1
        ]
        if twice:
            rows = " and ".join(row.name or row.row for row in twice)
            yield (
                "twice",
                f"{named}{rows} are the same journey and persona: is that one kind of visitor, "
                "twice?",
            )


def _rehearsed(facts: Facts) -> Iterator[Finding]:
    for key, why in facts.unrehearsed.items():
        name = facts.journeys[key].name if key in facts.journeys else key
        mend = "Rehearse two rounds"
        yield Finding(
            "Rehearsed since the last change", "warning", f"{name}: {why}", mend, f"journey:{key}"
        )
    if not facts.unrehearsed:
        said = "Every journey has passed in two rounds since it was last changed."
        yield Finding("Rehearsed since the last change", "fine", said)


def _checks(facts: Facts) -> Iterator[Finding]:
    fine = True
    for key, journey in facts.journeys.items():
        said = unchecked(journey)
        if said:
            fine = False
            yield Finding(
                "Checks", "warning", f"{journey.name}: {said}", "Add a check", f"journey:{key}"
            )
    if fine and facts.journeys:
        yield Finding("Checks", "fine", "Every step checks something of its answers.")


def _as_recorded(facts: Facts) -> Iterator[Finding]:
    """What the recordings held and the journeys don't replay, or replay otherwise."""
    for key, journey in facts.journeys.items():
        lines = [line for line in journey.note.splitlines() if line.startswith(NOT_AS_RECORDED)]
        if lines:
            yield Finding(
                "Replayed as recorded",
                "warning",
                f"{journey.name}: {' '.join(lines)}",
                "Look at what the rehearsal says of values that came from there",
                f"journey:{key}",
            )


def bare_steps(journey: Journey) -> list[Sending]:
    """Steps that send and look at nothing of what comes."""
    sending = (
        step for _, step in journey.active().steps() if isinstance(step, Sending) and step.requests
    )
    return [
        step for step in sending if not any(each.checks or each.captures for each in step.requests)
    ]


def unchecked(journey: Journey) -> str:
    """Which of its steps look at nothing, in a sentence; "" where all of them look at something."""
    bare = [step.name for step in bare_steps(journey)]
    if not bare:
        return ""
    named = ", ".join(bare[:3]) + (f" and {len(bare) - 3} more" if len(bare) > 3 else "")
    return f"nothing is checked in {named}; an error page with status 200 would pass."


def _data(facts: Facts) -> Iterator[Finding]:
    for name, said, early in facts.data:
        level: Level = "warning" if early else "fine"
        yield Finding(
            "Rows of data",
            level,
            f"{name}: {said}",
            "Add rows, or deal them otherwise",
            f"data:{name}",
        )


def _targets(facts: Facts) -> Iterator[Finding]:
    if facts.knocked is None:
        said = "Nobody knocked at the targets: no generator is free, or it did not answer in time."
        yield Finding(
            "Targets answer", "warning", said, "Start a generator, or look again", "generators"
        )
        return
    for each in facts.knocked:
        if each.problem:
            yield Finding(
                "Targets answer",
                "blocker",
                f"{each.origin}: {each.problem}",
                "Look at its address",
                "settings",
            )
            continue
        said = f"{each.origin} was connected to in {each.connected_ms or 0:.3g} ms."
        days = each.certificate_days
        if days is not None and days < SOON_DAYS:
            level: Level = "warning"
            when = "has ended" if days < 0 else f"ends in {days:.0f} days"
            yield Finding(
                "Certificates",
                level,
                f"{each.origin}: its certificate {when}.",
                "Renew it",
                "settings",
            )
        elif days is not None:
            said += f" Its certificate is good for {days:.0f} days more"
            said += "." if each.verified else ", and was not verified."
        yield Finding("Targets answer", "fine", said)


def _probes(facts: Facts) -> Iterator[Finding]:
    for each in facts.plan.probes:
        if not each.openmetrics:
            continue
        origin = _origin(each.openmetrics, "", facts.values)
        if not origin:
            said = f"{each.title}: its address {each.openmetrics} can't be read before the run."
            yield Finding("Probes", "warning", said, "Look at its address", "plan")
        elif facts.agreed and not any(_covers(target, origin) for target in facts.agreed):
            said = f"{each.title} reads {origin}, which is no agreed target: it will tell nothing."
            yield Finding("Probes", "warning", said, "Have an owner agree to it", "settings")
    if not facts.plan.probes:
        said = "The plan has none: what the servers do while it runs will not be known."
        yield Finding("Probes", "fine", said)


def _levels(facts: Facts) -> Iterator[Finding]:
    for said in levels_say(facts.plan.everybody(), facts.follows.round_s if facts.follows else 0.0):
        yield Finding("Levels of load", "fine", said)


def _lengths(facts: Facts) -> Iterator[Finding]:
    """Percentiles that could not be told, and a run that could not be compared."""
    for each in too_short(facts.plan, facts.journeys, facts.follows):
        if each.is_asked_for:
            yield Finding("Measured time", "warning", each.said, "Measure for longer", "plan")
        else:
            yield Finding("Measured time", "fine", each.said)


def _generators(facts: Facts) -> Iterator[Finding]:
    wanted, follows = facts.plan.generators, facts.follows
    what = "Generators"
    if facts.free < wanted:
        said = (
            f"The plan asks for {wanted}; {facts.living} are there and {facts.free} of them free."
        )
        if not facts.living:
            said = "No generator is there to do this."
        elif facts.busy_with and not facts.free:
            said = f"Every generator is busy with {facts.busy_with}."
        yield Finding(
            what,
            "blocker",
            said,
            "Start more with ./dynamikos generator, or ask for fewer",
            "generators",
        )
    else:
        yield Finding(what, "fine", f"{facts.free} free, and the plan asks for {wanted}.")
    if follows is None:
        return
    if facts.users_per_generator is not None:
        carried, expected = facts.users_per_generator, -(-follows.to_carry // wanted)
        about, by = (
            ("at least" if facts.may_be_more else "about"),
            facts.carried_by or "as measured",
        )
        said = (
            f"One carries {about} {carried:,} users of this kind, {by}; each is expected to have "
            f"{expected:,}."
        )
        if expected > carried and facts.may_be_more:
            enough = -(-follows.to_carry // max(1, carried))
            more = f"Whether it carries them is not known; {enough} would do."
            yield Finding(
                "Capacity", "warning", f"{said} {more}", "Ask for more generators", "plan"
            )
        elif expected > carried:
            needed = -(-follows.to_carry // max(1, carried))
            yield Finding(
                "Capacity",
                "warning",
                f"{said} {needed} would be needed.",
                "Ask for more generators",
                "plan",
            )
        else:
            yield Finding("Capacity", "fine", said)
    if facts.machine is None or facts.knocked is None:
        return
    places = max(1, len(facts.knocked))
    each = -(-(follows.ceiling or follows.users) // wanted)
    files = each * places + 64
    if files > facts.machine.descriptors:
        said = (
            f"{each:,} users need {files:,} open files on one generator, which may have "
            f"{facts.machine.descriptors:,}."
        )
        yield Finding(
            "Open files",
            "blocker",
            said,
            "Raise its limit (ulimit -n, LimitNOFILE), or take more",
            "plan",
        )
    else:
        yield Finding(
            "Open files",
            "fine",
            f"{files:,} of {facts.machine.descriptors:,} on each generator at most.",
        )
    yield from _ports(facts, facts.machine, each)


def _ports(facts: Facts, machine: Machine, each: int) -> Iterator[Finding]:
    """Source ports: one for every user that is there at once, or that came and went within a
    minute.
    """
    follows = facts.follows
    assert follows is not None
    new_per_s = (
        sum(row.rounds_per_h for row in follows.rows if row.row in _arriving(facts.plan)) / 3600
    )
    needed = max(each, round(new_per_s / facts.plan.generators * PORT_S))
    said = f"{needed:,} of {machine.ports:,} to one target at most."
    if needed > PORT_SHARE * machine.ports:
        mend = "Take more generators on other machines, or fewer arrivals"
        yield Finding(
            "Source ports", "blocker" if needed > machine.ports else "warning", said, mend, "plan"
        )
    else:
        yield Finding("Source ports", "fine", said)


def _arriving(plan: Plan) -> set[str]:
    return {row.row for crowd in plan.everybody() if crowd.load.is_one_round for row in crowd.rows}


def _objectives(facts: Facts) -> Iterator[Finding]:
    found = False
    for objective in facts.plan.objectives:
        few = _too_few(objective, facts)
        if few is not None:
            found = True
            said = (
                f"{objective.objective}: about {few[0]:.2g} samples come in {objective.every_s} s, "
                "and"
                f" {objective.measure} needs {few[1]} of them."
            )
            yield Finding("Objectives", "warning", said, "Judge it over longer intervals", "plan")
    if not facts.plan.objectives:
        said = "The plan has none, so whatever happens is neither met nor missed."
        yield Finding("Objectives", "warning", said, "Add one", "plan")
    elif not found:
        yield Finding(
            "Objectives",
            "fine",
            f"{len(facts.plan.objectives)}, each about something that is measured.",
        )


def _too_few(objective: Objective, facts: Facts) -> tuple[float, int] | None:
    """(samples expected an interval, needed), where they are too few for a percentile."""
    if objective.every_s is None or objective.percent is None or facts.follows is None:
        return None
    per_s = 0.0
    for row in facts.follows.rows:
        journey = facts.journeys.get(row.journey)
        if journey is None or objective.row not in (None, row.row):
            continue
        if objective.journey not in (None, journey.journey):
            continue
        passes = sum(
            share
            * (
                len(step.requests)
                if objective.level == "request" and objective.request is None
                else 1
            )
            for step, share in expected(journey.active().rounds)
            if step.requests and objective.step in (None, step.step)
        )
        per_s += row.rounds_per_h / 3600 * passes
    needed = round(100 / (100 - objective.percent))
    samples = per_s * objective.every_s
    return (samples, needed) if samples < needed else None


def _caps(facts: Facts) -> Iterator[Finding]:
    if facts.follows is None:
        return
    for target in facts.capped:
        expected_per_s = _sent_per_s(facts, target)
        said = (
            f"{target} may be sent {target.cap_per_s:g} exchanges/s; the plan comes to about "
            f"{short(expected_per_s)}."
        )
        level: Level = "blocker" if expected_per_s > target.cap_per_s else "fine"
        mend = "" if level == "fine" else "Lower the load, or have an owner allow more"
        yield Finding("Rate allowed", level, said, mend, "settings")


def _others(facts: Facts) -> Iterator[Finding]:
    for number, said in facts.others:
        yield Finding(
            "Other runs", "warning", said, "Wait for its end, or stop it", f"run:{number}"
        )
    if not facts.others:
        yield Finding("Other runs", "fine", "Nobody else loads these targets from here.")


def _disk(facts: Facts) -> Iterator[Finding]:
    if facts.disk_free_bytes is None:
        return
    free, needed = facts.disk_free_bytes, facts.report_bytes
    said = (
        f"{short(free / 1e9)} GB are free, and the reports of this run may take "
        f"{short(needed / 1e6)} MB."
    )
    level: Level = (
        "blocker" if needed > free else "warning" if free - needed < SPARE_BYTES else "fine"
    )
    yield Finding("Disk", level, said, "Delete runs, or make room" if level != "fine" else "")
