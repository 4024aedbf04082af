"""What a person typed: it is never issued, however often the application echoes it."""

import re
from collections.abc import Sequence

from dynamikos.core.correlation import value_shapes
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.found import Found
from dynamikos.core.correlation.sites import Site

WORDY = re.compile(r"[^\W\d_]+(?:['’.,;:!?&-]*[\s_+.,;:!?-]+[^\W\d_]+)*[.,;:!?]*\Z")
PROSE = re.compile(r"[^\W\d_]{2,}[.,;:!?]?(?:\s+[\w'’().,;:!?-]+)+\Z")


def lexicons(found: Sequence[Found], visible: set[str], count: int) -> list[set[str]]:
    """For each recording, the words of the values sent in fields that people fill in."""
    made: list[set[str]] = [set() for _ in range(count)]
    for each in found:
        if any(typed_site(site, visible) for site in each.sites):
            for words, value in zip(made, each.values, strict=True):
                if value:
                    words.update(word.casefold() for word in re.findall(r"[^\W\d_]+", value))
    return made


def typed_site(site: Site, visible: set[str]) -> bool:
    """A field that people see and fill in: one of a page, or (where scripts make the fields) one
    that is named so or holds prose.
    """
    if site.coding not in ("", "part") or site.place.startswith(("header", "path")):
        return False
    if site.coding == "part":  # a word of a longer text: as that text
        return field_of(site.outer or site.place) in visible
    return site.name in visible or (
        not value_shapes.secret_name(site.name)
        and (
            value_shapes.typed_name(site.name)
            or (bool(PROSE.match(site.value)) and " " in site.value)
        )
    )


def field_of(place: str) -> str:
    return re.sub(r"\A(form|field|query|json \$\.?) ?|, .*\Z| \(\d+\)\Z", "", place)


def typed_words(each: Found, visible: set[str], said: Sequence[set[str]]) -> str:
    """Why a value is a person's words and not the server's, "" if it may be the server's.

    Only what differs between the recordings counts, and only letters: sent in a field that people
    fill in, or typed elsewhere in the same recording, or one word of a longer text. What looks made
    by a machine, or holds a digit, is left to the order of events.
    """
    values = [value for value in each.values if value]
    own = _own_words(values)
    if not all(own) or any(value_shapes.generated(value) for value in values):
        return ""
    if not all(word.isalpha() for words in own for word in words):
        return ""
    prose = all(WORDY.match(value) for value in values)
    if prose and any(typed_site(site, visible) for site in each.sites):
        return (
            "is made of words and sent in a field that people fill in: the answers that hold it "
            "list or echo it"
        )
    heard = [lexicon for lexicon, value in zip(said, each.values, strict=True) if value]
    if all(set(words) <= lexicon for words, lexicon in zip(own, heard, strict=True)):
        return (
            "what differs in it are words that a person typed in the same recording: the answers "
            "that hold it list or echo them"
        )
    if prose and all(site.coding == "part" for site in each.sites):
        return "is a plain word of a longer text"
    return ""


def _own_words(values: Sequence[str]) -> list[list[str]]:
    """Of each recording's value the words that not all have, in lower case."""
    words = [re.findall(r"[^\W_]+", value) for value in values]
    same = set.intersection(*map(set, words))
    return [[word.casefold() for word in some if word not in same] for some in words]


def mark_echoes(wanted: Sequence[Found], found: Sequence[Found], visible: set[str]) -> None:
    """A field that people see, sent with what it held before (33 as 33.0), was typed then and is
    only filled in now.
    """
    before: dict[tuple[str, str], int] = {}
    for each in found:
        for site in each.sites:
            if site.name in visible:
                key = site.name, value_shapes.as_number(each.value)
                before[key] = min(site.entry, before.get(key, site.entry))
    for each in wanted:
        seen = [
            before[site.name, value_shapes.as_number(each.value)]
            for site in each.sites
            if site.name in visible
        ]
        if seen and min(seen) < each.first and not value_shapes.generated(each.value):
            each.sent_before = min(seen)


def mark_words(
    wanted: Sequence[Found], said: Sequence[set[str]], visible: set[str], main: Answers
) -> None:
    """Gives what is made of a person's words its kind and reason; where a redirect leads to is the
    server's.
    """
    for each in wanted:
        if not each.differs or all(main.followed(site.entry) for site in each.sites):
            continue
        why = typed_words(each, visible, said)
        if why:
            each.kind = "typed"
            each.reasons.append(why)


def visible_fields(main: Answers) -> set[str]:
    """Names of the fields that people see and fill in."""
    names: set[str] = set()
    for i in main.ours:
        view = main.view(i)
        if (
            main.final(i) != i
            or "html" not in view.content_type.lower()
            or not (b"<input" in view.body or b"<textarea" in view.body)
        ):
            continue
        for node in view.html().css("input[name], textarea[name]"):
            if (node.attributes.get("type") or "text").lower() in (
                "text",
                "email",
                "password",
                "search",
                "tel",
                "number",
                "date",
                "url",
                "time",
            ):
                names.add(str(node.attributes.get("name")))
    return names


def mark_typed(each: Found, visible: set[str]) -> None:
    if each.kind == "constant" and any(name in visible for name in each.names):
        each.kind = "typed"
        each.reasons.insert(0, "is in a field that people see and fill in")
