"""Asking for a rehearsal: inputs frozen, a task deferred by name to a generator's own queue."""

from collections.abc import Collection

import msgspec
from django.db import transaction
from django.db.models import Max
from msgspec.structs import replace
from procrastinate.contrib.django import app as jobs

from dynamikos.core.checks import Check, compile_check
from dynamikos.core.dealing import Deal
from dynamikos.core.dealing.rehearsing import UsedUp, next_rows
from dynamikos.core.errors import DynamikosError, PlanError
from dynamikos.core.frozen import DataPile, FrozenRun, canonical
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.frozen.freeze import freeze, needs
from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.journeys.editing import change_request, excerpt, find_request
from dynamikos.core.lifecycles import REHEARSAL, before
from dynamikos.core.plans import Plan
from dynamikos.core.plans.preflight import bare_steps
from dynamikos.core.profiles import Stretch
from dynamikos.sealing import box
from dynamikos.web.datasets import queries as datasets
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.environments.queries import named, opened, way_of
from dynamikos.web.journeys.actions import change
from dynamikos.web.journeys.inputs import gathered
from dynamikos.web.journeys.models import Journey
from dynamikos.web.journeys.queries import content, problems
from dynamikos.web.places.queries import cap_of_one, for_one_user, living
from dynamikos.web.projects.access import note
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import token
from dynamikos.web.rehearsals.models import Rehearsal
from dynamikos.web.rehearsals.queries import Replayed, landed, replayed, suggestions


def ask(
    member: Membership,
    journey: Journey,
    *,
    start: str = "",
    until: str = "",
    row: int = 0,
    user: int = 1,
    environment: str = "",
    rounds: int = 1,
    again: bool = False,
) -> Rehearsal:
    """A rehearsal of the head revision, from step `start`, halting before `until`, as user number
    `user`, with row number `row` of its data (0: others than the last rehearsals had; with
    `again` from the last row on), in the environment with a key ("": the first).

    Raises UsedUp, or DynamikosError for what would make it senseless.
    """
    core = excerpt(content(journey).active(cleanup=True), start, until)
    wrong = problems(journey, core, environment)
    if wrong:
        lines = [f"step {each.step}, request {each.request}: {each.message}" for each in wrong]
        raise PlanError("\n".join(["The journey can't be rehearsed yet:", *lines]))
    if not any(step.requests for _, step in core.steps()):
        raise DynamikosError("The journey has no request yet, so there is nothing to rehearse.")
    place = named(member.project, environment)
    if place is None or not place.targets.exists():
        raise DynamikosError(
            "No target is agreed yet: an owner adds scheme, host and port in Settings. Nothing was "
            "sent."
        )
    generator = for_one_user()
    needed = needs(core, way_of(place))
    assert journey.head is not None
    with transaction.atomic():
        piles, rows = rows_for(member, needed.tables, row, rounds, again=again)
        journey.head.used = True
        journey.head.save(update_fields=["used"])
        number = (journey.rehearsals.aggregate(top=Max("number"))["top"] or 0) + 1
        plan = Plan(
            form=2,
            plan="rehearsal",
            name="Rehearsal",
            journey=core.journey,
            environment=place.key,
            profile=(Stretch(stretch="hold", seconds=1),),
        )
        made = Rehearsal(
            journey=journey,
            number=number,
            revision=journey.head,
            generator=generator,
            asked_by=member.account,
            user_number=user,
            rounds=rounds,
            dealt={each.key: [each.first_row, len(rows[each.key])] for each in piles},
        )
        inputs = gathered(place, plan, {core.journey: core}, piles=piles)
        frozen = freeze(inputs, run=str(made.pk), seed=number, cap_per_s=cap_of_one(), checked=True)
        made.frozen, made.rows = canonical(frozen), msgspec.msgpack.encode(rows)
        secrets = opened(member.project_id, place.key, needed.secrets)
        made.secrets = box(secrets, bytes(generator.public_key)) if secrets else b""
        made.save(force_insert=True)
        note(member, "rehearsal asked", journey.name, number=number)
        jobs.configure_task("rehearse", queue=generator.queue, allow_unknown=True).defer(
            rehearsal=str(made.pk)
        )
    return made


def stop(member: Membership, found: Rehearsal) -> None:
    """Asks the generator to end it now; what was exchanged stays."""
    changed = Rehearsal.objects.filter(
        pk=found.pk, state__in=before(REHEARSAL, Rehearsal.State.STOPPING)
    ).update(state=Rehearsal.State.STOPPING)
    if changed:
        note(member, "rehearsal stopped", found.journey.name, number=found.number)


