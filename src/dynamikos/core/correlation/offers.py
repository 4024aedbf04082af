"""Captures that yield a value from an answer, the simplest that holds in every recording first."""

import json
import re
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from dynamikos.core.captures import (
    Capture,
    CssForm,
    Decoding,
    RegexForm,
    View,
    compile_capture,
    compile_finder,
)
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.coding import leaves, written
from dynamikos.core.correlation.elements import marked, own_selectors, told_by
from dynamikos.core.correlation.shapes import Shape
from dynamikos.core.correlation.texts import addresses, headers, places, shaped, texts
from dynamikos.core.correlation.value_shapes import counts, likeness
from dynamikos.core.errors import DynamikosError

ENOUGH = 3  # alternatives of one value
FEW = 6  # scalars of a JSON answer that moved between recordings: a match is no chance then


class Seen(NamedTuple):
    """The same answer in another recording, with the value sent there."""

    view: View
    value: str


class Offer(NamedTuple):
    """`proven`: yields the right value everywhere.

    `chosen`: a person chose one of several matches, which differ between recordings.
    """

    capture: Capture
    place: str
    alike: float
    proven: bool
    chosen: bool = False


def offers(
    answers: Answers,
    i: int,
    value: str,
    names: Sequence[str],
    others: Sequence[Seen],
    *,
    limit: int = 6,
    shapes: Sequence[Shape] = (),
) -> list[Offer]:
    """Captures on the request that leads to answer `i`, best first: proven ones, then by likeness
    of names, then simplest.
    """
    view = answers.view(i)
    proven: list[Offer] = []
    open_: list[Offer] = []
    tried: set[Capture] = set()
    for made, place, tells in _candidates(answers, i, value, shapes):
        if made in tried:
            continue
        tried.add(made)
        alike = tells if isinstance(tells, float) else _most_alike(names, tells)
        try:
            if made.pick == "random":
                offer = _of_several(
                    Offer(made, place, alike, True, chosen=True), view, value, others
                )
            else:
                offer = _of_one(Offer(made, place, alike, True), view, value, others)
        except DynamikosError:
            continue
        if offer is None:
            continue
        if not offer.chosen and offer.alike < 0.5 and _has_one_place(answers, i, made, others):
            offer = offer._replace(alike=0.5)
        (proven if offer.proven else open_).append(offer)
        if not offer.chosen and _are_enough(proven):
            break
    proven.sort(key=lambda offer: (offer.chosen, -offer.alike if offer.alike >= 0.5 else 0))
    return [*proven, *open_][:limit]


def _are_enough(proven: Sequence[Offer]) -> bool:
    return len(proven) >= ENOUGH and max(offer.alike for offer in proven) >= 0.5


def _most_alike(names: Sequence[str], told: str) -> float:
    return max((likeness(name, told) for name in names), default=0.0)


def _of_several(offer: Offer, view: View, value: str, others: Sequence[Seen]) -> Offer | None:
    """One that picks any of several: each recording picked from its own answer, and the answers
    are not the same. Raises DynamikosError for what can't be compiled.
    """
    find = compile_finder(offer.capture)
    found = set(find(view))
    if not others or value not in found or len(found) < 2:
        return None
    sets = [set(find(other.view)) for other in others]
    holds = all(other.value in each for other, each in zip(others, sets, strict=True))
    return offer if holds and any(each != found for each in sets) else None


def _of_one(offer: Offer, view: View, value: str, others: Sequence[Seen]) -> Offer | None:
    """One that finds the value; proven where it finds the others' values in their answers. Raises
    DynamikosError for what can't be compiled.
    """
    take = compile_capture(offer.capture)
    if take(view) != value:
        return None
    return offer._replace(proven=all(take(other.view) == other.value for other in others))


def _has_one_place(answers: Answers, i: int, made: Capture, others: Sequence[Seen]) -> bool:
    """Whether a capture needs no likeness of names: a header, or a place in JSON that is not found
    by counting, of an answer in which hardly anything else differs.
    """
    if made.pick != "first":
        return False
    if made.header:
        return True
    in_json = made.json and others and not counts(made.json)
    return bool(in_json) and moved(answers, i, others) <= FEW


def moved(answers: Answers, i: int, others: Sequence[Seen]) -> int:
    """How many scalars of a JSON answer have other values in another recording: with few of
    them a match is no chance.
    """
    known = answers.changed.get(i)
    if known is None:
        mine = set(answers.json_leaves(i))
        known = 0
        for other in others:
            try:
                theirs = {text for _, _, text in leaves(other.view.json(), 2000)}
            except ValueError:
                theirs = set()
            known = max(known, len(mine - theirs))
        answers.changed[i] = known
    return known


