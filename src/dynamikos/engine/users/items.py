"""What a user does besides sending requests: setting values, choosing, repeating, calling, writing back."""

import asyncio
from typing import Literal, Protocol

from dynamikos.core.errors import TemplateError
from dynamikos.core.values.masking import MASK
from dynamikos.core.values.numbers import as_number
from dynamikos.engine.failures import Failure
from dynamikos.engine.guard import OverBudget, bounded
from dynamikos.engine.users.compiled import CompiledStep, Item
from dynamikos.engine.users.holdings import Holdings
from dynamikos.engine.users.surroundings import Surroundings
from dynamikos.engine.users.witness import Witness

Outcome = Literal["", "step", "round"]  # passed; a step failed; what is left of the part is to be skipped
LOGS = 200  # log lines that are kept of a shard
LONGEST_PAUSE_S = 86_400.0


class Performs(Protocol):
    """Whoever performs the steps inside an item, and waits."""

    leaving: bool

    async def part(self, steps: list[CompiledStep], *, leaving: bool = False) -> Outcome: ...

    async def wait(self, instant: float) -> None: ...

    def retire(self, why: str) -> None: ...


class Items:
    """Performs the items of one user."""

    def __init__(self, own: Holdings, around: Surroundings, witness: Witness, user: Performs) -> None:
        self._own, self._around, self._witness, self._user = own, around, witness, user

    async def perform(self, step: CompiledStep, *, leaving: bool) -> Outcome:
        """What performing `step`, which is no requests, came to."""
        item = step.item
        assert item is not None
        user = self._user
        try:
            match item.kind:
                case "set":
                    for name, fill in item.pairs:
                        self._own.values[name] = bounded(fill, self._own.values)
                    self._say(step, ", ".join(f"{name} = {self._shown(name)[:200]}" for name, _ in item.pairs))
                case "pause":
                    seconds = self._seconds(item)
                    self._say(step, f"{MASK if item.secret else f'{seconds:g}'} s")
                    await user.wait(self._around.clock.now() + seconds)
                case "log":
                    assert item.told_text is not None
                    self._log(step, bounded(item.told_text, self._own.values))
                case "call":
                    await self._call(step, item)
                case "keep":
                    self._keep(step, item)
                case "repeat":
                    return await self._repeat(step, item, leaving=leaving)
                case "each":
                    return await self._each(step, item, leaving=leaving)
                case "if" | "choose":
                    return await self._branch(step, item, leaving=leaving)
        except (TemplateError, OverBudget) as problem:
            return self.failed(
                step, "over-budget" if isinstance(problem, OverBudget) else "value-missing", str(problem)
            )
        except Failure as failure:
            return self.failed(step, failure.kind, failure.detail)
        return ""

    def failed(self, step: CompiledStep, kind: str, detail: str) -> Outcome:
        """An item that can't be done is a failure of its own, and what is left of the round is skipped."""
        now = self._around.clock.now()
        if step.item is not None and step.item.secret:
            detail = "it could not be done; what it needs comes from a secret, so nothing of it is shown"
        self._around.recorder.missed(self._around.script.item_series, now, 0, kind)
        self._witness.item(step, detail, failed=kind)
        return "round"

    def _shown(self, name: str) -> str:
        return MASK if name in self._around.script.secret else self._own.values[name]

    def _say(self, step: CompiledStep, said: str) -> None:
        if self._around.keep_everything:
            self._witness.item(step, said)

    def _log(self, step: CompiledStep, text: str) -> None:
        if self._around.keep_everything or self._around.logged < LOGS:
            self._around.logged += 1
            self._witness.item(step, text)

    def _seconds(self, item: Item) -> float:
        assert item.text is not None
        text = bounded(item.text, self._own.values)
        found = as_number(text)
        if found is None or not 0 <= found <= LONGEST_PAUSE_S:
            raise TemplateError(f"“{text[:40]}” is no number of seconds from 0 to 86,400")
        return float(found)

    async def _call(self, step: CompiledStep, item: Item) -> None:
        call, functions = step.step.call, self._around.functions
        assert call is not None
        if functions is None:
            raise Failure("function", "Python functions are not performed here; they run on a generator")
        given = {name: bounded(fill, self._own.values) for name, fill in item.pairs}
        # queueing is the generator's lateness
        result = await functions.call(call.function, given, self._around.health.late)
        if call.into:
            self._own.values[call.into] = result
        told = ", ".join(f"{name}={bounded(fill, self._own.values)[:60]!r}" for name, fill in item.told)
        self._say(step, f"{call.function}({told}) → {MASK if item.secret else result[:200]}")

    def _keep(self, step: CompiledStep, item: Item) -> None:
        keep = step.step.keep
        assert keep is not None
        # a secret is never written where anybody may read it, nor what is computed from one
        mask = self._witness.mask()
        row = {name: mask.text(bounded(fill, self._own.values)) for name, fill in item.told}
        if self._around.write is not None:
            self._around.write(keep.into, row)
        told = ", ".join(f"{name} {value[:80]}" for name, value in row.items())
        self._say(step, f"{told} into {keep.into}" + ("" if self._around.write else " (written in runs only)"))

    # steps inside -------------------------------------------------------------------------------------

    async def _branch(self, step: CompiledStep, item: Item, *, leaving: bool) -> Outcome:
        user = self._user
        if item.kind == "if":
            chosen = next(
                (
                    at
                    for at, (_, holds, _) in enumerate(item.branches)
                    if holds is None or bounded(holds, self._own.values)
                ),
                None,
            )
            if chosen is None:
                self._say(step, "no condition holds")
                return ""
        else:
            weights = [branch.weight for branch, _, _ in item.branches]
            if step.step.choose == "evenly":
                chosen = self._evenly(step.step.step, weights)
            else:
                chosen = self._own.values.maker.random.choices(range(len(weights)), weights)[0]
        branch, _, steps = item.branches[chosen]
        name = branch.name or (
            f"when {branch.when}" if branch.when else "otherwise" if item.kind == "if" else f"branch {chosen + 1}"
        )
        self._say(step, name)
        return await user.part(steps, leaving=leaving)

    def _evenly(self, key: str, weights: list[float]) -> int:
        """The branch that lags most behind its share; shards begin at different places."""
        counts = self._around.turns.get(key)
        total = sum(weights)

        def one(had: list[float]) -> int:
            given = sum(had) + 1
            return max(range(len(weights)), key=lambda at: weights[at] * given / total - had[at])

        if counts is None:
            counts = self._around.turns[key] = [0.0] * len(weights)
            for _ in range(self._around.shard[0]):
                counts[one(counts)] += 1
        chosen = one(counts)
        counts[chosen] += 1
        return chosen

    async def _each(self, step: CompiledStep, item: Item, *, leaving: bool) -> Outcome:
        each, user = step.step.each, self._user
        assert each is not None and item.listed is not None
        values = bounded(item.listed, self._own.values)
        self._say(
            step,
            f"{len(values)} of {each.name}" + (f", the first {each.at_most}" if len(values) > each.at_most else ""),
        )
        worst: Outcome = ""
        for value in values[: each.at_most]:
            self._own.values[each.name] = value
            outcome = await user.part(item.steps, leaving=leaving)
            worst = outcome or worst
            if outcome == "round" or (user.leaving and not leaving):
                break
            await asyncio.sleep(0)  # steps that send nothing must not keep all others waiting
        return worst

    async def _repeat(self, step: CompiledStep, item: Item, *, leaving: bool) -> Outcome:
        rule, user, around = step.step.repeat, self._user, self._around
        assert rule is not None
        clock, recorder = around.clock, around.recorder
        most = rule.at_most
        if rule.times:
            assert item.text is not None
            text = bounded(item.text, self._own.values)
            found = as_number(text)
            if found is None or found < 0 or found != found.to_integral_value():
                raise TemplateError(f"“{text[:40]}” is no number of times")
            if found > most:
                raise TemplateError(
                    f"{found:,} times are more than the {most:,} that are allowed here; raise “at most”"
                )
            most = int(found)
        begun, tries = clock.now(), 0
        came, kind = False, ""
        last, worst = begun, ""
        while True:
            if rule.while_ and not bounded(item.holds, self._own.values):  # type: ignore[arg-type]
                came = True
                break
            if (
                tries >= most
                or (tries and clock.now() - begun >= rule.limit_s - 1e-6)
                or (user.leaving and not leaving and tries)
            ):
                break
            at = clock.now()
            tries += 1
            outcome = await user.part(item.steps, leaving=leaving)
            last = clock.now()
            if outcome:
                kind, worst = "a step failed", outcome
                break
            if rule.until and bounded(item.holds, self._own.values):  # type: ignore[arg-type]
                came = True
                break
            if tries < most and not (rule.times and tries == most):
                if at + rule.every_s - begun < rule.limit_s:
                    await user.wait(at + rule.every_s)
                else:
                    await user.wait(min(at + rule.every_s, begun + rule.limit_s))
                await asyncio.sleep(0)
        came = came or (bool(rule.times) and tries >= most)
        recorder.tried(step.series, last, tries)
        self._say(
            step,
            f"{tries} {'try' if tries == 1 else 'tries'} in {clock.now() - begun:.2f} s"
            + ("" if came or kind else ", and it has not come about"),
        )
        if not came and not kind and not (user.leaving and not leaving):
            kind = "repeat-limit"
            shown = (
                f"until {rule.until}" if rule.until else f"while {rule.while_}" if rule.while_ else f"{most:,} times"
            )
            self._witness.item(step, f"{shown}: not so after {tries} tries in {clock.now() - begun:.1f} s", failed=kind)
            worst = "step" if rule.then == "step" else "round" if rule.then in ("round", "user") else ""
            if rule.then == "user":
                user.retire(f"{step.step.name}: {kind}")
        if kind:
            recorder.missed(step.series, last, round((last - begun) * 1e6), kind)
        else:
            recorder.passed(step.series, begun, last)
        return worst  # type: ignore[return-value]
