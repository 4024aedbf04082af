"""Who may do what in an installation, what comes twice, and what a page says while something of
ours is away.
"""

import errno
import socket
from unittest import mock

from django.db import IntegrityError, OperationalError, transaction
from django.test import Client, override_settings
from django.utils import timezone
from psycopg.errors import DiskFull

from dynamikos.core.errors import DynamikosError, PlanError
from dynamikos.core.frozen.document import FROZEN
from dynamikos.web.accounts.models import Account
from dynamikos.web.journeys.models import Journey
from dynamikos.web.plans import queries as plans
from dynamikos.web.plans.actions import change
from dynamikos.web.projects.models import Membership, Revision
from dynamikos.web.projects.revisions import token
from dynamikos.web.rehearsals import actions as rehearsals
from dynamikos.web.runs import actions, queries
from dynamikos.web.runs.models import Kept, Run, Shard, WrittenRow
from tests.web.support import PageCase, Sample, TestCase
from tests.web.test_runs import generator


class Installation(PageCase):
    def test_ten_wrong_passwords_lock_the_sign_in_for_a_while(self) -> None:
        somebody = Client()
        for _ in range(10):
            answer = somebody.post("/sign-in/", {"username": "bran", "password": "wrong"})
        self.assertEqual(answer.status_code, 429)
        self.assertContains(answer, "10 minutes", status_code=429)
        self.assertEqual(
            somebody.post("/sign-in/", {"username": "bran", "password": "pw-bran"}).status_code, 429
        )
        self.assertEqual(
            somebody.post("/sign-in/", {"username": "cass", "password": "pw-cass"}).status_code, 302
        )

    def test_a_password_is_changed_by_who_knows_the_old_one(self) -> None:
        typed = {
            "old_password": "wrong",
            "new_password1": "a-new-pass-9",
            "new_password2": "a-new-pass-9",
        }
        self.assertEqual(self.client.post("/password/", typed).status_code, 200)
        self.assertTrue(Account.objects.get(username="bran").check_password("pw-bran"))
        self.assertEqual(
            self.client.post("/password/", {**typed, "old_password": "pw-bran"}).status_code, 302
        )
        self.assertTrue(Account.objects.get(username="bran").check_password("a-new-pass-9"))

    def test_a_member_is_removed_and_the_last_owner_stays(self) -> None:
        self.client.force_login(self.sample.accounts["ada"])
        address = self.sample.address("members")
        self.client.post(address, {"username": "cass", "what": "remove"})
        self.assertFalse(
            Membership.objects.filter(
                project=self.sample.project, account__username="cass"
            ).exists()
        )
        self.client.force_login(self.sample.accounts["cass"])
        self.assertEqual(self.client.get(self.sample.address("settings")).status_code, 404)
        self.client.force_login(self.sample.accounts["ada"])
        self.assertContains(
            self.client.post(address, {"username": "ada", "what": "remove"}),
            "at least one owner",
            status_code=422,
        )

    def test_who_may_make_projects_and_agree_targets_is_a_setting(self) -> None:
        self.client.force_login(self.sample.accounts["ada"])
        agree = self.sample.address(f"environments/{self.sample.environment.pk}/targets")
        with override_settings(PROJECTS_BY="administrators", TARGETS_BY="administrators"):
            self.assertNotEqual(self.client.post("/", {"name": "Another"}).status_code, 302)
            self.assertEqual(
                self.client.post(agree, {"target": "https://a.example"}).status_code, 403
            )
            Account.objects.filter(username="ada").update(is_staff=True)
            self.assertEqual(
                self.client.post(agree, {"target": "https://a.example"}).status_code, 302
            )

    @override_settings(MAX_REQUESTS_PER_S=100.0)
    def test_the_cap_of_the_installation_is_shared_by_its_generators(self) -> None:
        generator("one")
        first = actions.start(self.sample.member, self.sample.plan)
        self.assertEqual(queries.frozen(first).cap_per_s, 100.0)
        generator("two")
        with self.assertRaisesRegex(PlanError, "at most 100 requests/s"):
            actions.start(self.sample.member, self.sample.plan)
        Run.objects.filter(pk=first.pk).update(state="ended")
        self.assertEqual(
            queries.frozen(actions.start(self.sample.member, self.sample.plan)).cap_per_s, 50.0
        )
        asked = rehearsals.ask(self.sample.member, self.sample.journey)
        self.assertEqual(FROZEN.read(bytes(asked.frozen)).cap_per_s, 50.0)

    def test_a_new_seed_each_run_or_the_same(self) -> None:
        generator("one")
        head = token(self.sample.plan.head)
        plan = self.sample.plan = change(
            self.sample.member, self.sample.plan, head, seed=77, new_seed=False
        )
        seeds = []
        for _ in range(2):
            run = actions.start(self.sample.member, plan)
            seeds.append(queries.frozen(run).seed)
            Run.objects.filter(pk=run.pk).update(state="ended")
        self.assertEqual(seeds, [77] * 2)
        self.client.post(
            self.sample.address("load"), {"journey": self.sample.journey.key, "name": "New"}
        )
        new = next(each for each in plans.plans(self.sample.member) if each.name == "New")
        self.assertTrue(plans.content(new).new_seed)
        seeds = []
        for _ in range(2):
            run = actions.start(self.sample.member, new)
            seeds.append(queries.frozen(run).seed)
            Run.objects.filter(pk=run.pk).update(state="ended")
        self.assertNotEqual(*seeds)


