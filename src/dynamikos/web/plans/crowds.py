"""The crowds of a plan as the page shows them, and as it sends them.

What can't be read raises DynamikosError naming the field.
"""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, cast

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import key_from
from dynamikos.core.plans import Crowd, CrowdRow, Plan
from dynamikos.core.plans.crowds import turns_of
from dynamikos.core.plans.follows import weighed
from dynamikos.core.profiles import Arrivals, Held, Stretch, UserRounds, Users, Workload
from dynamikos.core.profiles.workloads import UNIT_S

WORKLOADS = (
    ("users", "so many users at once"),
    ("rounds", "users who perform so many rounds each"),
    ("arrivals", "arrivals, each a new user for one round"),
    ("held", "rounds begun at a held rate"),
)
STRETCHES = ("climb", "hold", "stairs", "burst", "drawn")
LEAVING = (("step", "after the step at hand"), ("round", "after the round"), ("now", "at once"))
INKS = 6  # tones and forms of figures that rows have, in turn


def number(text: str, what: str, low: float, high: float) -> float:
    try:
        value = float(text.replace(",", "."))
    except ValueError as problem:
        raise DynamikosError(f"{what}: '{text}' is not a number.") from problem
    if not low <= value <= high:
        raise DynamikosError(f"{what}: {value:g} is not between {low:g} and {high:g}.")
    return value


def whole(text: str, what: str, low: int, high: int) -> int:
    """A number without a fraction."""
    value = number(text, what, low, high)
    if value != int(value):
        raise DynamikosError(f"{what}: {text} is not a whole number.")
    return int(value)


# what the page sends ------------------------------------------------------------------------------------


def crowds_from(data: QueryDict, before: Plan) -> dict[str, object]:
    """`journey`, `profile` and `crowds` of a plan, from fields that begin with the number of their crowd."""
    keys, taken = data.getlist("crowd"), set[str]()
    made: list[Crowd] = []
    for no, key in enumerate(keys):
        said = f"Crowd {no + 1}, " if len(keys) > 1 else ""
        rows = _rows(data, f"c{no}-", said, taken)
        if not rows and len(keys) > 1:
            continue  # a crowd without rows is taken away
        crowd = Crowd(
            crowd=key or key_from("crowd", {each.crowd for each in made}),
            name=data.get(f"c{no}-name", "").strip()[:80],
            starts_s=number(data.get(f"c{no}-starts") or "0", f"{said}begins at second", 0, 604_800),
            load=_load(data, f"c{no}-", said),
            profile=_profile(data, f"c{no}-", said),
            rows=tuple(rows),
        )
        made.append(crowd)
    if data.get("another"):
        made.append(another(before, {each.crowd for each in made}, taken))
    if not made or not made[0].rows:
        raise DynamikosError("A plan needs a journey: choose one in the first row.")
    changed = before.with_crowds(tuple(made))
    return {"journey": changed.journey, "profile": changed.profile, "crowds": changed.crowds}


def another(before: Plan, crowds: set[str], rows: set[str]) -> Crowd:
    """A crowd to begin with: ten users of the first journey."""
    journey = before.journeys[0] if before.journeys else ""
    row = CrowdRow(row=key_from(journey or "row", rows), journey=journey)
    profile = (Stretch(stretch="climb", to=10, seconds=30), Stretch(stretch="hold", seconds=120))
    return Crowd(crowd=key_from("crowd", crowds), profile=profile, rows=(row,))


def _rows(data: QueryDict, at: str, said: str, taken: set[str]) -> list[CrowdRow]:
    columns = [data.getlist(at + name) for name in ("row", "journey", "row-name", "share")]
    given = {key for key in columns[0] if key}
    made = []
    for place, (key, journey, name, share) in enumerate(zip(*columns, strict=False), 1):
        if not journey:
            if name.strip() or share.strip():
                raise DynamikosError(f"{said}row {place} has no journey: choose one, or empty its fields.")
            continue
        named = key if key and key not in taken else key_from(name.strip() or journey, taken | given)
        taken.add(named)
        value = number(share or "100", f"{said}share of row {place}", 0, 1_000_000)
        made.append(CrowdRow(row=named, name=name.strip()[:80], journey=journey, share=value))
    return made


