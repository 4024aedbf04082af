"""Errors that begin at a load: none, or hardly any, below it."""

from collections.abc import Iterator

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Found, name_of


def at_a_load(evidence: Evidence) -> Iterator[Found]:
    """Errors that begin at a load: none, or hardly any, below it."""
    users, width = evidence.users, evidence.width
    for line in evidence.requests():
        n = len(line.passed)
        levels = np.array(
            [
                np.nanmean(users[at * width : (at + 1) * width])
                if at * width < len(users)
                else np.nan
                for at in range(n)
            ]
        )
        order = np.argsort(levels, kind="stable")
        order = order[~np.isnan(levels[order])]
        failed, every = np.cumsum(line.failed[order]), np.cumsum((line.passed + line.failed)[order])
        if not len(order) or failed[-1] < 20 or every[-1] < 500:
            continue
        first = int(np.searchsorted(failed, max(1.0, 0.02 * failed[-1])))
        below, level = every[first], float(levels[order[first]])
        above = every[-1] - below
        if below < 500 or above < 50 or level < 1.3 * max(1.0, float(levels[order[0]])):
            continue
        share = (failed[-1] - failed[first]) / above
        expected = failed[-1] / every[-1] * below
        if share < 0.01 or expected < 20:
            continue
        yield Found(
            rule="errors-at-a-load",
            about="target",
            sentence=f"{name_of(line.series)} begins to fail at about {level:.0f} users: "
            f"{100 * share:.2g} % above,"
            f" {failed[first]:.0f} of {below:,.0f} below.",
            means="Something runs out at that load: connections, threads, a queue with a limit.",
            try_="Look at limits of pools and queues; run stairs around that load.",
            journey=line.series.journey,
            step=line.series.step,
            request=line.series.request,
        )
