"""Values that are digests of others, or of the body they are sent with: a challenge of a verifier
(RFC 7636), a checksum, a signature by HMAC.

A digest can't be met by chance: one recording is enough, and what it is computed from may be sent
later (a verifier is sent after its challenge). All digests of all values are looked up in one
table, so that the work grows with the number of values, not with its square; only keys of HMACs are
tried in pairs, with the nearest values.
"""

import base64
import hashlib
import hmac
import re
from collections.abc import Callable, Iterator, Sequence
from itertools import permutations
from typing import NamedTuple

from msgspec.structs import replace

from dynamikos.core.correlation.model import Strand, Use
from dynamikos.core.exchanges import Exchange
from dynamikos.core.values.template import OWN_BODY

ALGORITHMS = {"md5": "MD5", "sha1": "SHA-1", "sha256": "SHA-256", "sha512": "SHA-512"}
SIZES = {32, 40, 64, 128, 24, 22, 28, 27, 44, 43, 88, 86}  # signs of them in hex and base64
CORE = re.compile(
    r"(?P<before>[^=:]{1,24}(?:=:|[=:] ?))?(?P<core>[A-Za-z0-9+/_-]{22,128}={0,2}):?\Z"
)
WRITINGS: tuple[tuple[str, str, Callable[[bytes], str]], ...] = (
    ("", "", bytes.hex),
    (" in capitals", " | upper", lambda digest: digest.hex().upper()),
    (" as base64", " | base64", lambda digest: base64.b64encode(digest).decode()),
    (
        " as base64url",
        " | base64url",
        lambda digest: base64.urlsafe_b64encode(digest).decode().rstrip("="),
    ),
)
SHORTEST_KEY = 8  # signs of a key
MOST_KEYED = 40  # values that are tried as keys of others


class Made(NamedTuple):
    """How a value comes from others: as `Way` of `computed`, with the values it comes from; without
    any it comes from the body.
    """

    words: str
    expression: str
    of: tuple[Strand, ...]
    compute: Callable[..., str]


def with_digests(strands: Sequence[Strand], exchanges: Sequence[Exchange]) -> list[Strand]:
    """`strands`, those that are digests with how they are made; they and what they are made of are
    the client's. `exchanges` are the first recording's.
    """
    targets = [each for each in strands if _may_be(each)]
    if not targets:
        return list(strands)
    found = {}
    table = _table([each for each in strands if 4 <= len(each.value) <= 4000])
    keyed = None
    for target in targets:
        made = next(_made(target, table, strands), None) or _of_body(target, exchanges)
        if made is None:
            keyed = keyed if keyed is not None else _keyed(strands, targets)
            made = next(_made(target, keyed, strands), None)
        if made is not None:
            found[target.name] = made
    sources = {each.name for made in found.values() for each in made.of} - set(found)
    return [
        _told(each, found[each.name])
        if each.name in found
        else _source(each)
        if each.name in sources
        else each
        for each in strands
    ]


def _may_be(strand: Strand) -> bool:
    """Whether it looks like a digest that no answer issued."""
    core = CORE.match(strand.value)
    return core is not None and len(core["core"]) in SIZES and not strand.captures


def _table(strands: Sequence[Strand]) -> dict[str, list[Made]]:
    """By digest, as it is written, what it is made of."""
    made: dict[str, list[Made]] = {}
    for strand in strands:
        for name, title in ALGORITHMS.items():
            for words, tail, write in WRITINGS:

                def compute(text: str, name: str = name, write: Write = write) -> str:
                    return write(_digest(name, text.encode("utf-8", "surrogatepass")))

                way = Made(
                    f"the {title} of {{0}}{words}", f"{{0}} | {name}{tail}", (strand,), compute
                )
                made.setdefault(compute(strand.value), []).append(way)
    return made


Write = Callable[[bytes], str]


