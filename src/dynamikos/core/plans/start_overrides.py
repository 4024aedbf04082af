"""What is otherwise in one start of a plan, and in words; the plan itself stays as it is."""

from dataclasses import dataclass

from msgspec.structs import replace

from dynamikos.core.plans.crowds import Crowd
from dynamikos.core.plans.model import Keep, Plan
from dynamikos.core.profiles import Stretch


@dataclass(frozen=True, slots=True)
class StartOverrides:
    """`load` multiplies every level of every profile, and users and ceilings with it; `length`
    every stretch; `think` takes the place of the plan's factor on think times, `generators`, `seed`
    and `keep` of its own.
    """

    load: float = 1.0
    length: float = 1.0
    think: float | None = None
    generators: int | None = None
    seed: int | None = None
    keep: Keep | None = None

    def of(self, plan: Plan) -> Plan:
        """`plan` as it is for this start."""
        crowds = tuple(self._crowd(crowd) for crowd in plan.everybody())
        changed = plan.with_crowds(crowds) if self.load != 1 or self.length != 1 else plan
        if plan.measured is not None:
            begin, end = plan.measured
            changed = replace(changed, measured=(begin * self.length, end * self.length))
        return replace(
            changed,
            think_factor=plan.think_factor if self.think is None else self.think,
            generators=self.generators or plan.generators,
            seed=plan.seed if self.seed is None else self.seed,
            new_seed=plan.new_seed and self.seed is None,
            keep=self.keep or plan.keep,
        )

    def says(self, plan: Plan) -> str:
        """How it differs from `plan`, in a sentence; "" where it does not."""
        said = []
        if self.load != 1:
            said.append(f"load × {self.load:g}")
        if self.length != 1:
            said.append(f"length × {self.length:g}")
        if self.think is not None and self.think != plan.think_factor:
            said.append(f"think times × {self.think:g}")
        if self.generators is not None and self.generators != plan.generators:
            said.append(f"generators {self.generators}")
        if self.seed is not None and (plan.new_seed or self.seed != plan.seed):
            said.append(f"seed {self.seed}")
        if self.keep is not None and self.keep != plan.keep:
            said.append(
                f"kept {self.keep.failing} failing, {self.keep.slowest} slowest, "
                f"{self.keep.sampled} sampled"
            )
        return f"This start only: {', '.join(said)}." if said else ""

    def _crowd(self, crowd: Crowd) -> Crowd:
        load = crowd.load.multiplied(self.load, self.length)
        profile = tuple(self._stretch(each, load.in_wholes) for each in crowd.profile)
        return replace(crowd, load=load, profile=profile, starts_s=crowd.starts_s * self.length)

    def _stretch(self, stretch: Stretch, whole: bool) -> Stretch:
        to = None if stretch.to is None else self._level(stretch.to, whole)
        points = tuple(
            (at * self.length, self._level(level, False)) for at, level in stretch.points
        )
        return replace(stretch, to=to, seconds=stretch.seconds * self.length, points=points)

    def _level(self, level: float, whole: bool) -> int | float:
        made = level * self.load
        return round(made) if whole or made == int(made) else made
