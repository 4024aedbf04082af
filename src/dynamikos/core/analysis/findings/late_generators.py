"""The generators' own delay, where it may have decided something."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found
from dynamikos.core.figures import short
from dynamikos.core.verdicts.own import own_delay_of

PART = 0.25  # of a figure, from which on it is worth a word


def late_generators(evidence: Evidence) -> Iterator[Found]:
    """The generators' own delay, where it may have decided an objective or made a quarter of a
    step's figure.
    """
    window = evidence.ledger
    begin, end = evidence.measured
    own = own_delay_of(window.rows(float(max(1, end - begin))), window)
    if own is None or own.ms < PART * own.value_ms:
        return
    yield Found(
        rule="late-generators",
        about="measurement",
        sentence=own.sentence,
        means="A limit inside that band is not judged; all others are.",
        try_="Give the generator a machine of its own, or share the load over more of them.",
        evidence={"at least, without it": f"{short(own.value_ms - own.ms)} ms"},
    )
