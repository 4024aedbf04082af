"""The one table of states: how an objective and how a run came out, as words and as exit codes.

An objective is *met*, *close* (met by less than 10 % of its limit), *not decided* (the samples are too few to tell it
from chance), *missed* or *not judged* (something else than the target may have decided it). A run is *met*, *missed*,
*not judged* or *stopped*; *doubted* stands beside that, with its reason.
"""  # noqa: E501

from collections.abc import Iterable
from typing import Literal

from dynamikos.core.objectives import Judgement
from dynamikos.core.plans.model import Undecided

State = Literal["met", "missed", "could not run", "not judged", "stopped"]
MET, MISSED, COULD_NOT_RUN, NOT_JUDGED, STOPPED = 0, 1, 2, 3, 4  # exit codes
WORDS: dict[int, State] = {
    MET: "met",
    MISSED: "missed",
    COULD_NOT_RUN: "could not run",
    NOT_JUDGED: "not judged",
    STOPPED: "stopped",
}
WORST = (COULD_NOT_RUN, MISSED, NOT_JUDGED, STOPPED, MET)  # of the runs of a set
FORM_1 = {"not judged": "not valid"}  # what webhooks of form 1 say


def code_of(judgements: Iterable[Judgement], undecided: Undecided, *, is_turned: bool) -> int:
    """MISSED, NOT_JUDGED or MET by those that decide. One that is not decided counts as the plan
    says. `is_turned`: a doubt about the whole measurement, which makes *met* unsure and leaves
    *missed* as it is.
    """
    codes = {MET}
    for each in judgements:
        if not each.decides:
            continue
        if each.word == "missed":
            codes.add(MISSED)
        elif each.word == "not judged":
            codes.add(NOT_JUDGED)
        elif each.word == "not decided":
            is_over = each.side == "over"
            by = {
                "measured": MISSED if is_over else MET,
                "pass": MET,
                "fail": MISSED,
                "inconclusive": NOT_JUDGED,
            }
            codes.add(by[undecided])
    if is_turned:
        codes.add(NOT_JUDGED)
    return min(codes, key=WORST.index)
