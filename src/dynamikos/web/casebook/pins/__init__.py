"""What was pinned, looked at again: each kind of pin as its evidence."""

from collections.abc import Callable

from dynamikos.core.telling.casebook import What
from dynamikos.core.telling.evidence import Evidence
from dynamikos.web.casebook.pins import compared, pictures, runs
from dynamikos.web.casebook.pins.seen import Seen

SHOWN: dict[What, Callable[[Seen], Evidence]] = {
    "lane": runs.lane,
    "steps": runs.steps,
    "step": runs.step,
    "objective": runs.objective,
    "finding": runs.finding,
    "suspect": runs.suspect,
    "kept": runs.kept,
    "values": runs.values,
    "times": pictures.times,
    "heat": pictures.heat,
    "spent": pictures.spent,
    "load": pictures.load,
    "failures": pictures.failures,
    "capacity": pictures.capacity,
    "shot": pictures.shot,
    "comparison": compared.comparison,
    "difference": compared.difference,
    "tapes": compared.tapes,
    "spreads": compared.spreads,
    "trend": compared.trend,
}
