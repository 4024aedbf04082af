"""Probes: sources of server-side measures that are read during a run.

Never reads anything itself: the engine does. Start reading at `model`.
"""

from dynamikos.core.probes.model import Host, Probe, probe_problems
from dynamikos.core.probes.samples import Measured, Reader, wants

__all__ = ["Host", "Measured", "Probe", "Reader", "probe_problems", "wants"]
