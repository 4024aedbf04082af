"""Changing load plans."""

from django.db import transaction
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import key_from
from dynamikos.core.objectives import Objective
from dynamikos.core.plans import Plan
from dynamikos.core.plans.model import PLAN
from dynamikos.core.profiles import Stretch
from dynamikos.web.environments.queries import first
from dynamikos.web.journeys.models import Journey
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.plans.queries import content
from dynamikos.web.projects import revisions
from dynamikos.web.projects.access import note
from dynamikos.web.projects.models import Membership


@transaction.atomic
def create(member: Membership, journey: Journey, name: str) -> LoadPlan:
    """A plan to begin with: 20 users, half a minute to climb, two minutes to hold, two objectives."""
    environment = first(member.project)
    core = Plan(
        form=2,
        plan=key_from(name or journey.name),
        name=name.strip()[:120] or f"{journey.name}, 20 users",
        journey=journey.key,
        environment=environment.key if environment else "environment",
        profile=(Stretch(stretch="climb", to=20, seconds=30), Stretch(stretch="hold", seconds=120)),
        objectives=(
            Objective(objective="p95", measure="p95", limit=500),
            Objective(objective="failures", measure="failure-rate", limit=1),
        ),
        new_seed=True,
    )
    return add(member, core)


@transaction.atomic
def add(member: Membership, core: Plan) -> LoadPlan:
    """A plan with `core` as its first revision; its key is made unique."""
    taken = set(LoadPlan.objects.filter(project=member.project).values_list("key", flat=True))
    core = replace(core, plan=key_from(core.plan, taken))
    made = LoadPlan.objects.create(project=member.project, key=core.plan, name=core.name)
    made.head = revisions.save(None, made.pk, PLAN, core, member.account, parent="")
    made.save(update_fields=["head"])
    note(member, "plan created", core.name)
    return made


@transaction.atomic
def change(member: Membership, found: LoadPlan, parent: str, **changes: object) -> LoadPlan:
    """With fields replaced, if `parent` still names the head. Raises Stale."""
    found = LoadPlan.objects.select_for_update().get(pk=found.pk)
    before = content(found)
    core = replace(before, **changes)
    changed = [name for name in changes if getattr(before, name) != getattr(core, name)]
    label = "plan:" + ",".join(changed)[:190]
    found.head = revisions.save(found.head, found.pk, PLAN, core, member.account, parent=parent, label=label)
    found.name = core.name
    found.save(update_fields=["head", "name", "changed_at"])
    return found


@transaction.atomic
def undo(found: LoadPlan) -> LoadPlan:
    found = LoadPlan.objects.select_for_update().get(pk=found.pk)
    assert found.head is not None
    if found.head.parent is None:
        raise DynamikosError("There is nothing left to undo: this is the first revision.")
    found.head = found.head.parent
    found.name = content(found).name
    found.save(update_fields=["head", "name", "changed_at"])
    return found


@transaction.atomic
def delete(member: Membership, found: LoadPlan, sure: str) -> None:
    """Takes a plan away; its runs stay, with what they froze.

    Raises DynamikosError unless `sure` is its name, or while it is run.
    """
    if sure.strip() != found.name:
        raise DynamikosError(f"To delete {found.name} write its name beside the button; its runs stay.")
    if found.runs.exclude(state__in=["ended", "refused"]).exists():
        raise DynamikosError(f"{found.name} is being run; stop the run or wait for its end, then delete the plan.")
    note(member, "plan deleted", found.name, key=found.key)
    found.delete()
