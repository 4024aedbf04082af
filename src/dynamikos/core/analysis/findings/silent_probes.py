"""Probes that fell silent, and those that began late or never."""

from collections.abc import Iterator

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Found

NO_ZEROS = "What the server did then is not known; no zeros stand for it."
LATE_S, BROWSER_S = 3, 60  # that the first reading may be late: a browser has to be started


def silent_probes(evidence: Evidence) -> Iterator[Found]:
    """Those that fell silent, and those that told nothing at the begin though nobody said why."""
    for title, second, why in evidence.silent:
        yield Found(
            rule="probe-silent",
            about="measurement",
            sentence=f"The probe {title} told nothing from second {second} on: {why}",
            means=NO_ZEROS,
            try_="Try the probe from the plan; see whether the server closed its page under load.",
            window=(max(0, second - 15), second + 15),
        )
    for probe in evidence.frozen.plan.probes:
        told = [np.isfinite(each.trace) for each in evidence.measures if each.probe == probe.probe]
        first = min((int(each.argmax()) for each in told if each.any()), default=evidence.seconds)
        allowed = 2 * probe.every_s + (BROWSER_S if probe.browser else LATE_S)
        said = any(
            second <= first and title.startswith(probe.title)
            for title, second, _ in evidence.silent
        )
        if first <= allowed or said or not evidence.measures:
            continue
        whole = first >= evidence.seconds
        yield Found(
            rule="probe-late",
            about="measurement",
            sentence=f"The probe {probe.title} told nothing "
            + ("in the whole run." if whole else f"before second {first}."),
            means=NO_ZEROS,
            try_="See whether the process that reads probes was running when the run began.",
            window=(0, first),
        )
