"""What a run or a rehearsal of a journey is made of, gathered from the project."""

from collections.abc import Mapping, Sequence

from dynamikos.core.frozen import DataPile
from dynamikos.core.frozen.freeze import Inputs, needs
from dynamikos.core.journeys import Journey
from dynamikos.core.plans import Plan
from dynamikos.web.datasets import queries as datasets
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.environments.models import Environment
from dynamikos.web.environments.queries import agreed, fingerprints, known, way_of
from dynamikos.web.functions.queries import functions, sources


def gathered(
    place: Environment,
    plan: Plan,
    scripts: Mapping[str, Journey],
    *,
    values: Mapping[str, str] | None = None,
    piles: Sequence[DataPile] | None = None,
) -> Inputs:
    """`scripts`, by what the plan's rows name, performed in the environment `place`. `values` go
    before its own; `piles` stand for the project's data sets, which are all that the journeys name.
    """
    project, way = place.project, way_of(place)
    needed = [needs(script, way) for script in scripts.values()]
    if piles is None:
        tables = DataSet.objects.filter(
            project=project, key__in={key for each in needed for key in each.tables}
        )
        piles = [datasets.pile(table) for table in tables]
    calls = any(step.kind == "call" for script in scripts.values() for _, step in script.steps())
    secrets = tuple(sorted({name for each in needed for name in each.secrets}))
    return Inputs(
        plan=plan,
        journeys=scripts,
        way=way,
        values={**known(place), **{f"env.{name}": value for name, value in (values or {}).items()}},
        secrets=frozenset(each.name for each in place.secrets.all()),
        fingerprints=fingerprints(place, secrets),
        agreed=agreed(place),
        data=tuple(piles),
        functions=sources(project) if calls else {},
        callable=frozenset(functions(project)) if calls else frozenset(),
        functions_agreed=project.functions_agreed,
    )
