"""Users who left since there were no rows for them."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found


def rows_used_up(evidence: Evidence) -> Iterator[Found]:
    """Users who left since there were no rows for them."""
    for why, number in sorted(evidence.whole.retired.items()):
        if "used up" in why or "no rows" in why:
            yield Found(
                rule="data-ran-out",
                about="script",
                sentence=f"{number:,} time{'s' if number > 1 else ''} a user left because {why}.",
                means="From then on fewer users were there than planned.",
                try_="Add rows, or deal them otherwise: what follows from a plan says how many it needs.",
            )
