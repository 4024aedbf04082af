"""Rows of the crowd that do the same and don't get it alike."""

import math
from collections.abc import Iterator

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Found, milliseconds, name_of
from dynamikos.core.analysis.findings.samples import SAMPLES


def rows_differ(evidence: Evidence) -> Iterator[Found]:
    """Rows of the crowd that do the same and don't get it alike."""
    begin, end = evidence.measured
    where = evidence.places(begin, end)
    alike: dict[tuple[str, str], list[tuple[str, float, float, int]]] = {}
    for line in evidence.by_row:
        logs = np.log(line.mean_ms()[where])
        known = logs[~np.isnan(logs)]
        n = int(line.passed[where].sum())
        if n >= SAMPLES and len(known) >= 20:
            error = float(known.std(ddof=1)) / math.sqrt(len(known))
            alike.setdefault((line.series.journey, line.series.step), []).append(
                (line.series.row, float(known.mean()), error, n)
            )
    names = {(each.series.journey, each.series.step): each.series for each in evidence.by_row}
    for key, rows in alike.items():
        if len(rows) < 2:
            continue
        low, high = min(rows, key=lambda row: row[1]), max(rows, key=lambda row: row[1])
        ratio = math.exp(high[1] - low[1])
        z = (high[1] - low[1]) / math.hypot(high[2], low[2]) if high[2] or low[2] else math.inf
        if ratio < 1.3 or math.erfc(z / math.sqrt(2)) > 1e-5 / max(1, len(alike)):
            continue
        yield Found(
            rule="rows-differ",
            about="target",
            sentence=f"{name_of(names[key])} takes {ratio:.1f} times as long for {evidence.names.get(high[0], high[0])}"
            f" as for {evidence.names.get(low[0], low[0])}.",
            means="The rows differ by their persona, their data or what the server does for them.",
            try_="Compare the two rows; look at lines, client headers and data first.",
            evidence={evidence.names.get(low[0], low[0]): milliseconds(math.exp(low[1])),
                      evidence.names.get(high[0], high[0]): milliseconds(math.exp(high[1]))},
            window=(begin, end),
            journey=key[0],
            step=key[1],
        )  # fmt: skip
