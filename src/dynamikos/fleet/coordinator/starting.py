"""A run until it begins: given to generators that are free, and begun when all have loaded."""

import datetime
import itertools
import time
from collections.abc import Sequence

from django.db import connection, transaction
from django.utils import timezone
from procrastinate.contrib.django import app as jobs

from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.lifecycles import RUN, SHARD, before, moved
from dynamikos.core.verdicts.ending import Ending, ending_of, refused
from dynamikos.fleet.coordinator.stream import say
from dynamikos.fleet.settings import AHEAD_S, CONFIRM_S, LOADING_S
from dynamikos.sealing import box
from dynamikos.web.environments.queries import opened
from dynamikos.web.places.models import Generator
from dynamikos.web.places.queries import living
from dynamikos.web.runs.models import PROBES, Delivery, Run, Shard

ABANDON_S = 20.0  # an asked run that finds no generator for so long is refused


class Starter:
    """Of one run."""

    def __init__(self, run: Run, frozen: FrozenRun) -> None:
        self._run, self._frozen = run, frozen
        self._seen = time.monotonic()

    def begin(self) -> Ending | None:
        """Gives the run to generators, if so many are free; why it can't be any more."""
        run = self._run
        is_stopped = run.commands.exists()
        if run.not_before is not None and timezone.now() < run.not_before and not is_stopped:
            return None
        busy = set(
            Shard.objects.filter(state__in=before(SHARD, "lost")).values_list(
                "generator", flat=True
            )
        )
        free = [each for each in living() if each.pk not in busy and not each.busy]
        waited = timezone.now() - max(run.asked_at, run.not_before or run.asked_at)
        if is_stopped:
            return refused("stopped before it began", by="person")
        if not free and waited > datetime.timedelta(seconds=ABANDON_S):
            return refused("no generator was free")
        wanted = self._frozen.plan.generators
        is_patient = waited <= datetime.timedelta(seconds=ABANDON_S / 4)
        if not free or (len(free) < wanted and is_patient):
            return None
        try:
            names = self._frozen.secret_names
            secrets = opened(run.project_id, self._frozen.plan.environment, names)
        except DynamikosError as problem:
            return refused(problem)
        # users are shared out by their numbers
        self._give_to(over_places(free)[:wanted], secrets)
        return None

    def _give_to(self, chosen: Sequence[Generator], secrets: dict[str, str]) -> None:
        run = self._run
        with transaction.atomic():
            run.state = moved(RUN, run.state, Run.State.RUNNING)
            run.save(update_fields=["state"])
            for number, generator in enumerate(chosen):
                shard = Shard.objects.create(
                    run=run,
                    number=number,
                    generator=generator,
                    generator_name=generator.name,
                    place=generator.place,
                )
                if secrets:
                    body = box(secrets, bytes(generator.public_key))
                    Delivery.objects.create(shard=shard, body=body)
                job = jobs.configure_task(
                    "perform_shard", queue=generator.queue, allow_unknown=True
                )
                job.defer(shard=shard.pk)
            say(run.pk, "state", "running")

    def has_begun(self, shards: Sequence[Shard]) -> bool:
        """Begins it where all its generators have said that they are idle, and then that they have
        loaded their rows.
        """
        if any(shard.state != "ready" for shard in shards):
            return False
        self._run.begins_at = timezone.now() + datetime.timedelta(seconds=AHEAD_S)
        self._run.save(update_fields=["begins_at"])
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_notify(%s, '')", [PROBES])
        say(self._run.pk, "state", "running")
        return True

    def refusal(self, shards: Sequence[Shard]) -> Ending | None:
        """Why it can't begin any more: a generator is gone, or did not answer in time."""
        for shard in shards:
            lost = f"the generator {shard.generator_name} was lost before the run began"
            if shard.state == "ended":
                return ending_of(shard.ending) or refused(lost)
            if shard.state == "lost":
                return refused(lost)
        waited = time.monotonic() - self._seen
        for shard in shards:
            if waited > (CONFIRM_S if shard.state == "assigned" else LOADING_S):
                name = shard.generator_name
                return refused(
                    f"the generator {name} did not say that it is idle; nothing was sent"
                )
        return None


def over_places(free: Sequence[Generator]) -> list[Generator]:
    """One of each place in turn, so that a run that asks for several has all places alike: first of
    the place that is known for the longest, which a run with one generator is at.
    """
    places: dict[str, list[Generator]] = {}
    for each in free:
        places.setdefault(each.place, []).append(each)
    turns = itertools.zip_longest(*places.values())
    return [each for turn in turns for each in turn if each is not None]
