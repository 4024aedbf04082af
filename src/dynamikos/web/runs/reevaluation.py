"""Judges a run that is over anew, with other objectives; what was judged at first stays."""

from collections.abc import Sequence

from django.utils import timezone
from msgspec import to_builtins
from msgspec.structs import replace

from dynamikos.core.errors import PlanError
from dynamikos.core.frozen import every_series
from dynamikos.core.objectives import Judgement, Objective
from dynamikos.core.plans import plan_problems
from dynamikos.core.reports import Ledger, SeriesSecond, ShardSecond
from dynamikos.core.verdicts import Watching, judgements_of
from dynamikos.core.verdicts.bursts import not_for_bursts
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import measures, queries, reading
from dynamikos.web.runs.models import Run


def judged(found: Run, objectives: Sequence[Objective]) -> list[Judgement]:
    """By what is folded of the run. Raises PlanError for objectives about what it has not."""
    inputs = queries.as_run(found, queries.frozen(found))
    inputs = replace(inputs, plan=replace(inputs.plan, objectives=tuple(objectives)))
    wrong = [
        each for each in plan_problems(inputs.plan, inputs.journeys) if each.startswith("Objective")
    ]
    if wrong:
        raise PlanError("\n".join(wrong))
    series = every_series(inputs)
    begin, end = map(int, inputs.measured)
    end = min(end, found.watermark + 1)
    besides = {
        each.second: each for each in reading.besides(found, 0, found.watermark + queries.LATER_S)
    }
    seconds: dict[int, list[SeriesSecond]] = {}
    for second, part in reading.fine_parts(
        found, [each.no for each in series], 0, found.watermark + 1
    ):
        seconds.setdefault(second, []).append(part)
    watching, ledger, calm = Watching(inputs), Ledger(series), Ledger(series)
    bursts = frozenset(
        (found.outcome or {}).get("bursts", ())
    )  # as the generators told of them in the run
    for second in range(found.watermark + 1):
        beside = besides.get(second)
        message = ShardSecond(shard=0, second=second, series=seconds.get(second, []))
        if beside is not None:
            message.judged, message.missed = beside.judged, beside.missed
            message.carried, message.open = beside.carried, beside.open
        watching.add(second, [message])
        ledger.add(message, totals=begin <= second < end)
        ledger.carry(message)
        if bursts:
            calm.add(message, totals=begin <= second < end and second not in bursts)
            calm.carry(message)
    told, lasted = measures.readings_of(found, inputs), max(0, end - begin)
    made = judgements_of(
        inputs, ledger, lasted, watching.marks, readings=told, chances=watching.chances(end)
    )
    if not bursts:
        return made
    without = judgements_of(inputs, calm, lasted - len(bursts), watching.marks, readings=told)
    return not_for_bursts(made, without, len(bursts))


def judge_anew(member: Membership, found: Run) -> list[Judgement]:
    """With the objectives that its plan has now. Raises PlanError."""
    require(member, "engineer")
    if not found.is_over or found.watermark < 0:
        raise PlanError(
            f"Run {found.number} is not over, or nothing came of it; there is nothing to judge "
            "anew."
        )
    if found.plan is None:
        raise PlanError(
            "The plan of this run was deleted: make one of its inputs first, and change that."
        )
    from dynamikos.web.plans.queries import content

    made = judged(found, content(found.plan).objectives)
    found.rejudged = {
        "at": timezone.now().isoformat(),
        "by": member.account.username,
        "judgements": [to_builtins(each) for each in made],
    }
    found.save(update_fields=["rejudged"])
    note(member, "run judged anew", f"run {found.number}")
    return made
