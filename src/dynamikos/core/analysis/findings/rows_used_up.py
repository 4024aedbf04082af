"""Users who left since there were no rows for them."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found


def rows_used_up(evidence: Evidence) -> Iterator[Found]:
    """Users who left since there were no rows for them."""
    for each in evidence.whole.leavings:
        if each.cause == "rows":
            yield Found(
                rule="data-ran-out",
                about="script",
                sentence=f"{each.count:,} time{'s' if each.count > 1 else ''} a user left because "
                f"{each.detail}.",
                means="From then on fewer users were there than planned.",
                try_="Add rows, or deal them otherwise: what follows from a plan says how many it "
                "needs.",
            )
