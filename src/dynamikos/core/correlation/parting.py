"""Short values are searched for by the name of their place, and joined again where the same capture
yields them.
"""

from collections import defaultdict
from collections.abc import Iterable, Sequence

from dynamikos.core.correlation import value_shapes
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.found import Found
from dynamikos.core.correlation.shapes import shapes_of
from dynamikos.core.correlation.sites import Site


def parted(
    wanted: list[Found], found: list[Found], visible: set[str]
) -> tuple[list[Found], list[Found]]:
    """Short values that differ are looked for by the name of their place: a page 6 and a session 6
    are two.
    """
    made: dict[int, list[Found]] = {}
    for each in wanted:
        if not each.differs or not any(
            value_shapes.weak(value) and value.isdigit() for value in each.values if value
        ):
            continue
        typed = min((site.entry for site in each.sites if site.name in visible), default=-1)
        classes: dict[str, list[Site]] = defaultdict(list)
        for site in each.sites:
            classes[value_shapes.joined(site.name)].append(site)
        if len(classes) > 1:
            made[id(each)] = [
                Found(each.values, sites, sent_before=typed) for sites in classes.values()
            ]

    def parts(rows: Iterable[Found]) -> list[Found]:
        return [part for each in rows for part in made.get(id(each), [each])]

    return parts(wanted), parts(found)


def rejoined(
    found: list[Found], main: Answers, others: Sequence[Answers], maps: Sequence[dict[int, int]]
) -> list[Found]:
    """Puts together again what the same capture yields, and what has no origin of its own."""
    kept: list[Found] = []
    alike: dict[tuple[str | None, ...], list[Found]] = defaultdict(list)
    for each in sorted(found, key=lambda each: (not _is_proven(each), each.first)):
        if not (each.differs and any(value_shapes.weak(value) for value in each.values if value)):
            kept.append(each)
            continue
        patterns = {shape.pattern for shape in shapes_of(each, main, others, maps)}
        home = next(
            (other for other in alike[each.values] if _belongs(each, other, patterns)), None
        )
        if home is not None:
            home.sites.extend(each.sites)
            home.sites.sort(key=lambda site: site.entry)
            continue
        alike[each.values].append(each)
        kept.append(each)
    order = {id(each): number for number, each in enumerate(found)}
    return sorted(kept, key=lambda each: order[id(each)])


def _is_proven(each: Found) -> bool:
    return each.kind == "issued" and each.proven


def _belongs(each: Found, other: Found, patterns: set[str]) -> bool:
    """Whether a short value is the one that `other`'s capture yields; `patterns`: how its own
    address is written.
    """
    if not _is_proven(other) or other.origin >= each.first:
        return False
    if not _is_proven(each):
        return True
    capture, place = other.offers[0].capture, other.offers[0].place
    if capture.regex is not None and capture.regex.pattern in patterns:
        return True
    if each.origin == other.origin and each.offers[0].capture == capture:
        return True
    return any(
        value_shapes.likeness(name, f"{place} {' '.join(other.names)}") >= 0.5
        for name in each.names
    )
