"""What each capture of a strand takes from each recording: kept with the search, so that nobody
computes it again.
"""

from collections.abc import Sequence

from msgspec.structs import replace

from dynamikos.core.captures import compile_capture
from dynamikos.core.correlation.align import align
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.model import Strand, Taken
from dynamikos.core.exchanges import Exchange

LONGEST = 400  # characters of a taken value that are kept


class Places:
    """Where the answers of the first recording's exchanges are in all recordings."""

    def __init__(self, recordings: Sequence[Sequence[Exchange]]) -> None:
        self._answers = [Answers(each, range(len(each))) for each in recordings]
        first = recordings[0] if recordings else ()
        self._positions = {
            (each.entry if each.entry >= 0 else i): i for i, each in enumerate(first)
        }
        self._aligned = [
            {i: i for i in range(len(first))},
            *(align(first, each) for each in recordings[1:]),
        ]

    def of(self, strand: Strand) -> list[tuple[int, Answers, int]]:
        """(number of the recording, its answers, position) of the answer a strand is issued in, in
        each recording that has it.
        """
        position = self._positions.get(strand.origin.entry) if strand.origin is not None else None
        if position is None:
            return []
        return [
            (number, self._answers[number], there[position])
            for number, there in enumerate(self._aligned)
            if position in there
        ]


def with_proofs(
    strands: Sequence[Strand], recordings: Sequence[Sequence[Exchange]]
) -> list[Strand]:
    """The strands with what each of their captures takes from each recording. Its captures are
    valid ones.
    """
    places = Places(recordings)
    return [_with_proof(strand, places) if strand.captures else strand for strand in strands]


def _with_proof(strand: Strand, places: Places) -> Strand:
    views = [(number, answers.view(at)) for number, answers, at in places.of(strand)]
    proofs = []
    for capture in strand.captures:
        take = compile_capture(capture)
        proof = []
        for number, view in views:
            value = take(view)
            wanted = strand.values[number] if number < len(strand.values) else None
            right = None if wanted is None or capture.pick == "random" else value == wanted
            proof.append(
                Taken(
                    recording=number,
                    value=value[:LONGEST] if value is not None else None,
                    right=right,
                )
            )
        proofs.append(tuple(proof))
    return replace(strand, proofs=tuple(proofs))