def _load(data: QueryDict, at: str, said: str) -> Workload:
    kind = data.get(at + "workload", "users")

    def text(name: str, default: str) -> str:
        return data.get(at + name, "").strip() or default

    pacing = _pacing(text("pacing", ""), text("pacing-to", ""), said)
    if kind == "rounds":
        return UserRounds(
            users=whole(text("users", "10"), f"{said}users", 1, 1_000_000),
            rounds=whole(text("rounds", "1"), f"{said}rounds", 1, 1_000_000),
            start_s=number(text("start", "0"), f"{said}seconds within which they start", 0, 86_400),
            pacing_s=pacing,
        )
    if kind in ("arrivals", "held"):
        per, spread = text("per", "second"), text("spread", "even")
        if per not in UNIT_S or spread not in ("even", "poisson"):
            raise DynamikosError(f"{said}arrivals are per second, minute or hour, evenly or at random.")
        ceiling = whole(text("ceiling", "100"), f"{said}users at most", 1, 1_000_000)
        made = Arrivals if kind == "arrivals" else Held
        return made(per=per, spread=cast(Any, spread), ceiling=ceiling)
    if kind != "users":
        raise DynamikosError(f"{said}“{kind}” is no workload; choose one of those on the page.")
    leaving, shares = text("leaving", "step"), text("shares", "visits")
    if leaving not in dict(LEAVING) or shares not in ("visits", "users"):
        raise DynamikosError(f"{said}users leave after the step, after the round, or at once.")
    return Users(leaving=cast(Any, leaving), shares=cast(Any, shares), pacing_s=pacing)


def _pacing(low: str, high: str, said: str) -> tuple[float, ...] | None:
    """Seconds, or a range of them; nothing for none."""
    if not low and not high:
        return None
    parts = [number(part, f"{said}a round every", 0, 86_400) for part in (low, high) if part]
    return tuple(parts)


def _profile(data: QueryDict, at: str, said: str) -> tuple[Stretch, ...]:
    made: list[Stretch] = []
    columns = [data.getlist(at + name) for name in ("stretch", "to", "seconds", "steps", "points")]
    for kind, to, seconds, steps, points in zip(*columns, strict=False):
        place = f"{said}stretch {len(made) + 1}"
        if not seconds.strip():
            if to.strip() or points.strip():
                raise DynamikosError(
                    f"{place[0].upper()}{place[1:]} goes to {to.strip() or 'its points'}, but how long it takes is"
                    " missing: write its seconds."
                )
            continue
        if kind not in STRETCHES:
            raise DynamikosError(f"{place}: “{kind}” is no kind of stretch.")
        length = number(seconds, f"{place}: seconds", 0, 604_800)
        made.append(
            Stretch(
                stretch=cast(Any, kind),
                seconds=length,
                to=_level(to, place) if kind in ("climb", "stairs", "burst") else None,
                steps=whole(steps or "3", f"{place}: steps", 2, 1000) if kind == "stairs" else None,
                points=tuple(_points(points, place)) if kind == "drawn" else (),
            )
        )
    return tuple(made)


def _level(text: str, place: str) -> int | float:
    value = number(text or "0", f"{place}: where it goes", 0, 1_000_000)
    return int(value) if value == int(value) else value


def _points(text: str, place: str) -> Iterator[tuple[float, float]]:
    """Points as “0 5, 30 20” or pasted from a sheet, a line each: second and level."""
    for line in text.replace("\r", "\n").replace(";", "\n").replace(",", "\n").split("\n"):
        if not line.strip():
            continue
        cells = line.replace("\t", " ").split()
        if len(cells) != 2:
            raise DynamikosError(f"{place}: “{line.strip()[:40]}” is no point: write second and level, as in 30 20.")
        yield (
            number(cells[0], f"{place}: second of a point", 0, 604_800),
            number(cells[1], f"{place}: level of a point", 0, 1_000_000),
        )


# what the page shows ------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class RowShown:
    """A row: what it is called, its `ink` from 0, its share of the crowd in %, and how many users it has when most are
    there.
    """

    row: CrowdRow
    title: str
    ink: int
    percent: float
    users: int
    people: int  # so many of a hundred


