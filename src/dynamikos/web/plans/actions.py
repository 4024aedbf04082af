"""Changing load plans."""

from collections.abc import Mapping

from django.db import transaction
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import key_from
from dynamikos.core.lifecycles import RUN, going
from dynamikos.core.objectives import Objective
from dynamikos.core.plans import CrowdRow, Plan, parse_plan
from dynamikos.core.plans.model import EVERYBODY, PLAN, objective_problems, refuse_if, twice_said
from dynamikos.core.plans.starting import STARTS, Asked, started
from dynamikos.web.environments.queries import first
from dynamikos.web.journeys.models import Journey
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.plans.queries import content, plans_of_all
from dynamikos.web.projects import revisions
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership


@transaction.atomic
def create(
    member: Membership,
    journey: Journey,
    name: str,
    start: str = "day",
    given: Mapping[Asked, float] | None = None,
) -> LoadPlan:
    """A plan of one journey that begins from `start` with what that asks for. Raises PlanError."""
    environment = first(member.project)
    row = CrowdRow(row=EVERYBODY, journey=journey.key)
    asked = {name: default for each in STARTS if each.key == start for name, default in each.asks}
    crowd, objectives = started(start, {**asked, **(given or {})}, (row,))
    title = next((each.name for each in STARTS if each.key == start), "")
    core = Plan(
        form=2,
        plan=key_from(name or journey.name),
        name=name.strip()[:120] or f"{journey.name}: {title}",
        environment=environment.key if environment else "environment",
        objectives=objectives,
        new_seed=True,
        cache="user",
    ).with_crowds((crowd,))
    return add(member, core)


def read_text(found: LoadPlan, text: str) -> Plan:
    """A plan's text, changed by a person. Raises TextError, and DynamikosError for another key."""
    core = parse_plan(text, file="the text")
    if core.plan != found.key:
        raise DynamikosError(
            f"The key of the plan stays what it is, {found.key}: runs name it. Make a copy instead."
        )
    refuse_if(twice_said(core))
    return core


@transaction.atomic
def take_text(member: Membership, found: LoadPlan, parent: str, text: str) -> LoadPlan:
    """What a person wrote as text becomes the plan. Raises TextError, DynamikosError for another
    key, and Stale.
    """
    core = read_text(found, text)
    found = LoadPlan.objects.select_for_update().get(pk=found.pk)
    found.head = revisions.save(found.head, found.pk, PLAN, core, member.account, parent=parent)
    found.name = core.name
    found.save(update_fields=["head", "name", "changed_at"])
    return found


@transaction.atomic
def copy(
    member: Membership, found: LoadPlan, name: str, into: Membership | None = None
) -> LoadPlan:
    """The same plan under another name and key, here or in another project of the account; there
    its journeys, personas and environment are named as here, and what is missing is said on its
    page.
    """
    target = into or member
    require(target, "engineer")
    core = content(found)
    title = name.strip()[:120] or f"{core.name}, copy"
    return add(target, replace(core, name=title, plan=key_from(title)))


@transaction.atomic
def copy_crowd(member: Membership, found: LoadPlan, key: str, into: str = "") -> LoadPlan:
    """A crowd once more, in this plan or the one with id `into`, of any project that the account
    may change: that plan. Its journeys and personas are named as here, and what is missing there is
    said on its page. Raises DynamikosError.
    """
    crowd = next((each for each in content(found).everybody() if each.crowd == key), None)
    if crowd is None:
        raise DynamikosError("This crowd is not in the plan any more; look at its page again.")
    target = (
        next((each for each in plans_of_all(member) if str(each.pk) == into), None)
        if into
        else found
    )
    if target is None:
        raise DynamikosError("You can change no such plan; choose one of yours.")
    core = content(target).with_copy_of(crowd)
    crowds = {"journey": core.journey, "profile": core.profile, "crowds": core.crowds}
    return change(member, target, revisions.token(target.head), **crowds)


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
    found.head = revisions.save(
        found.head, found.pk, PLAN, core, member.account, parent=parent, label=label
    )
    found.name = core.name
    found.save(update_fields=["head", "name", "changed_at"])
    return found


def add_objective(member: Membership, found: LoadPlan, objective: Objective) -> LoadPlan:
    """One more; its key is made unique. Raises PlanError for one that can't be measured."""
    core = content(found)
    taken = {each.objective for each in core.objectives}
    made = replace(objective, objective=key_from(objective.objective, taken))
    every = (*core.objectives, made)
    refuse_if(list(objective_problems(made, core, {})))
    return change(member, found, revisions.token(found.head), objectives=every)


@transaction.atomic
def undo(found: LoadPlan) -> LoadPlan:
    found = LoadPlan.objects.select_for_update().get(pk=found.pk)
    found.head = revisions.undone(found.head)
    found.name = content(found).name
    found.save(update_fields=["head", "name", "changed_at"])
    return found


@transaction.atomic
def delete(member: Membership, found: LoadPlan, sure: str) -> None:
    """Takes a plan away; its runs stay, with what they froze.

    Raises DynamikosError unless `sure` is its name, or while it is run.
    """
    if sure.strip() != found.name:
        raise DynamikosError(
            f"To delete {found.name} write its name beside the button; its runs stay."
        )
    if found.runs.filter(state__in=going(RUN)).exists():
        raise DynamikosError(
            f"{found.name} is being run; stop the run or wait for its end, then delete the plan."
        )
    note(member, "plan deleted", found.name, key=found.key)
    found.delete()
