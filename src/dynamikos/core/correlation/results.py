"""What was found, as strands: scored, named, best first."""

import re
from collections.abc import Sequence
from urllib.parse import urlsplit

from msgspec.structs import replace

from dynamikos.core.correlation import value_shapes
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.found import Found, entry_of
from dynamikos.core.correlation.model import Origin, Strand, Use
from dynamikos.core.correlation.sites import Site


def _score(each: Found) -> float:
    alike = each.offers[0].alike if each.offers else 0.0
    telling = any(
        value_shapes.secret_name(name) or value_shapes.id_name(name) for name in each.names
    )
    score = (
        0.2 * (each.origin >= 0)
        + 0.3 * (each.differs or each.rehearsed == "differs")
        + 0.2 * each.proven
        + 0.08 * alike
        + 0.05 * telling
    )
    score += 0.12 if value_shapes.generated(each.value) else 0.05 * (len(each.value) >= 4)
    score += 0.05 * (len(each.sites) > 1)
    if each.kind != "issued":
        score *= 0.3
    elif each.offers and each.offers[0].chosen:
        score *= 0.85
    return round(min(1.0, score), 2)


def strands_of(found: Sequence[Found], main: Answers) -> list[Strand]:
    strands: list[Strand] = []
    taken: dict[str, int] = {}
    ordered = sorted(
        found, key=lambda each: (each.kind != "issued", not each.proven, -_score(each), each.first)
    )
    for each in ordered:
        name = name_of(each, taken)
        followed = all(main.followed(site.entry) for site in each.sites)
        if each.kind == "issued" and followed:
            each.reasons.append(
                "is only sent where a redirect leads to: the engine follows it by itself"
            )
        captures = (
            tuple(dict.fromkeys(replace(offer.capture, name=name) for offer in each.offers))
            if each.kind == "issued"
            else ()
        )
        origin = None
        if each.origin >= 0 and each.kind == "issued":
            place = each.offers[0].place if each.offers else "body"
            origin = Origin(entry=entry_of(main, each.origin), place=place)
        strands.append(
            Strand(
                name=name,
                value=each.value,
                kind=each.kind,
                score=_score(each),
                proven=each.kind == "issued" and each.proven,
                reasons=tuple(each.reasons),
                origin=origin,
                captures=captures,
                pattern=each.pattern,
                values=each.values,
                followed=followed,
                uses=tuple(
                    Use(
                        entry=entry_of(main, site.entry),
                        place=site.place,
                        at=site.entry,
                        coding=site.coding,
                        context=context_of(main, site),
                    )
                    for site in each.sites
                ),
            )
        )
    return strands


def context_of(main: Answers, site: Site) -> str:
    sent = main.exchanges[site.entry].sent
    text = f"{sent.method} {urlsplit(sent.url).path}"
    return text if len(text) < 100 else text[:97] + "…"


def name_of(each: Found, taken: dict[str, int]) -> str:
    """A short plain name: the field's, or for a bare "id" that of what it belongs to."""
    best = _telling_words(each)
    in_path = all(site.place.startswith("path") and "," not in site.place for site in each.sites)
    if in_path and best and not value_shapes.id_name("_".join(best)):
        last = best[-1]
        single = last[:-1] if len(last) > 3 and last.endswith("s") else last
        best = [*best[:-1], single, "id"]
    base = re.sub(r"[^a-z0-9_]", "", "_".join(best[:4])) or "value"
    base = base if base[0].isalpha() else f"v_{base}"
    return value_shapes.unused(base[:40], taken)


def _telling_words(each: Found) -> list[str]:
    """Of its names the first that says more than "id"; else of where it is captured."""
    candidates = [words for name in each.names if (words := list(value_shapes.words(name)))]
    candidates = [[word for word in words if word != "x"] or words for words in candidates]
    best = next((words for words in candidates if not _is_bare(words)), None)
    if best is not None:
        return best
    if each.offers:
        told = re.findall(r"[A-Za-z_][\w-]*", each.offers[0].place)
        parent = [word for part in told[-2:] for word in value_shapes.words(part)]
        if not _is_bare(parent):
            return parent
    return candidates[0] if candidates else []


def _is_bare(words: Sequence[str]) -> bool:
    return set(words) <= value_shapes.ID_NAMES
