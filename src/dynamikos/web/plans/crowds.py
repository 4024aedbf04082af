"""The crowds of a plan as its page shows them."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from dynamikos.core.plans import Crowd, CrowdRow, Plan
from dynamikos.core.plans.crowds import turns_of
from dynamikos.core.plans.follows import weighed
from dynamikos.core.profiles import Stretch

INKS = 6  # tones and forms of figures that rows have, in turn


@dataclass(frozen=True, slots=True)
class RowShown:
    """A row: what it is called, its `ink` from 0, its share of the crowd in %, and how many users
    it has when most are there.
    """

    row: CrowdRow
    title: str
    ink: int
    percent: float
    users: int
    people: int  # so many of a hundred


@dataclass(frozen=True, slots=True)
class CrowdShown:
    """A crowd with the number that its fields begin with; `says` is its load in a sentence, `unit`
    what its curve counts.
    """

    no: int
    crowd: Crowd
    curve: list[tuple[Stretch, str]]  # each stretch with its points as they are typed
    rows: list[RowShown]
    people: list[tuple[int, int, int]]  # of a hundred, the ink and place of each: column by column
    says: str
    unit: str
    pacing: tuple[str, str]  # from and to, as they are typed

    @property
    def at(self) -> str:
        """What the names of its fields begin with."""
        return f"c{self.no}-"

    @property
    def layers(self) -> list[tuple[int, float]]:
        """Ink of each row and what it has of the curve, in %: of users where those are known, else
        of the shares.
        """
        users = sum(row.users for row in self.rows)
        return [(row.ink, 100 * row.users / users if users else row.percent) for row in self.rows]


def shown(core: Plan, rounds_s: Mapping[str, float], names: Mapping[str, str]) -> list[CrowdShown]:
    """`rounds_s`: seconds that a round of each journey is expected to take; `names`: what journeys
    are called.
    """
    made, ink = [], 0
    for no, crowd in enumerate(core.everybody()):
        weights = weighed(crowd, rounds_s)
        shares = crowd.load.row_shares(crowd)
        percents = [100 * share / sum(shares) if sum(shares) else 0.0 for share in shares]
        counts = _counts(crowd, weights)
        inks = [(ink + at) % INKS for at in range(len(crowd.rows))]
        people = [
            (own, 24 * (at // 10), 22 * (at % 10))
            for at, own in enumerate(_hundred(percents, inks))
        ]
        titles = [row.name or names.get(row.journey, row.journey) for row in crowd.rows]
        parts = zip(crowd.rows, titles, inks, percents, counts, strict=True)
        rows = [
            RowShown(row, title, own, percent, count, sum(each[0] == own for each in people))
            for row, title, own, percent, count in parts
        ]
        ink += len(crowd.rows)
        low, high = (*(f"{each:g}" for each in crowd.load.pacing_s or ()), "", "")[:2]
        curve = [
            (each, ", ".join(f"{at:g} {level:g}" for at, level in each.points))
            for each in crowd.profile
        ]
        made.append(
            CrowdShown(
                no, crowd, curve, rows, people, crowd.load.says(), crowd.load.unit, (low, high)
            )
        )
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
