"""All inputs of a run, a rehearsal or a run from files, made into one frozen document in one
place.
"""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from dynamikos.core.errors import PlanError
from dynamikos.core.frozen.document import DataPile, FrozenRun
from dynamikos.core.journeys import Journey, names_needed, verify
from dynamikos.core.journeys.kinds import Calling
from dynamikos.core.personas import Persona, persona_problems
from dynamikos.core.plans import AgreedTarget, Plan, Way, plan_problems
from dynamikos.core.plans.crowds import with_journeys
from dynamikos.core.plans.follows import thinks_s, weighed
from dynamikos.core.probes.model import unknown_names
from dynamikos.core.values import names_in


@dataclass(frozen=True, slots=True)
class Needs:
    """Names that a journey and its way need: `every` one with a dot, `secrets` without their
    prefix, `tables`: keys of data sets, possibly.
    """

    every: frozenset[str]
    secrets: tuple[str, ...]
    tables: frozenset[str]


def needs(journey: Journey, way: Way) -> Needs:
    """What has to be there before `journey` can be performed by `way`."""
    every = set(names_needed(journey))
    for text in (*(value for _, value in way.headers), way.proxy):
        every |= {name for name in names_in(text) if "." in name}
    secrets = {name.removeprefix("secrets.") for name in every if name.startswith("secrets.")} | {
        way.key_secret
    } - {""}
    tables = {name.split(".")[0] for name in every if not name.startswith(("env.", "secrets."))}
    return Needs(frozenset(every), tuple(sorted(secrets)), frozenset(tables))


def probed_secrets(frozen: FrozenRun) -> set[str]:
    """What probes, and the way to what they read, need of the environment's secrets."""
    named = {name for each in frozen.plan.probes for name in each.secrets}
    way = {
        name.removeprefix("secrets.")
        for name in names_in(frozen.way.proxy)
        if name.startswith("secrets.")
    }
    return named | way | {frozen.way.key_secret} - {""}


@dataclass(frozen=True, slots=True, kw_only=True)
class Inputs:
    """What a run is made of, as it is stored or stands in files. `journeys` are by what the plan's
    rows name, as they are performed: without what is off. `round_s` are seconds that a round is
    expected to take, by the same names.

    `values` are the environment's, by name in a journey ("env.base"); `secrets` only the names that
    it has a secret for. `callable` are the functions that can be called, `functions` their modules'
    sources. `from_files`: a request's body may be a file, and the files of plan and environment are
    named in hints.
    """

    plan: Plan
    journeys: Mapping[str, Journey]
    round_s: Mapping[str, float] = field(default_factory=dict)
    way: Way = field(default_factory=Way)
    values: Mapping[str, str] = field(default_factory=dict)
    secrets: frozenset[str] = frozenset()
    fingerprints: Mapping[str, str] = field(default_factory=dict)
    agreed: tuple[AgreedTarget, ...] = ()
    data: tuple[DataPile, ...] = ()
    functions: Mapping[str, str] = field(default_factory=dict)
    callable: frozenset[str] = frozenset()
    functions_agreed: bool = False
    from_files: bool = False
    plan_file: str = ""
    environment_file: str = ""
    personas: Mapping[str, Persona] = field(default_factory=dict)  # by what the plan's rows name

    @property
    def names(self) -> set[str]:
        """All that a text of a journey may name, apart from what it captures and sets itself."""
        columns = {f"{pile.key}.{column}" for pile in self.data for column in pile.columns}
        return columns | set(self.values) | {f"secrets.{name}" for name in self.secrets}

    def _of_the_plan(self) -> list[str]:
        """What has to be mended in the plan itself."""
        known = {*self.values, *(f"secrets.{name}" for name in self.secrets)}
        return [
            *plan_problems(self.plan, self.journeys),
            *unknown_names(self.plan.probes, known),
            *(
                f"The persona '{name}' is not there any more; choose another."
                for name in self.plan.personas
                if name not in self.personas
            ),
            *self._dealt(),
        ]

    def _dealt(self) -> Iterator[str]:
        """What the plan's file deals and does not name among its data."""
        known = {each.key for each in self.data}
        for key in self.plan.deals if self.from_files else ():
            if key not in known:
                yield (
                    f"deals: '{key}' is none of the plan's data sets "
                    f"({', '.join(sorted(known)) or 'none'})."
                )

    def problems(self) -> list[str]:
        """Everything that stands in the way, a line each; empty when nothing does."""
        found = [
            f"{self.plan_file}: {each}" if self.plan_file else each for each in self._of_the_plan()
        ]
        for name in self.journeys:
            found += self._of_journey(name)
        found.extend(deal_problems(self.data))
        for name, persona in self.personas.items():
            called = persona.name or name
            found.extend(f"Persona {called}: {problem}" for problem in persona_problems(persona))
        if not self.agreed:
            where = "in Settings: an owner does"
            if self.from_files:
                where = f"under “agreed” in {self.environment_file or 'its file'}"
            found.append(
                f"No target is agreed in this environment. Add its scheme, host and port {where}."
            )
        return found

    def _of_journey(self, name: str) -> Iterator[str]:
        journey = self.journeys[name]
        step_of = f"{journey.name}, step" if len(self.journeys) > 1 else "Step"
        step_of = f"{name}: step" if self.plan_file else step_of
        settings = self.environment_file or "Settings"
        for each in verify(journey, self.names, self.callable, settings):
            yield f"{step_of} {each.step}, request {each.request}: {each.message}"
        if not self.from_files:
            for step, request in bodies_from_files(journey):
                yield f"{step_of} {step}, request {request}: {FILE}"
        earlier = (other for other in self.journeys if other < name)
        alike = next((e for e in earlier if self.journeys[e].journey == journey.journey), None)
        if alike is not None and self.journeys[alike] != journey:
            yield (
                f"{alike} and {name} are different journeys with the same key, "
                f"'{journey.journey}'; give one of them another."
            )


