"""Proof: of the answers that hold a value, the one that speaks most for having issued it, with
captures from there.
"""

import re
from collections.abc import Sequence
from typing import NamedTuple

from dynamikos.core.captures import Capture, compile_finder
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.found import Found
from dynamikos.core.correlation.offers import Offer, Seen, offers
from dynamikos.core.correlation.origins import head_of
from dynamikos.core.correlation.shapes import Shape, shapes_of
from dynamikos.core.correlation.value_shapes import weak

MOST = 400  # answers that are tried for one value
NEAR = 8  # so many of the likeliest are looked at before one without evidence is taken
EVIDENCE = 0.5  # how alike names or addresses must be to speak for an origin


class _Best(NamedTuple):
    """The answer that speaks most so far, with its captures, the best first."""

    points: float
    hit: int
    offers: list[Offer]
    is_evident: bool  # whether names or addresses speak for it

    def is_enough(self, count: int) -> bool:
        """Whether no other is looked at, after `count` others."""
        return self.points >= EVIDENCE and (self.is_evident or count >= NEAR)


def prove(
    each: Found,
    main: Answers,
    others: Sequence[Answers],
    maps: Sequence[dict[int, int]],
    again: Answers | None,
    again_map: dict[int, int],
) -> None:
    """Fills `offers`, `origin` and `proven` from the answer that speaks most for having issued the
    value.
    """
    best, fallback = _searched(each, main, others, maps)
    if best is not None:
        each.origin, each.offers, each.proven = best.hit, best.offers, True
    elif fallback is not None:
        each.origin, each.offers = fallback
    if again is not None and each.origin >= 0 and again_map.get(each.origin) is not None:
        _rehearsed(each, main, again, again_map[each.origin])


def _searched(
    each: Found, main: Answers, others: Sequence[Answers], maps: Sequence[dict[int, int]]
) -> tuple[_Best | None, tuple[int, list[Offer]] | None]:
    """(the best answer with proven captures, the first with any).

    The likeliest answers are tried first, and what was found is taken once there is evidence for
    it (names or addresses that are alike), or once the likeliest few have been seen.
    """
    is_weak = any(weak(value) for value in each.values if value)
    shapes = shapes_of(each, main, others, maps)
    hits = _ranked(each, main, [hit for hit in each.hits if hit < each.first], shapes)
    best: _Best | None = None
    fallback: tuple[int, list[Offer]] | None = None
    for count, hit in enumerate(hits[:MOST]):
        seen = _seen(each, hit, main, others, maps)
        made = offers(main, hit, each.value, each.names, seen or [], shapes=shapes)
        if seen is None:
            made = _unproven(made)
        found = _proven(hit, made, is_weak=is_weak)
        if found is None:
            if fallback is None or (made and not fallback[1]):
                fallback = hit, _unproven(made)
        elif best is None or found.points > best.points:
            best = found
        if found is not None and found.is_enough(count):
            break
        if best is not None and count >= 2 * NEAR:
            break
    return best, fallback


def _unproven(made: Sequence[Offer]) -> list[Offer]:
    return [offer._replace(proven=False) for offer in made if not offer.chosen]


def _proven(hit: int, made: Sequence[Offer], *, is_weak: bool) -> _Best | None:
    """The proven captures of an answer; of a weak value, which many answers hold by chance, only
    those with evidence.
    """
    good = [offer for offer in made if offer.proven and (not is_weak or offer.alike >= EVIDENCE)]
    if not good:
        return None

    def malus(offer: Offer) -> float:
        return 0.3 * offer.chosen + 0.2 * by_position(offer.capture)

    top = max(good, key=lambda offer: offer.alike - malus(offer))
    if top.chosen == made[0].chosen:
        good = [top, *(offer for offer in good if offer is not top)]
    return _Best(max(EVIDENCE, top.alike) - malus(top), hit, good, top.alike >= EVIDENCE)


def by_position(capture: Capture) -> bool:
    """Whether a capture takes the n-th of several alike, which another visit may find in another
    place.
    """
    if isinstance(capture.pick, int) and capture.pick > 1:
        return True
    if capture.json is not None:
        return bool(re.search(r"\[[1-9]\d*\]", capture.json))
    return capture.css is not None and ":nth-" in capture.css.selector


def _seen(
    each: Found, i: int, main: Answers, others: Sequence[Answers], maps: Sequence[dict[int, int]]
) -> list[Seen] | None:
    """The same answer in the other recordings, None where one has none.

    Where the aligned answer lacks the value (a poll that came once more), it is the latest of the
    same form before the value is sent, if that holds in the main recording, too.
    """
    seen: list[Seen] = []
    for number, (other, mapped, value) in enumerate(
        zip(others, maps, each.values[1:], strict=True)
    ):
        if value is None:
            continue
        j = mapped.get(i)
        if j not in each.held[number]:
            later = [k for k in main.ours if i < k < each.first and main.form(k) == main.form(i)]
            sent = min(
                (mapped[site.entry] for site in each.sites if site.entry in mapped), default=0
            )
            same = [k for k in other.ours if k < sent and other.form(k) == main.form(i)]
            j = same[-1] if same and not later else None
        if j is None:
            return None
        seen.append(Seen(other.view(j), value))
    return seen


def _ranked(each: Found, main: Answers, hits: Sequence[int], shapes: Sequence[Shape]) -> list[int]:
    """The answers in the order of what speaks for them: a redirect, the same address, the same
    name, nearness.
    """
    if len(hits) < 2:
        return list(hits)
    names = [name for name in each.names if len(name) > 1]
    marks = []
    for place, i in enumerate(hits):
        text, head = main.text(i), head_of(main, i)
        points = 3.0 if "ocation:" in head and each.value in head else 0.0
        points += max((3 * shape.weight for shape in shapes if shape.literal in text), default=0.0)
        if place == 0 and main.exchanges[i].sent.method not in ("GET", "HEAD"):
            points += 3.0  # what was made says its number: lists that hold it later are no origin
        points += (
            1.5
            if any(f'"{name}"' in text for name in names)
            else 0.5 * any(name in text for name in names)
        )
        marks.append((-(points - 0.04 * (len(hits) - place)), -i, i))
    return [i for _, _, i in sorted(marks)]


def _rehearsed(each: Found, main: Answers, again: Answers, j: int) -> None:
    """Whether the server issued another value in the rehearsal: asks each capture there, and
    keeps those that find one.
    """
    before, after = main.view(each.origin), again.view(j)
    if before.status // 100 != after.status // 100:
        return
    kept = []
    for offer in each.offers:
        value = next(compile_finder(offer.capture)(after), None)
        if value is None:
            continue
        kept.append(offer)
        if not each.rehearsed:
            each.rehearsed = "same" if value == each.value else "differs"
    if kept:
        each.offers = kept
    elif each.offers:
        each.rehearsed = ""