def _candidates(
    answers: Answers, i: int, value: str, shapes: Sequence[Shape] = ()
) -> Iterator[tuple[Capture, str, str | float]]:
    """(capture, place in words, name that tells what it is), simplest forms first.

    Some will not hold: the caller tries each.
    """
    final = answers.final(i) == i
    forms = written(value)
    if final:
        yield from _json(answers, i, forms)
        yield from marked(answers, i, forms)
        yield from headers(answers, i, forms)
    for name, text in answers.cookies_set(i).items():
        if text.strip('"') in forms:
            yield (
                Capture(name="v", cookie=name, decode=forms[text.strip('"')]),
                f"cookie {name}",
                name,
            )
    yield from addresses(answers, i, value, shapes)
    if final:
        text = answers.text(i)
        yield from shaped(text, value, shapes)
        for written_as, decode in forms.items():
            if len(value) < 4 and written_as != value:
                continue
            yield from texts(text, written_as, decode, answers.moving)
        yield from _lists(answers, i, value, forms, text)


# JSON ---------------------------------------------------------------------------------------------


def _json(
    answers: Answers, i: int, forms: dict[str, Decoding]
) -> Iterator[tuple[Capture, str, str]]:
    leaves = answers.json_leaves(i)
    if not leaves:
        return
    document = answers.view(i).json()
    later: list[tuple[Capture, str, str]] = []
    for written_as, decode in forms.items():
        if (
            decode in ("json", "html", "percent")
            and written_as in forms
            and forms[written_as] == ""
        ):
            continue
        for path, _ in leaves.get(written_as, ())[:12]:
            place, tells = f"json {path}", " ".join(re.findall(r"[A-Za-z_][\w-]*", path)[-2:])
            yield Capture(name="v", json=path, decode=decode), place, tells
            if "[" in path:
                for general in _filters(document, path):
                    later.append((Capture(name="v", json=general, decode=decode), place, tells))
                for match in re.finditer(r"\[\d+\]", path):
                    wide = path[: match.start()] + "[*]" + path[match.end() :]
                    later.append(
                        (Capture(name="v", json=wide, pick="last", decode=decode), place, tells)
                    )
    yield from later


def _filters(document: object, path: str) -> Iterator[str]:
    """The path with an index replaced by a filter on a neighbour: `$.slots[2].id` →
    `$.slots[?@.free == true].id`.
    """
    for match in re.finditer(r"\[(\d+)\]", path):
        before, after, at = path[: match.start()], path[match.end() :], int(match.group(1))
        try:
            node = _node_at(document, before)
        except (KeyError, IndexError, TypeError):
            return
        if not isinstance(node, list) or at >= len(node) or not isinstance(node[at], dict):
            continue
        for key, value in node[at].items():
            if not _may_filter(key, value) or after.startswith(f".{key}"):
                continue
            same = sum(isinstance(each, dict) and each.get(key) == value for each in node)
            if same < len(node) or len(node) == 1:
                literal = json.dumps(value) if isinstance(value, bool) else f"'{value}'"
                yield f"{before}[?@.{key} == {literal}]{after}"


def _node_at(document: object, path: str) -> object:
    """What stands at a path of keys and indexes. Raises KeyError, IndexError or TypeError."""
    node: Any = document
    for name, index, quoted in re.findall(r"\.([A-Za-z_]\w*)|\[(\d+)\]|\[\"([^\"]*)\"\]", path):
        node = node[int(index)] if index else node[name or quoted]
    return node


def _may_filter(key: str, value: object) -> bool:
    """Whether a neighbour is plain enough to be named in a filter."""
    if not re.fullmatch(r"[A-Za-z_]\w*", key):
        return False
    if isinstance(value, bool):
        return True
    return isinstance(value, str) and 1 <= len(value) <= 40 and not {"'", "\\"} & set(value)


def _lists(
    answers: Answers, i: int, value: str, forms: dict[str, Decoding], text: str
) -> Iterator[tuple[Capture, str, str]]:
    """One of several alike: of a JSON list, of elements of a kind, of links of a kind."""
    for path, _ in answers.json_leaves(i).get(value, ())[:6]:
        tells = " ".join(re.findall(r"[A-Za-z_][\w-]*", path)[-2:])
        for match in list(re.finditer(r"\[\d+\]", path))[::-1]:
            wide = path[: match.start()] + "[*]" + path[match.end() :]
            yield Capture(name="v", json=wide, pick="random"), f"json {wide}", tells
    for node, attribute in answers.marks(i).get(value, ())[:4]:
        for selector in [
            *own_selectors(node, attribute),
            f"{node.parent.tag} > {node.tag}" if node.parent is not None else "",
        ]:
            if selector and (
                "[type=" in selector
                or (node.tag in ("input", "button", "option") and "[name=" not in selector)
            ):
                continue  # all hidden fields of a page are no list
            if selector:
                form = CssForm(selector=selector, attribute=attribute)
                yield (
                    Capture(name="v", css=form, pick="random"),
                    f"element {selector}",
                    told_by(node, attribute),
                )
    for at in places(text, value, 3):
        lead = re.search(r"[\w-]+=[\"'][^\"'\s]*[/=?&]\Z", text[max(0, at - 120) : at])
        if lead:
            pattern = re.escape(lead.group(0)) + "([^\"'/?&#]+)"
            tells = " ".join(re.findall(r"[A-Za-z_][\w-]*", lead.group(0))[-1:])
            place = f"link after {lead.group(0)!r}"
            yield Capture(name="v", regex=RegexForm(pattern=pattern)), place, tells
            yield Capture(name="v", regex=RegexForm(pattern=pattern), pick="random"), place, tells