FILE = (
    "a body from a file is for plans in a repository; here, write it as text or as the file of a "
    "part"
)


def bodies_from_files(journey: Journey) -> list[tuple[str, str]]:
    """(step, request) of what can't be sent from a project: a file of the machine that the
    generator happens to be on.
    """
    return [
        (step.step, request.request)
        for _, step in journey.steps()
        for request in step.requests
        if request.body is not None and request.body.file
    ]


def deal_problems(piles: Iterable[DataPile]) -> list[str]:
    """What stands in the way of dealing them."""
    found, piles = [], list(piles)
    names = {pile.key for pile in piles}
    for pile in piles:
        if not pile.rows:
            found.append(f"The data set {pile.key} has no rows; add one under Data.")
        if pile.deal.follow and pile.deal.follow not in names:
            found.append(
                f"{pile.key} follows the rows of {pile.deal.follow}, which the journey does not "
                "use; use it, or change"
                " the deal."
            )
    return found


def weights_of(inputs: Inputs) -> dict[str, float]:
    """In which proportion users are given to the rows of crowds whose shares are of visits: a row's
    share times the time of its round, since who takes longer for a round begins fewer.
    """
    factor = inputs.plan.think_factor
    thinks = {name: thinks_s(journey) * factor for name, journey in inputs.journeys.items()}
    times = {**thinks, **inputs.round_s}
    return {
        row: weight
        for crowd in inputs.plan.everybody()
        for row, weight in weighed(crowd, times).items()
    }


def freeze(
    inputs: Inputs,
    *,
    run: str,
    seed: int,
    cap_per_s: float = 0.0,
    checked: bool = False,
    trial: bool = False,
) -> FrozenRun:
    """The document that a generator is given, and that a run keeps. Raises PlanError with all
    problems, one a line, unless they were looked for already (`checked`).
    """
    problems = [] if checked else inputs.problems()
    if problems:
        raise PlanError("\n".join(problems))
    journeys = {journey.journey: journey for journey in inputs.journeys.values()}
    calls = any(
        isinstance(step, Calling) for journey in journeys.values() for _, step in journey.steps()
    )
    secrets = {name for journey in journeys.values() for name in needs(journey, inputs.way).secrets}
    return FrozenRun(
        run=run,
        seed=seed,
        cap_per_s=cap_per_s,
        trial=trial,
        plan=inputs.plan,
        journeys=journeys,
        crowds=with_journeys(
            inputs.plan.everybody(),
            {name: each.journey for name, each in inputs.journeys.items()},
            {name: each.persona for name, each in inputs.personas.items()},
        ),
        personas={each.persona: each for each in inputs.personas.values()},
        measured=inputs.plan.measured_s,
        weights=weights_of(inputs),
        values=dict(inputs.values),
        agreed=inputs.agreed,
        data=inputs.data,
        way=inputs.way,
        secret_names=tuple(sorted(secrets)),
        fingerprints=dict(inputs.fingerprints),
        functions=dict(inputs.functions) if calls else {},
        functions_agreed=inputs.functions_agreed,
    )