def take_check(member: Membership, found: Rehearsal, step: str, request: str, check: str) -> None:
    """A suggested check (JSON) put into the journey as it is now. Raises DynamikosError."""
    try:
        value = msgspec.json.decode(check, type=Check)
        compile_check(value)
    except (msgspec.MsgspecError, DynamikosError) as problem:
        raise DynamikosError(f"This is no check: {problem}") from problem

    def edit(core: CoreJourney) -> CoreJourney:
        _, _, there = find_request(core, step, request)
        return (
            core
            if value in there.checks
            else change_request(core, step, request, checks=(*there.checks, value))
        )

    journey = Journey.objects.get(pk=found.journey_id)
    change(member, journey, token(journey.head), edit, label="")


def check_bare(member: Membership, journey: Journey) -> int:
    """Gives every step that looks at nothing the most telling check that its last answer suggests:
    that of the newest rehearsal that passed, without one the status that was recorded. How many;
    raises DynamikosError where there is neither.
    """
    core = content(journey)
    passed = journey.rehearsals.filter(state=Rehearsal.State.PASSED).order_by("-number").first()
    rows = replayed(passed) if passed is not None else []
    chosen: list[tuple[str, str, Check]] = []
    for step in bare_steps(core):
        last = step.requests[-1]
        at = f"{step.step}/{last.request}"
        row = next(
            (
                each
                for each in rows
                if each.at == at and not each.kept.resource and not _goes_on(each)
            ),
            None,
        )
        found = (
            suggestions(passed, rows, row, core) if passed is not None and row is not None else []
        )
        recorded = landed(journey.recording_id, last.recorded)
        if found:
            chosen.append((step.step, last.request, msgspec.json.decode(found[0][1], type=Check)))
        elif recorded is not None and recorded.answer is not None and recorded.answer.status < 400:
            chosen.append((step.step, last.request, Check(status=recorded.answer.status)))
    if not chosen:
        raise DynamikosError(
            f"Nothing is known of the answers of {journey.name} that a check could be made of: "
            "rehearse it, then mend"
            " this again, or write a check on its page."
        )

    def edit(before: CoreJourney) -> CoreJourney:
        for step, name, check in chosen:
            before = change_request(
                before, step, name, checks=(*find_request(before, step, name)[2].checks, check)
            )
        return before

    change(member, journey, token(journey.head), edit, label="")
    return len(chosen)


def _goes_on(row: Replayed) -> bool:
    return row.kept.status in (301, 302, 303, 307, 308)


def clean_up(member: Membership, found: Rehearsal) -> None:
    """Asks the generator that rehearsed to undo what was left behind. Raises DynamikosError."""
    core: FrozenRun = FROZEN.read(bytes(found.frozen))
    if not core.journey.cleanup:
        raise DynamikosError(
            "The journey had no clean-up when it was rehearsed: move the steps that undo it to the "
            "part “cleanup” and"
            " rehearse again."
        )
    if not found.over:
        raise DynamikosError("The rehearsal is still under way; stop it or wait for its end first.")
    if found.cleanup in ("asked", "running", "done"):
        raise DynamikosError(
            "This rehearsal was cleaned up already."
            if found.cleanup == "done"
            else "The clean-up is under way."
        )
    if found.generator is None or not any(each.pk == found.generator.pk for each in living()):
        Rehearsal.objects.filter(pk=found.pk).update(cleanup="gone")
        raise DynamikosError(
            "The generator that rehearsed is gone, and with it the values to clean up with. Undo "
            "by hand what was left"
            " behind."
        )
    with transaction.atomic():
        Rehearsal.objects.filter(pk=found.pk).update(cleanup="asked")
        note(member, "rehearsal cleaned up", found.journey.name, number=found.number)
        jobs.configure_task("clean_up", queue=found.generator.queue, allow_unknown=True).defer(
            rehearsal=str(found.pk)
        )


def rows_for(
    member: Membership, keys: Collection[str], row: int, rounds: int, *, again: bool
) -> tuple[list[DataPile], dict[str, list[list[str]]]]:
    """Rows of each data set in `keys` for so many rounds, with what a run freezes of it; they count
    as dealt to a rehearsal. Raises UsedUp or DynamikosError.
    """
    piles, rows = [], {}
    sets = DataSet.objects.select_for_update().filter(project=member.project, key__in=keys)
    for found in sets.order_by("key"):
        pile = datasets.pile(found)
        if row > found.rows:
            raise DynamikosError(
                f"{found.key} has {found.rows:,} rows, so there is no row {row:,}."
            )
        if not found.rows:
            raise DynamikosError(f"{found.key} has no rows; add one under Data first.")
        wanted = rounds if pile.deal.when in ("round", "use") else 1
        if row:
            at = max(0, min(row - 1, found.rows - wanted))
        else:
            taken = 0 if again else min(found.rehearsed, found.rows)
            try:
                at, found.rehearsed = next_rows(
                    found.rows, taken, wanted, endless=pile.deal.endless
                )
            except UsedUp as problem:
                raise UsedUp(f"{found.key}: {problem}") from problem
            found.save(update_fields=["rehearsed"])
        piles.append(replace(pile, first_row=at, deal=Deal(when=pile.deal.when)))
        rows[found.key] = datasets.page(found, at, wanted)
    return piles, rows
