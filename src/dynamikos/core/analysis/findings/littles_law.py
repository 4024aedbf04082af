"""N = X·(R + Z) over steady stretches, from rounds: a mismatch is about the measurement."""

from collections.abc import Iterator

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Found


def littles_law(evidence: Evidence) -> Iterator[Found]:
    """N = X·(R + Z) over steady stretches, from rounds: a mismatch is about the measurement."""
    loads = [crowd.load for crowd in evidence.frozen.crowds]
    if any(
        load.is_open or load.rounds_each is not None or load.pacing_s is not None for load in loads
    ):
        return
    round_s = evidence.round_s()
    for begin, end in evidence.steady():
        if (
            round_s <= 0
            or end - begin < 10 * round_s
            or (
                evidence.measured != (begin, end)
                and not (evidence.measured[0] <= begin and end <= evidence.measured[1])
            )
        ):
            continue
        passed, failed, total_s = evidence.rounds(begin, end)
        if passed + failed < 30 or passed < 0.98 * (passed + failed):
            continue
        n = float(np.nanmean(evidence.users[begin:end]))
        by_law = total_s / (end - begin)
        error = abs(by_law - n) / n if n else 0.0
        # rounds at the edges are counted whole: one of each user, at most
        if error > 0.05 + 2 * round_s / (end - begin) / np.sqrt(max(1.0, n)) and n >= 5:
            yield Found(
                rule="littles-law",
                about="measurement",
                sentence=f"Users, throughput and times don't agree by {100 * error:.0f} %: {n:.1f} "
                "users were there,"
                f" and rounds a second times their length make {by_law:.1f}.",
                means="Something was not measured, or users waited where nobody looked.",
                try_="Look for late generators, for rounds that were cut off, for pauses after "
                "failed rounds.",
                window=(begin, end),
            )
            return