class Twice(TestCase):
    def test_what_a_generator_sends_twice_is_there_once(self) -> None:
        sample = Sample()
        run = Run.objects.create(
            project=sample.project,
            number=1,
            name="r",
            frozen=b"{}",
            sha256="",
            begins_at=timezone.now(),
        )
        Shard.objects.create(run=run, number=0)
        for model, fields in (
            (
                Kept,
                {"second": 1, "series": 1, "reason": "kept", "user": 1, "round": 1, "body": b""},
            ),
            (WrittenRow, {"into": "r", "row": {}}),
        ):
            with self.subTest(model.__name__):
                model.objects.create(run=run, shard=0, sequence=7, **fields)
                with self.assertRaises(IntegrityError), transaction.atomic():
                    model.objects.create(run=run, shard=0, sequence=7, **fields)
                model.objects.create(run=run, shard=1, sequence=7, **fields)


class Broken(PageCase):
    def test_while_the_database_is_away_pages_say_so_and_try_again(self) -> None:
        self.client.raise_request_exception = False
        with (
            mock.patch(
                "dynamikos.web.journeys.queries.journeys",
                side_effect=OperationalError("connection refused"),
            ),
            mock.patch("dynamikos.web.ui.broken.connection") as gone,
        ):
            gone.ensure_connection.side_effect = OperationalError("connection refused")
            page = self.client.get(self.sample.address("journeys"))
            part = self.client.get(self.sample.address("journeys"), headers={"hx-request": "true"})
        self.assertEqual((page.status_code, part.status_code, page["Retry-After"]), (503, 503, "3"))
        self.assertContains(page, "refresh", status_code=503)
        self.assertNotContains(page, "Traceback", status_code=503)

    def test_without_room_on_a_disk_pages_say_that_nothing_was_saved(self) -> None:
        refused = OperationalError("could not extend file")
        refused.__cause__ = DiskFull("could not extend file")
        for problem in (refused, OSError(errno.ENOSPC, "No space left on device")):
            with (
                self.subTest(problem=problem),
                mock.patch("dynamikos.web.journeys.queries.journeys", side_effect=problem),
                self.assertLogs("dynamikos.web.ui.middleware", "ERROR"),
            ):
                page = self.client.get(self.sample.address("journeys"))
                self.assertContains(
                    page, f"Nothing was saved: the disk of {socket.gethostname()}", status_code=507
                )

    def test_a_document_that_cant_be_read_stands_beside_the_others(self) -> None:
        other = Journey.objects.get(pk=self.sample.journey.pk)
        assert other.head is not None
        body = bytes(other.head.document).replace(b'"POST"', b'"no method"')
        bad = Revision.objects.create(
            subject=other.pk, number=99, parent=other.head, document=body, sha256="x", author=None
        )
        Journey.objects.filter(pk=other.pk).update(head=bad)
        for tail in (
            "journeys",
            "data",
            "load",
            f"data/{self.sample.data.pk}",
            "runs",
            "settings",
            f"load/{self.sample.plan.pk}",
        ):
            with self.subTest(tail):
                self.assertIn(self.client.get(self.sample.address(tail)).status_code, (200, 422))
        self.assertContains(
            self.client.get(self.sample.address(f"journeys/{other.pk}")),
            "can&#x27;t be read",
            status_code=422,
        )
        with self.assertRaises(DynamikosError):
            plans.follows_of(self.sample.plan, plans.content(self.sample.plan))