def _keyed(strands: Sequence[Strand], targets: Sequence[Strand]) -> dict[str, list[Made]]:
    """By HMAC, as it is written, what it is made of: {0} with the key {1}."""
    made: dict[str, list[Made]] = {}
    skipped = {each.name for each in targets}
    sources = [e for e in strands if e.name not in skipped and 4 <= len(e.value) <= 4000]
    for text, key in permutations(sources[:MOST_KEYED], 2):
        if len(key.value) < SHORTEST_KEY:
            continue
        for name, title in ALGORITHMS.items():
            for words, tail, write in WRITINGS:

                def compute(text: str, key: str, name: str = name, write: Write = write) -> str:
                    octets = text.encode("utf-8", "surrogatepass")
                    secret = key.encode("utf-8", "surrogatepass")
                    return write(hmac.new(secret, octets, name).digest())

                way = Made(
                    f"the HMAC by {title} of {{0}}, with the key {{1}}{words}",
                    f"{{0}} | hmac({{1}}, '{name}'){tail}",
                    (text, key),
                    compute,
                )
                made.setdefault(compute(text.value, key.value), []).append(way)
    return made


def _made(
    target: Strand, table: dict[str, list[Made]], strands: Sequence[Strand]
) -> Iterator[Made]:
    """The ways that give it in every recording that has what it takes."""
    core = CORE.match(target.value)
    assert core is not None
    at = target.value.find(core["core"])
    before, after = target.value[:at], target.value[at + len(core["core"]) :]
    for way in table.get(core["core"], ()):
        if target in way.of or not _is_plain(before + after):
            continue
        rows = zip(target.values, *(each.values for each in way.of), strict=False)
        whole = [row for row in rows if all(row)]
        if all(
            f"{before}{way.compute(*(text or '' for text in of))}{after}" == mine
            for mine, *of in whole
        ):
            yield way._replace(expression=_framed(before, way.expression, after))


def _of_body(target: Strand, exchanges: Sequence[Exchange]) -> Made | None:
    """Where each request that sends the value sends the digest of its own body."""
    if any(use.place.startswith(("form", "field", "json", "body", "path")) for use in target.uses):
        return None
    by_entry = {(e.entry if e.entry >= 0 else at): e for at, e in enumerate(exchanges)}
    bodies = {by_entry[use.entry].sent.body for use in target.uses if use.entry in by_entry}
    core = CORE.match(target.value)
    if len(bodies) != 1 or core is None or not (body := bodies.pop()):
        return None
    before, _, after = target.value.partition(core["core"])
    for name, title in ALGORITHMS.items():
        for words, tail, write in WRITINGS:
            if write(_digest(name, body)) == core["core"] and _is_plain(before + after):
                expression = _framed(before, f"{OWN_BODY} | {name}{tail}", after)
                return Made(f"the {title} of the request's body{words}", expression, (), str)
    return None


def _digest(name: str, octets: bytes) -> bytes:
    return hashlib.new(name, octets, usedforsecurity=False).digest()


def _is_plain(text: str) -> bool:
    return not re.search(r"['\\{}]", text)


def _framed(before: str, expression: str, after: str) -> str:
    parts = [f"'{before}'"] * bool(before) + [f"({expression})"] + [f"'{after}'"] * bool(after)
    return " ~ ".join(parts) if len(parts) > 1 else expression


def _told(strand: Strand, made: Made) -> Strand:
    words = made.words.format(*(each.name for each in made.of))
    return replace(
        strand,
        kind="client-made",
        proven=False,
        pattern=words,
        made_by=made.expression,
        made_from=tuple(first_use(each) for each in made.of),
        reasons=(*strand.reasons, f"is {words}: computed and compared in every recording"),
    )


def _source(strand: Strand) -> Strand:
    """What nobody issued and a digest of which is sent, is the client's own, too, where it looks
    random.
    """
    if (
        strand.kind != "constant"
        or strand.captures
        or len(strand.value) < 20
        or (len(set(filter(None, strand.values))) < 2 and len(strand.values) > 1)
    ):
        return strand
    said = "a digest of it is sent, and no answer holds it: the page's script makes it"
    return replace(
        strand, kind="client-made", pattern="random text", reasons=(*strand.reasons, said)
    )


def first_use(strand: Strand) -> Use:
    return min(strand.uses, key=lambda use: use.entry)
