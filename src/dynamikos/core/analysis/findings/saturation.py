"""A resource that ran full, for a tenth of the measured part at least, of which nothing more could
be had.
"""

from collections.abc import Iterator

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Found

FULL = 95.0


def saturation(evidence: Evidence) -> Iterator[Found]:
    """A resource that ran full, for a tenth of the measured part at least, of which nothing more
    could be had.
    """
    begin, end = evidence.measured
    if end - begin < 20:
        return
    full = []
    for each in evidence.measures:
        if (
            each.unit != "%"
            or each.is_host
            or not any(w in each.name for w in ("util", "busy", "used", "cpu", "proc"))
        ):
            continue
        part = each.trace[begin:end]
        known = part[~np.isnan(part)]
        if len(known) < 10:
            continue
        smooth = np.convolve(known, np.ones(5) / 5, "valid")
        share = float((smooth >= FULL).mean()) if len(smooth) else 0.0
        if share >= 0.1:
            full.append((share, each))
    for share, each in sorted(full, key=lambda pair: -pair[0])[:2]:
        first = int(np.flatnonzero(np.nan_to_num(each.trace) >= FULL)[0])
        yield Found(
            rule="saturation",
            about="target",
            sentence=f"{each.name} ran full: at {FULL:.0f} % or more in {100 * share:.0f} % of the "
            "measured part,"
            f" first at second {first}.",
            means="Nothing more can be had of it; whoever comes waits.",
            try_="Give it more servers, or make what it does cheaper; then run the same again.",
            evidence={"mean": f"{np.nanmean(each.trace[begin:end]):.0f} %"},
            window=(begin, end),
        )
