"""Mirrors src. Hypothesis has no deadlines here: a starved machine is no failure. It tries the same
examples each time, so that a run tells what a change did; others, by chance, with
DYNAMIKOS_OTHER_EXAMPLES in the environment.
"""

import os

from hypothesis import HealthCheck, settings

settings.register_profile(
    "calm",
    deadline=None,
    derandomize="DYNAMIKOS_OTHER_EXAMPLES" not in os.environ,
    suppress_health_check=[HealthCheck.too_slow],
)
settings.load_profile("calm")
