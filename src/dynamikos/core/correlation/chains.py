"""Chains: values that are renewed by the request that sends them, as a rotating refresh token is.

A recording shows each link as a value of its own. Played again, the next round needs the last link,
not the first one: so a chain is one name, captured wherever it is issued, also from the last
answer, whose value the recording did not send any more. What the same answers issue besides (the
access token beside the refresh token) is a chain with them.
"""

from collections.abc import Iterable, Mapping, Sequence

from msgspec.structs import replace

from dynamikos.core.captures import Capture, compile_capture
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.model import Strand
from dynamikos.core.correlation.value_shapes import generated, secret_name

Chain = list[Strand]


def chains_of(
    strands: Sequence[Strand], positions: Mapping[int, int], answers: Answers
) -> list[Chain]:
    """The chains among issued strands, their links in the order they were issued; `positions` are
    those of the recording's exchanges by entry.
    """
    issued = [each for each in strands if _is_captured(each, positions)]
    at = {each.name: _issued_at(each, positions, answers) for each in issued}
    issued.sort(key=lambda each: at[each.name])
    renewed = _renewed(issued, at, positions)
    chains = _linked(issued, renewed)
    known = {link.name for chain in chains for link in chain}
    chains += [
        [each]
        for each in issued
        if each.name not in known and _is_renewed_once(each, positions, answers)
    ]
    places = {at[link.name] for chain in chains for link in chain}
    for chain in chains:
        places.update(renewing(chain, positions, answers))
    others = [each for each in issued if each.name not in known and at[each.name] in places]
    beside = _beside(others, at, positions)
    alone = [chain for chain in chains if len(chain) == 1 and chain[0].name not in beside]
    return _linked(issued, {**beside, **renewed}) + alone


def _is_captured(strand: Strand, positions: Mapping[int, int]) -> bool:
    if strand.kind != "issued" or strand.capture is None or strand.origin is None:
        return False
    return strand.origin.entry in positions


def _renewed(
    issued: Sequence[Strand], at: Mapping[str, int], positions: Mapping[int, int]
) -> dict[str, Strand]:
    """By name of a link, the link that is issued to the last request that sends it: what is sent
    later, too, lives on beside the new one.
    """
    made = {}
    for one in issued:
        last = max((positions.get(use.entry, -1) for use in one.uses), default=-1)
        after = (e for e in issued if at[e.name] == last > at[one.name])
        following = next((each for each in after if _alike(one, each)), None)
        if following is not None:
            made[one.name] = following
    return made


def _is_renewed_once(one: Strand, positions: Mapping[int, int], answers: Answers) -> bool:
    """Whether the answer to a call that sends a value has another one in the same field of its
    JSON, which the recording did not send any more.
    """
    if one.capture is None or one.capture.json is None or not _alike(one, one):
        return False
    return bool(renewing([one], positions, answers))


def _beside(
    issued: Sequence[Strand], at: Mapping[str, int], positions: Mapping[int, int]
) -> dict[str, Strand]:
    """By name of a value, the one that takes its place where another one is renewed: after that it
    is not sent any more. All of `issued` come with a link of a chain: a form's own key on a page
    before it is none of them.
    """
    made = {}
    for one in issued:
        last = max((positions.get(use.entry, -1) for use in one.uses), default=-1)
        after = (e for e in issued if last <= at[e.name] > at[one.name])
        following = next((e for e in after if _alike(one, e) and _same_capture(one, e)), None)
        if following is not None:
            made[one.name] = following
    return made


def _issued_at(strand: Strand, positions: Mapping[int, int], answers: Answers) -> int:
    """The position of the request that a strand's value is issued to."""
    assert strand.origin is not None
    position = positions[strand.origin.entry]
    return answers.start.get(position, position)


def _linked(issued: Sequence[Strand], renewed: Mapping[str, Strand]) -> list[Chain]:
    later = {each.name for each in renewed.values()}
    chains = []
    for one in issued:
        if one.name in later or one.name not in renewed:
            continue
        chain = [one]
        while chain[-1].name in renewed and renewed[chain[-1].name] not in chain:
            chain.append(renewed[chain[-1].name])
        chains.append(chain)
    return chains


def _alike(one: Strand, other: Strand) -> bool:
    """Whether two values are sent as the same token: at a place of one name that speaks of tokens
    or in one header, and made alike. Numbers of records are none.
    """
    mine = {use.place.split(", ")[0] for use in one.uses}
    theirs = {use.place.split(", ")[0] for use in other.uses}
    named = [place.partition(" ") for place in mine & theirs]
    if not any(kind == "header" or secret_name(name) for kind, _, name in named if kind != "path"):
        return False
    return all(generated(value) and not value.isdigit() for value in (one.value, other.value))


def _same_capture(one: Strand, other: Strand) -> bool:
    assert one.capture is not None and other.capture is not None
    return replace(one.capture, name="v") == replace(other.capture, name="v")


def renewing(
    chain: Chain, positions: Mapping[int, int], answers: Answers, also: Iterable[int] = ()
) -> dict[int, Capture]:
    """(position of a request → the capture) where a chain's value is issued although the recording
    sends no value of that answer: the requests that send its links, and those of `also`.
    """
    known = {_issued_at(link, positions, answers) for link in chain}
    sent = {positions[use.entry] for link in chain for use in link.uses if use.entry in positions}
    first = min(known)
    found = {}
    for position in sorted((sent | set(also)) - known):
        if position < first or position not in answers.start or answers.followed(position):
            continue
        for link in reversed(chain):
            assert link.capture is not None
            value = compile_capture(link.capture)(answers.view(position))
            if isinstance(value, str) and value and value not in [e.value for e in chain]:
                found[position] = link.capture
                break
    return found
