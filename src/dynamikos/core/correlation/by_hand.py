"""A strand begun by hand: a person marked a value in an answer; where it is sent later, how it is
captured, and the proof.
"""

import re
from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from dynamikos.core.captures import compile_capture
from dynamikos.core.correlation import value_shapes
from dynamikos.core.correlation.answers import Answers
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
    if position not in main.ours:
        raise DynamikosError(
            "This answer is not of the application's own hosts, so no value is taken from it."
        )
    sites = _sent_after(main, position, text)
    others = [_Other(main, answers_of(each, origins)) for each in recordings[1:]]
    values = (text, *(other.value_at(sites) for other in others))
    found = Found(values, sites)
    home, seen, made = _captured(
        main, others, found, dict.fromkeys((position, main.final(position)))
    )
    found.origin, found.offers = home, made
    kept = _followed_by(sites, text, home, others, made[0])
    found.sites = [site for site, _ in kept]
    name = name_of(found, dict.fromkeys(taken, 2))
    is_proven = bool(seen) and made[0].proven and None not in values
    return Strand(
        name=name,
        value=text,
        kind="issued",
        score=1.0,
        proven=is_proven,
        reasons=_reasons(len(kept), is_proven=is_proven, is_alone=not others),
        origin=Origin(entry=entry_of(main, home), place=made[0].place),
        captures=tuple(dict.fromkeys(replace(offer.capture, name=name) for offer in made)),
        values=values,
        followed=all(main.followed(site.entry) for site in found.sites),
        uses=tuple(
            Use(
                entry=entry_of(main, site.entry),
                place=site.place,
                at=site.entry,
                coding=site.coding,
                context=context_of(main, site),
                sure=sure,
            )
            for site, sure in kept
        ),
    )


class _Other:
    """Another recording, and where the requests of the first one are in it."""

    def __init__(self, main: Answers, answers: Answers) -> None:
        self.answers, self.mapped = answers, map_of(main, answers)

    def sites_like(self, site: Site) -> list[Site]:
        """What the same request sends there at the same place."""
        at = self.mapped.get(site.entry)
        if at is None:
            return []
        return [e for e in sites_of(self.answers.exchanges[at], at) if e.place == site.place]

    def value_at(self, sites: Sequence[Site]) -> str | None:
        """What it sends in place of a value; None where it sends none."""
        return next((each.value for site in sites for each in self.sites_like(site)), None)


def _sent_after(main: Answers, position: int, text: str) -> list[Site]:
    """Where the value is sent after an answer. Raises DynamikosError when it is not."""
    later = (site for i in main.ours if i > position for site in sites_of(main.exchanges[i], i))
    sites = [site for site in later if site.value == text and not site.static]
    if not sites:
        raise DynamikosError(
            f"“{text[:80]}” is not sent in any later request of the recording as it is, so there "
            "is nothing to replace. Mark exactly what is sent, or add a capture to the request and "
            "write {{ name }} by hand."
        )
    return sites


def _captured(
    main: Answers, others: Sequence[_Other], found: Found, homes: Iterable[int]
) -> tuple[int, list[Seen], list[Offer]]:
    """(the answer of `homes` it is captured from, the same answer of other recordings, the
    captures). Raises DynamikosError when there is none.
    """
    text, homes = found.value, list(homes)
    for home in homes:
        seen = [
            Seen(other.answers.view(other.mapped[home]), value)
            for other, value in zip(others, found.values[1:], strict=True)
            if value is not None and home in other.mapped
        ]
        made = offers(main, home, text, found.names, seen)
        if made:
            return home, seen, made
    held = any(form in main.text(i) for i in homes for form in written(text))
    why = "it stands in too many places alike." if held else "the answer does not hold it."
    raise DynamikosError(f"No capture can be found for “{text[:80]}” in this answer: {why}")


def _followed_by(
    sites: Sequence[Site], text: str, home: int, others: Sequence[_Other], offer: Offer
) -> list[tuple[Site, bool]]:
    """(site, whether it is sure) of those that send what the capture finds in every other
    recording; all of them, unsure, where none does.
    """
    take = compile_capture(offer.capture)
    views = [
        (other, other.answers.view(other.mapped[home])) for other in others if home in other.mapped
    ]
    kept: list[tuple[Site, bool]] = []
    for site in sites:
        there = [(o, view) for o, view in views if site.entry in o.mapped]
        moves = [any(each.value == take(view) for each in o.sites_like(site)) for o, view in there]
        if all(moves):
            is_sure = bool(moves) or not value_shapes.weak(text) or _alike(site, offer)
            kept.append((site, is_sure))
    return kept or [(site, False) for site in sites]


def _reasons(places: int, *, is_proven: bool, is_alone: bool) -> tuple[str, ...]:
    proof = "the capture is not proven on every recording"
    if is_proven:
        proof = "the capture finds the right value in every recording"
    elif is_alone:
        proof = "there is no other recording to prove the capture on"
    where = f"is sent in {places} place{'' if places == 1 else 's'} after it"
    return "was marked by hand", where, proof
