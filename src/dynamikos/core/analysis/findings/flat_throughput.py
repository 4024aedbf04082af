"""Users rise and throughput does not."""

from collections.abc import Iterator

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Found
from dynamikos.core.figures import short


def flat_throughput(evidence: Evidence) -> Iterator[Found]:
    """Users rise and throughput does not."""
    users, rate = evidence.users, evidence.rate
    most = float(np.nanmax(users)) if len(users) else 0.0
    if most < 10 or evidence.is_arriving():
        return

    def near(share: float) -> tuple[float, float, int]:
        inside = np.abs(users - share * most) <= 0.07 * most
        return (
            float(np.nanmean(users[inside])) if inside.any() else 0.0,
            (float(np.nanmean(rate[inside])) if inside.any() else 0.0),
            int(inside.sum()),
        )

    half_users, half_rate, half_n = near(0.6)
    full_users, full_rate, full_n = near(1.0)
    if min(half_n, full_n) < 15 or half_rate <= 0:
        return
    grown, wanted = full_rate / half_rate, full_users / half_users
    error = 2 * np.sqrt(1 / max(1.0, half_rate * half_n) + 1 / max(1.0, full_rate * full_n))
    if grown > 1 + 0.15 * (wanted - 1) - error:
        return
    yield Found(
        rule="flat-throughput",
        about="target",
        sentence=f"From {half_users:.0f} to {full_users:.0f} users throughput went from "
        f"{short(half_rate)} to"
        f" {short(full_rate)} exchanges/s: the limit is reached.",
        means="More users only wait longer.",
        try_="Look which resource ran full; what it can carry stands under capacity.",
    )
