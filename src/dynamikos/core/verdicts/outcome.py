"""The verdict of a run from its totals: objectives, and whether the measurement itself is valid."""

from collections.abc import Sequence

import msgspec

from dynamikos.core.frozen import FrozenRun
from dynamikos.core.objectives import Judgement, judge
from dynamikos.core.profiles import measured_part_s, peak
from dynamikos.core.reports import Ledger, Row

MET, MISSED, COULD_NOT_RUN, NOT_VALID, STOPPED = 0, 1, 2, 3, 4
LATE_SHARE = 0.02


class Outcome(msgspec.Struct, frozen=True, kw_only=True):
    """`doubts` say why the measurement is not valid; `exit_code` as in docs/run-command.md."""

    ended: str
    from_s: float
    to_s: float
    rows: list[Row]
    judgements: list[Judgement]
    doubts: list[str]
    sent: int
    answered: int
    failed: int
    in_flight: int
    late_share: float
    peak_users: int
    planned_peak: int
    exit_code: int

    @property
    def sentence(self) -> str:
        """The verdict in one sentence."""
        missed = [each for each in self.judgements if each.word == "missed"]
        if self.exit_code == STOPPED:
            return f"The run was {self.ended} by hand, so it is not judged."
        if missed:
            also = " The measurement is not fully valid either." if self.doubts else ""
            return f"{len(missed)} of {len(self.judgements)} objectives missed: {'; '.join(each.sentence for each in missed)}.{also}"
        if self.doubts:
            return f"The measurement is not valid, for {len(self.doubts)} reason{'s' if len(self.doubts) > 1 else ''}."
        if not self.judgements:
            return "The run has no objectives, so there is nothing to meet or miss."
        return f"All {len(self.judgements)} objectives met."


def conclude(
    frozen: FrozenRun,
    window: Ledger,
    whole: Ledger,
    *,
    ended: str,
    in_flight: int,
    peak_users: int,
    lost: Sequence[str] = (),
    expected_seconds: int = 0,
) -> Outcome:
    """The outcome of a run.

    `window` holds the measured part, `whole` everything (for counters and health); `lost` names generators that were lost.
    """
    from_s, to_s = measured_part_s(frozen.plan.profile)
    names = {step.step: step.name for _, step in frozen.journey.steps()}
    judgements = []
    for objective in frozen.plan.objectives:
        total = window.all_of("step", objective.step)
        judgements.append(judge(objective, total.passed, total.moments, total.failures, step_name=names.get(objective.step or "")))
    planned = peak(frozen.plan.profile)
    late = whole.late_seconds / whole.seconds if whole.seconds else 0.0
    doubts = [f"The generator {name} was lost, so its users and figures are missing from then on." for name in lost]
    doubts.extend(
        f"{number:,} time{'s' if number > 1 else ''} a user left because {why}; from then on there were fewer than planned."
        for why, number in sorted(whole.retired.items()) if "used up" in why or "no rows" in why
    )  # fmt: skip
    own = ended.startswith("stopped: ")
    if own:
        doubts.append(f"The run stopped by its own rules: {ended[9:]}.")
    kinds = {kind for each in ("request", "embedded", "token", "item", "repeat") for kind in window.all_of(each).failed}
    if kinds and not window.all_of("step").passed.n:
        one = f"every failure is “{next(iter(kinds))}”" if len(kinds) == 1 else f"{len(kinds)} kinds of failures"
        doubts.append(
            f"Nothing passed: {one}. This is the script, the address or the sign-in, not the server's speed; rehearse the journey."
        )
    if late > LATE_SHARE:
        doubts.append(f"Generators were late in {100 * late:.0f} % of all seconds: they, not the target, may have set the figures.")
    doubts.extend(f"Not judged: {each.sentence} ({each.reason})." for each in judgements if each.word == "not judged")
    if peak_users < planned and ended == "finished":
        doubts.append(f"Only {peak_users} of {planned} planned users were there at once.")
    if ended != "finished" and not own:
        code = STOPPED if ended.startswith("stopped") else COULD_NOT_RUN
    elif any(each.word == "missed" for each in judgements):
        code = MISSED
    elif doubts:
        code = NOT_VALID
    else:
        code = MET
    return Outcome(
        ended=ended,
        from_s=from_s,
        to_s=to_s,
        rows=window.rows(to_s - from_s),
        judgements=judgements,
        doubts=doubts,
        sent=whole.sent,
        answered=whole.answered,
        failed=whole.failed,
        in_flight=in_flight,
        late_share=late,
        peak_users=peak_users,
        planned_peak=planned,
        exit_code=code,
    )
