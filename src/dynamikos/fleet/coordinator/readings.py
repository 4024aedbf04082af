"""What probes read while a run goes on: told to whoever watches it, and to what judges it."""

import msgspec

from dynamikos.core.verdicts import Watching
from dynamikos.fleet.coordinator.stream import say
from dynamikos.web.runs.models import Reading, Remark, Run


class Readings:
    """Of one run; what was there before it was looked at was told by the page."""

    def __init__(self, run: Run) -> None:
        self._run = run
        self._measures: dict[int, tuple[str, str]] = {}  # probe and name of each that was asked for
        newest = Reading.objects.filter(run=run).order_by("-id").values_list("id", flat=True)
        remarked = Remark.objects.filter(run=run).order_by("-id").values_list("id", flat=True)
        self._reading, self._remark = newest.first() or 0, remarked.first() or 0

    def tell(self, watching: Watching) -> None:
        """What the prober wrote since: (second, values by number of the measure), and remarks."""
        run = self._run
        new = Reading.objects.filter(run=run, id__gt=self._reading).order_by("id")
        for reading in new[:300]:
            self._reading = reading.pk
            body = msgspec.json.encode([reading.second, reading.values]).decode()
            say(run.pk, "probes", body)
            if watching.sources:
                self._judge(reading, watching)
        for remark in Remark.objects.filter(run=run, id__gt=self._remark).order_by("id"):
            self._remark = remark.pk
            say(run.pk, "remark", msgspec.json.encode([remark.second, remark.text]).decode())

    def _judge(self, reading: Reading, watching: Watching) -> None:
        """What objectives are about."""
        if any(int(no) not in self._measures for no in reading.values):
            self._measures = {e.no: (e.probe, e.name) for e in self._run.measures.all()}
        for no, value in reading.values.items():
            source = self._measures.get(int(no))
            if source is not None:
                watching.read(*source, reading.second, value)
