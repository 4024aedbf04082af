"""Pages of stored documents of every form; one that a newer version wrote harms nothing beside
it.
"""

import json
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import msgspec
import orjson
from django.db import transaction
from django.utils import timezone

from dynamikos.core.frozen import canonical, digest
from dynamikos.core.personas.model import PERSONA
from dynamikos.web.casebook.models import Casebook
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.environments.models import Environment
from dynamikos.web.journeys.models import Journey, SharedStep
from dynamikos.web.plans.models import LoadPlan, Persona
from dynamikos.web.projects.models import Revision
from dynamikos.web.rehearsals.models import Rehearsal
from dynamikos.web.runs.models import Run
from dynamikos.web.strands.models import Search
from tests.core.test_forms import (
    CASEBOOK,
    DEAL,
    FROZEN,
    JOURNEY,
    KINDS,
    OUTCOME,
    PLAN,
    SHARED,
    STRANDS,
    WAY,
    example,
)
from tests.web.support import PageCase


@contextmanager
def undone() -> Iterator[None]:
    """What is stored inside is not there afterwards."""
    with transaction.atomic():
        yield
        transaction.set_rollback(True)


class Pages(PageCase):
    """Everything of the sample replaced by what lies in `tests/stored/`."""

    def revised(self, subject: Any, plain: Any) -> Revision:
        document = canonical(plain)
        number = Revision.objects.filter(subject=subject.pk).count() + 1
        made = Revision.objects.create(
            subject=subject.pk,
            number=number,
            document=document,
            sha256=digest(document),
            author=self.sample.member.account,
        )
        type(subject).objects.filter(pk=subject.pk).update(head=made)
        return made

    def put(self, kind: Any, plain: Any) -> str:
        """Stores a document where its kind is kept; the tail of the page that shows it."""
        sample = self.sample
        if kind is JOURNEY:
            self.revised(sample.journey, plain)
            return f"journeys/{sample.journey.pk}"
        if kind is SHARED:
            made = SharedStep.objects.create(
                project=sample.project, key="sign-out", name="Sign out"
            )
            self.revised(made, plain)
            return "journeys/shared?at=sign-out"
        if kind is PLAN:
            self.revised(sample.plan, plain)
            return f"load/{sample.plan.pk}"
        if kind is DEAL:
            DataSet.objects.filter(pk=sample.data.pk).update(deal=plain)
            return f"data/{sample.data.pk}"
        if kind is WAY:
            Environment.objects.filter(pk=sample.environment.pk).update(way=plain)
            return "settings"
        if kind is STRANDS:
            body = zlib.compress(msgspec.msgpack.encode(plain))
            Search.objects.create(journey=sample.journey, evidence=["a session"], body=body)
            return f"journeys/{sample.journey.pk}/strands"
        if kind is CASEBOOK:
            book = Casebook.objects.create(project=sample.project, key="release", name="Release")
            self.revised(book, plain)
            return f"casebook/{book.pk}"
        if kind is PERSONA:
            made_one = Persona.objects.create(
                project=sample.project, key="phone", name="Phone", content=plain
            )
            return f"load/personas/{made_one.pk}"
        frozen = plain if kind is FROZEN else example(FROZEN, 1)
        run = Run.objects.create(
            project=sample.project,
            plan=sample.plan,
            number=1 + Run.objects.count(),
            name="Evening",
            state="ended",
            ending={"cause": "finished"},
            frozen=canonical(frozen),
            sha256="0" * 64,
            asked_by=sample.member.account,
            outcome=plain if kind is OUTCOME else example(OUTCOME, 1),
            begins_at=timezone.now(),
            watermark=5,
        )
        return f"runs/{run.pk}"

    def test_each_is_shown(self) -> None:
        for kind in KINDS:
            for form in range(1, kind.form + 1):
                with self.subTest(kind.name, form=form), undone():
                    tail = self.put(kind, example(kind, form))
                    self.assertEqual(self.client.get(self.sample.address(tail)).status_code, 200)

    def test_a_rehearsal_is_shown(self) -> None:
        journey = Journey.objects.get(pk=self.sample.journey.pk)
        made = Rehearsal.objects.create(
            journey=journey, number=1, revision=journey.head, state="passed", rows=b"",
            frozen=orjson.dumps(example(FROZEN, 1)), asked_by=self.sample.member.account,
        )  # fmt: skip
        self.assertEqual(
            self.client.get(self.sample.address(f"rehearsals/{made.pk}")).status_code, 200
        )

    def test_an_outcome_that_lacks_any_field_still_opens_its_page(self) -> None:
        for name in example(OUTCOME, 1):
            with self.subTest(name):
                tail = self.put(
                    OUTCOME,
                    {key: value for key, value in example(OUTCOME, 1).items() if key != name},
                )
                self.assertEqual(self.client.get(self.sample.address(tail)).status_code, 200)

    def test_one_of_a_newer_form_says_so_and_harms_nothing_beside_it(self) -> None:
        lists = ("journeys", "load", "load/personas", "data", "runs", "settings", "journeys/shared")
        for kind in KINDS:
            with self.subTest(kind.name), undone():
                plain = kind.plain(kind.of(example(kind, 1)))
                tail = self.put(kind, json.loads(json.dumps({**plain, "form": 99})))
                answer = self.client.get(self.sample.address(tail))
                self.assertIn(answer.status_code, (200, 422))
                self.assertContains(answer, "newer version", status_code=answer.status_code)
                for each in lists:
                    found = self.client.get(self.sample.address(each)).status_code
                    self.assertTrue(found == 200 or tail.startswith(each), (each, found))
        self.assertEqual(LoadPlan.objects.count(), 1)
