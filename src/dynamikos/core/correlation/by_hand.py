"""A strand begun by hand: a person marked a value in an answer; where it is sent later, how it is
captured, and the proof.
"""

import re
from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from dynamikos.core.captures import compile_capture
from dynamikos.core.correlation import value_shapes
from dynamikos.core.correlation.coding import written
from dynamikos.core.correlation.found import Found, entry_of
from dynamikos.core.correlation.model import Origin, Strand, Use
from dynamikos.core.correlation.offers import Offer, Seen, offers
from dynamikos.core.correlation.results import context_of, name_of
from dynamikos.core.correlation.search import answers_of, map_of
from dynamikos.core.correlation.sites import Site, sites_of
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges import Exchange


def _alike(site: Site, offer: Offer) -> bool:
    """Whether a short value's site is named like what it was captured from: another may hold the
    same by chance.
    """
    told = offer.place.split(" ", 1)[-1]
    return value_shapes.likeness(site.name, told) >= 0.5 or any(
        value_shapes.likeness(site.name, word) >= 0.5
        for word in re.findall(r"[A-Za-z_][\w-]+", told)[-2:]
    )


def strand_by_hand(
    recordings: Sequence[Sequence[Exchange]],
    position: int,
    text: str,
    *,
    origins: Iterable[str] | None = None,
    taken: Iterable[str] = (),
) -> Strand:
    """The strand of `text`, marked in the answer of exchange `position` of the first recording.

    Proven when every other recording sends a value of its own at the same place and the capture
    finds it there. Raises DynamikosError when the answer does not hold the text, or when it is not
    sent after it.
    """
    text = text.strip()
    if not text:
        raise DynamikosError(
            "No value is marked: mark it in the answer, or write it into the field below."
        )
    main = answers_of(recordings[0], origins)
    others = [answers_of(each, origins) for each in recordings[1:]]
    if position not in main.ours:
        raise DynamikosError(
            "This answer is not of the application's own hosts, so no value is taken from it."
        )
    homes = dict.fromkeys((position, main.final(position)))
    sites = [
        site
        for i in main.ours
        if i > position
        for site in sites_of(main.exchanges[i], i)
        if site.value == text and not site.static
    ]
    if not sites:
        raise DynamikosError(
            f"“{text[:80]}” is not sent in any later request of the recording as it is, so there "
            "is nothing to replace."
            " Mark exactly what is sent, or add a capture to the request and write {{ name }} by "
            "hand."
        )
    maps = [map_of(main, other) for other in others]
    values: list[str | None] = [text]
    for other, mapped in zip(others, maps, strict=True):
        there = (
            other_site.value
            for site in sites
            if site.entry in mapped
            for other_site in sites_of(other.exchanges[mapped[site.entry]], mapped[site.entry])
            if other_site.place == site.place
        )
        values.append(next(there, None))
    found = Found(tuple(values), sites)
    for i in homes:
        seen = [
            Seen(other.view(mapped[i]), value)
            for other, mapped, value in zip(others, maps, values[1:], strict=True)
            if value is not None and i in mapped
        ]
        made = offers(main, i, text, found.names, seen)
        if made:
            break
    else:
        held = any(form in main.text(i) for i in homes for form in written(text))
        raise DynamikosError(
            f"No capture can be found for “{text[:80]}” in this answer: "
            + ("it stands in too many places alike." if held else "the answer does not hold it.")
        )
    found.origin, found.offers = i, made
    take = compile_capture(made[0].capture)
    homes_there = [
        other.view(mapped[i]) if i in mapped else None
        for other, mapped in zip(others, maps, strict=True)
    ]
    kept: list[tuple[Site, bool]] = []
    for site in sites:
        moves = [
            any(
                each.place == site.place and each.value == take(view)
                for each in sites_of(other.exchanges[at], at)
            )
            for other, mapped, view in zip(others, maps, homes_there, strict=True)
            if view is not None and (at := mapped.get(site.entry)) is not None
        ]
        if all(moves):
            kept.append((site, bool(moves) or not value_shapes.weak(text) or _alike(site, made[0])))
    if not kept:
        kept = [(site, False) for site in sites]
    sites = found.sites = [site for site, _ in kept]
    name = name_of(found, dict.fromkeys(taken, 2))
    proven = bool(seen) and made[0].proven and all(value is not None for value in values)
    reasons = [
        "was marked by hand",
        f"is sent in {len(sites)} place{'' if len(sites) == 1 else 's'} after it",
    ]
    reasons.append(
        "the capture finds the right value in every recording"
        if proven
        else (
            "there is no other recording to prove the capture on"
            if not others
            else "the capture is not proven on every recording"
        )
    )
    return Strand(
        name=name,
        value=text,
        kind="issued",
        score=1.0,
        proven=proven,
        reasons=tuple(reasons),
        origin=Origin(entry=entry_of(main, i), place=made[0].place),
        captures=tuple(dict.fromkeys(replace(offer.capture, name=name) for offer in made)),
        values=tuple(values),
        followed=all(main.followed(site.entry) for site in sites),
        uses=tuple(
            Use(
                entry=entry_of(main, site.entry),
                place=site.place,
                coding=site.coding,
                context=context_of(main, site),
                sure=sure,
            )
            for site, sure in kept
        ),
    )
