"""What a search finds: strands, their origin, capture and uses."""

from typing import Literal

import msgspec

from dynamikos.core.captures import Capture, described
from dynamikos.core.forms import VersionedCodec

Kind = Literal["issued", "client-made", "typed", "constant"]


class Origin(msgspec.Struct, frozen=True, kw_only=True):
    """Where a value first appears in an answer: index of the exchange in its file, and the place in
    words.
    """

    entry: int
    place: str


class Use(msgspec.Struct, frozen=True, kw_only=True):
    """Where a value is sent. `coding` says how it is wrapped there ("" as it is), `context` is the
    text around it; one that is not `sure` may hold it by chance. `at` is the position of the
    exchange in the recording, -1 where a search did not say it yet.
    """

    entry: int
    place: str
    coding: str = ""
    context: str = ""
    sure: bool = True
    at: int = -1


class Taken(msgspec.Struct, frozen=True, kw_only=True):
    """What a capture takes from a recording (its number in the search); `right`: whether it is what
    was sent there, None where there is nothing to compare with.
    """

    recording: int
    value: str | None
    right: bool | None


class Strand(msgspec.Struct, frozen=True, kw_only=True):
    """A value with its path through the journey.

    `value` is as sent in the first recording; `score` 0…1; `proven`: the capture yields the right
    value in every recording that has the exchange. `followed`: only sent where a redirect leads to,
    so nothing is to be replaced. `captures` are the forms that work, the simplest first, `proofs`
    what each of them takes from each recording. `pattern` describes a client-made or a computed
    value; of a computed one `made_by` is the inside of its hole, with `{0}` and `{1}` for the
    values that are sent at `made_from`. `doubt`: it comes, or may come, from something that is
    not replayed.
    """

    name: str
    value: str
    kind: Kind
    score: float
    proven: bool
    reasons: tuple[str, ...]
    origin: Origin | None = None
    captures: tuple[Capture, ...] = ()
    uses: tuple[Use, ...] = ()
    pattern: str = ""
    values: tuple[str | None, ...] = ()
    followed: bool = False
    made_by: str = ""
    made_from: tuple[Use, ...] = ()
    proofs: tuple[tuple[Taken, ...], ...] = ()
    doubt: str = ""

    @property
    def varies(self) -> bool:
        """Whether another recording sent another value in its place, and went on."""
        return any(value is not None and value != self.value for value in self.values[1:])

    @property
    def has_evidence(self) -> bool:
        """Whether *Accept all proven* takes it: the server issues it and its capture was proven, or
        the client makes it and the application was seen to accept another one.
        """
        if self.kind == "issued":
            return self.proven
        return self.kind == "client-made" and self.varies and not self.doubt

    @property
    def capture(self) -> Capture | None:
        return self.captures[0] if self.captures else None


STRANDS: VersionedCodec[list[Strand]] = VersionedCodec("list of strands", list[Strand])


class Rule(msgspec.Struct, frozen=True, kw_only=True):
    """Always treat a value of this name so: as `kind`; `ignore` leaves it out of what is
    offered.
    """

    name: str
    kind: Kind = "issued"
    ignore: bool = False


def as_document(strand: Strand) -> dict[str, object]:
    """A strand as plain values (docs/strands.md)."""
    form, expression = described(strand.capture) if strand.capture is not None else ("", "")
    return {
        "name": strand.name,
        "value": strand.value,
        "kind": strand.kind,
        "score": strand.score,
        "proven": strand.proven,
        "reasons": list(strand.reasons),
        "origin": {"entry": strand.origin.entry, "place": strand.origin.place}
        if strand.origin is not None
        else None,
        "capture": {"form": form, "expression": expression} if form else None,
        "uses": [{"entry": use.entry, "place": use.place} for use in strand.uses],
    }