@dataclass(frozen=True, slots=True)
class CrowdShown:
    """A crowd with the number that its fields begin with; `says` is its load in a sentence, `unit` what its curve
    counts.
    """

    no: int
    crowd: Crowd
    kind: str
    curve: list[tuple[Stretch, str]]  # each stretch with its points as they are typed
    rows: list[RowShown]
    people: list[tuple[int, int, int]]  # of a hundred, the ink and place of each: column by column
    says: str
    unit: str
    pacing: tuple[str, str]  # from and to, as they are typed

    @property
    def layers(self) -> list[tuple[int, float]]:
        """Ink of each row and what it has of the curve, in %: of users where those are known, else of the shares."""
        users = sum(row.users for row in self.rows)
        return [(row.ink, 100 * row.users / users if users else row.percent) for row in self.rows]


def shown(core: Plan, rounds_s: Mapping[str, float], names: Mapping[str, str]) -> list[CrowdShown]:
    """`rounds_s`: seconds that a round of each journey is expected to take; `names`: what journeys are called."""
    made, ink = [], 0
    for no, crowd in enumerate(core.everybody()):
        weights = weighed(crowd, rounds_s)
        every = sum(row.share for row in crowd.rows)
        percents = [100 * row.share / every if every else 0.0 for row in crowd.rows]
        counts = _counts(crowd, weights)
        inks = [(ink + at) % INKS for at in range(len(crowd.rows))]
        people = [(own, 24 * (at // 10), 22 * (at % 10)) for at, own in enumerate(_hundred(percents, inks))]
        titles = [row.name or names.get(row.journey, row.journey) for row in crowd.rows]
        parts = zip(crowd.rows, titles, inks, percents, counts, strict=True)
        rows = [
            RowShown(row, title, own, percent, count, sum(each[0] == own for each in people))
            for row, title, own, percent, count in parts
        ]
        ink += len(crowd.rows)
        kind = {Users: "users", UserRounds: "rounds", Arrivals: "arrivals", Held: "held"}[type(crowd.load)]
        low, high = (*(f"{each:g}" for each in crowd.load.pacing_s or ()), "", "")[:2]
        curve = [(each, ", ".join(f"{at:g} {level:g}" for at, level in each.points)) for each in crowd.profile]
        made.append(CrowdShown(no, crowd, kind, curve, rows, people, says(crowd), unit_of(crowd), (low, high)))
    return made


def _counts(crowd: Crowd, weights: Mapping[str, float]) -> list[int]:
    """Users of each row when most are there; of arrivals, which are no planned users, none."""
    counts = [0] * len(crowd.rows)
    if crowd.unit_s or not any(row.share for row in crowd.rows):
        return counts
    turns = turns_of(crowd, dict(weights))
    for k in range(min(crowd.seats, 100_000)):
        counts[turns[k]] += 1
    return counts


def _hundred(percents: Iterable[float], inks: Iterable[int]) -> list[int]:
    """A hundred people, by largest remainders."""
    parts = list(zip(percents, inks, strict=True))
    floors = [int(percent) for percent, _ in parts]
    order = sorted(range(len(parts)), key=lambda at: floors[at] - parts[at][0])
    for at in order[: max(0, round(sum(percent for percent, _ in parts)) - sum(floors))]:
        floors[at] += 1
    return [ink for count, (_, ink) in zip(floors, parts, strict=True) for _ in range(count)]


def unit_of(crowd: Crowd) -> str:
    """What its curve counts."""
    if isinstance(crowd.load, Arrivals):
        return f"arrivals a {crowd.load.per}"
    if isinstance(crowd.load, Held):
        return f"rounds a {crowd.load.per}"
    return "users"


def says(crowd: Crowd) -> str:
    """Its load in a sentence."""
    load = crowd.load
    paced = ""
    if load.pacing_s:
        paced = f", a round every {'–'.join(f'{each:g}' for each in load.pacing_s)} s"
    if isinstance(load, UserRounds):
        return f"{load.users:,} users perform {load.rounds:,} rounds each{paced}."
    if isinstance(load, Arrivals):
        how = "evenly" if load.spread == "even" else "at random (Poisson)"
        return f"New users arrive {how}; above {load.ceiling:,} at once they are turned away."
    if isinstance(load, Held):
        how = "evenly" if load.spread == "even" else "at random (Poisson)"
        return f"Rounds are begun {how}, by at most {load.ceiling:,} users."
    leave = {"step": "", "round": "; those taken away finish their round", "now": "; those taken away leave at once"}
    return f"So many users are there as the curve says{paced}{leave[load.leaving]}."
