"""The crowds of a plan as its page sends them. What can't be read raises DynamikosError naming the
field.
"""

from collections.abc import Iterator
from typing import Any, cast

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import key_from
from dynamikos.core.plans import Crowd, CrowdRow, Plan
from dynamikos.core.profiles import Stretch
from dynamikos.web.plans.workloads import load_from
from dynamikos.web.ui.numbers import number, whole

STRETCHES = ("climb", "hold", "stairs", "burst", "drawn")


def crowds_from(data: QueryDict, before: Plan) -> dict[str, object]:
    """`journey`, `profile` and `crowds` of a plan, from fields that begin with the number of their
    crowd.
    """
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
            starts_s=number(
                data.get(f"c{no}-starts") or "0", f"{said}begins at second", 0, 604_800
            ),
            load=load_from(data, f"c{no}-", said),
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
    personas = data.getlist(at + "persona")
    given = {key for key in columns[0] if key}
    made = []
    for place, (key, journey, name, share) in enumerate(zip(*columns, strict=False), 1):
        if not journey:
            if name.strip() or share.strip():
                raise DynamikosError(
                    f"{said}row {place} has no journey: choose one, or empty its fields."
                )
            continue
        named = (
            key if key and key not in taken else key_from(name.strip() or journey, taken | given)
        )
        taken.add(named)
        value = number(share or "100", f"{said}share of row {place}", 0, 1_000_000)
        persona = personas[place - 1] if place <= len(personas) else ""
        made.append(
            CrowdRow(
                row=named, name=name.strip()[:80], journey=journey, persona=persona, share=value
            )
        )
    return made


def _profile(data: QueryDict, at: str, said: str) -> tuple[Stretch, ...]:
    made: list[Stretch] = []
    columns = [data.getlist(at + name) for name in ("stretch", "to", "seconds", "steps", "points")]
    names = data.getlist(at + "stretch-name")
    for no, (kind, to, seconds, steps, points) in enumerate(zip(*columns, strict=False)):
        place = f"{said}stretch {len(made) + 1}"
        if not seconds.strip():
            if to.strip() or points.strip():
                raise DynamikosError(
                    f"{place[0].upper()}{place[1:]} goes to {to.strip() or 'its points'}, but how "
                    "long it takes is"
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
                name=names[no].strip()[:40] if no < len(names) else "",
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
            raise DynamikosError(
                f"{place}: “{line.strip()[:40]}” is no point: write second and level, as in 30 20."
            )
        yield (
            number(cells[0], f"{place}: second of a point", 0, 604_800),
            number(cells[1], f"{place}: level of a point", 0, 1_000_000),
        )
