"""One table: every address of a project as stranger, reader and engineer. A new address must be
placed in it.
"""

import uuid

from django.db import connection
from django.test import AsyncClient, Client
from django.urls import URLPattern, get_resolver, reverse

from dynamikos.web.datasets.uploads import keep_upload
from dynamikos.web.functions.models import Attempt
from dynamikos.web.recordings.models import Session
from dynamikos.web.rehearsals.models import Rehearsal, RehearsedExchange
from dynamikos.web.runs.models import Kept, Run, Shot
from tests.web.support import Sample, TestCase

# name -> (method, role that may)
TABLE = {
    "journeys": ("get", "reader"),
    "journey-from-recording": ("post", "engineer"),
    "journey": ("get", "reader"),
    "journey-panel": ("get", "reader"),
    "journey-edit": ("post", "engineer"),
    "journey-undo": ("post", "engineer"),
    "journey-redo": ("post", "engineer"),
    "journey-text": ("post", "engineer"),
    "journey-discard-draft": ("post", "engineer"),
    "journey-delete": ("post", "engineer"),
    "import-recording": ("post", "engineer"),
    "paste": ("post", "engineer"),
    "recording-file": ("get", "reader"),
    "rehearsal-file": ("get", "reader"),
    "rehearsal-stop": ("post", "engineer"),
    "rehearsal-page": ("get", "reader"),
    "journey-thinking": ("post", "engineer"),
    "shared-steps": ("post", "engineer"),
    "strands-by-hand": ("post", "engineer"),
    "strands-attempt": ("post", "engineer"),
    "strands-typed": ("post", "engineer"),
    "rehearsal-clean-up": ("post", "engineer"),
    "rehearsal-check": ("post", "engineer"),
    "journey-described": ("post", "engineer"),
    "journey-share": ("post", "engineer"),
    "journey-ladder": ("get", "reader"),
    "journey-revisions": ("post", "engineer"),
    "journey-find": ("get", "reader"),
    "record": ("post", "engineer"),
    "recording-live": ("get", "reader"),
    "recording-results": ("get", "reader"),
    "recording-mark": ("post", "engineer"),
    "recording-control": ("post", "engineer"),
    "recording-authority": ("get", "engineer"),
    "recording-stream": ("stream", "reader"),
    "datasets": ("get", "reader"),
    "import-data": ("post", "engineer"),
    "dataset": ("post", "engineer"),
    "settings": ("get", "reader"),
    "create-environment": ("post", "engineer"),
    "environment-values": ("post", "engineer"),
    "environment-change": ("post", "engineer"),
    "agree-target": ("post", "owner"),
    "withdraw-target": ("post", "owner"),
    "set-price": ("post", "owner"),
    "set-member": ("post", "owner"),
    "rehearse": ("post", "engineer"),
    "strands": ("get", "reader"),
    "strands-search": ("post", "engineer"),
    "strands-accept": ("post", "engineer"),
    "strands-undo": ("post", "engineer"),
    "strands-dismiss": ("post", "engineer"),
    "strands-rule": ("post", "engineer"),
    "strands-recording": ("post", "engineer"),
    "rehearsal": ("get", "reader"),
    "rehearsal-results": ("get", "reader"),
    "rehearsal-stream": ("stream", "reader"),
    "plans": ("post", "engineer"),
    "plan": ("post", "engineer"),
    "personas": ("post", "engineer"),
    "persona": ("post", "engineer"),
    "persona-copy": ("post", "engineer"),
    "persona-delete": ("post", "engineer"),
    "plan-text": ("post", "engineer"),
    "plan-copy": ("post", "engineer"),
    "plan-crowd-copy": ("post", "engineer"),
    "plan-mend": ("post", "engineer"),
    "plan-sheet": ("post", "engineer"),
    "plan-suggest": ("post", "engineer"),
    "plan-undo": ("post", "engineer"),
    "plan-delete": ("post", "engineer"),
    "start-run": ("post", "engineer"),
    "preflight": ("post", "engineer"),
    "measure-generator": ("post", "engineer"),
    "stop-target": ("post", "engineer"),
    "cap-target": ("post", "owner"),
    "quick-run": ("post", "engineer"),
    "runs": ("get", "reader"),
    "run": ("get", "reader"),
    "run-tables": ("get", "reader"),
    "run-headline": ("get", "reader"),
    "compare-runs": ("get", "reader"),
    "compare-over": ("get", "reader"),
    "runs-trend": ("get", "reader"),
    "runs-away": ("get", "engineer"),
    "runs-set": ("get", "engineer"),
    "notices": ("get", "reader"),
    "notices-log": ("get", "reader"),
    "notice-change": ("post", "engineer"),
    "notice-again": ("post", "engineer"),
    "casebooks": ("get", "reader"),
    "casebook": ("get", "reader"),
    "casebook-page": ("get", "reader"),
    "casebook-export": ("get", "reader"),
    "pin": ("post", "engineer"),
    "run-casebook": ("post", "engineer"),
    "casebook-text": ("post", "engineer"),
    "casebook-blocks": ("post", "engineer"),
    "casebook-undo": ("post", "engineer"),
    "casebook-close": ("post", "engineer"),
    "casebook-open": ("post", "engineer"),
    "casebook-delete": ("post", "engineer"),
    "casebook-link": ("post", "engineer"),
    "casebook-revoke": ("post", "engineer"),
    "casebook-take-over": ("post", "owner"),
    "casebook-links": ("get", "owner"),
    "run-baseline": ("post", "engineer"),
    "run-report": ("get", "reader"),
    "run-shot": ("get", "reader"),
    "run-kept": ("get", "reader"),
    "run-note": ("post", "engineer"),
    "run-about": ("post", "engineer"),
    "run-anew": ("post", "engineer"),
    "run-closer": ("get", "reader"),
    "run-log": ("get", "reader"),
    "run-sides": ("get", "reader"),
    "run-users": ("post", "reader"),
    "run-user": ("post", "reader"),
    "run-figures": ("get", "reader"),
    "run-inputs": ("get", "reader"),
    "run-measures": ("post", "engineer"),
    "run-metrics": ("get", "reader"),
    "run-seconds": ("get", "reader"),
    "run-lines": ("get", "reader"),
    "run-suspects": ("get", "reader"),
    "try-probe": ("post", "engineer"),
    "probe-objective": ("post", "engineer"),
    "run-remark": ("post", "engineer"),
    "stop-gently": ("post", "engineer"),
    "journey-copy": ("post", "engineer"),
    "journey-evaluate": ("post", "engineer"),
    "journey-columns-near": ("get", "engineer"),
    "journey-columns": ("post", "engineer"),
    "create-data": ("post", "engineer"),
    "data-upload": ("post", "engineer"),
    "take-in-data": ("post", "engineer"),
    "data-cell": ("post", "engineer"),
    "data-change": ("post", "engineer"),
    "data-deal": ("post", "engineer"),
    "data-export": ("get", "engineer"),
    "run-load": ("post", "engineer"),
    "run-dealt": ("get", "reader"),
    "environment-secret": ("post", "engineer"),
    "environment-way": ("post", "engineer"),
    "functions": ("post", "engineer"),
    "try-function": ("post", "engineer"),
    "tried-function": ("get", "reader"),
    "stop-now": ("post", "engineer"),
    "run-stream": ("stream", "reader"),
}
PEOPLE = {"cass": "reader", "bran": "engineer", "ada": "owner"}
RANK = {"reader": 0, "engineer": 1, "owner": 2}


def patterns() -> dict[str, str]:
    found = {}
    for include in get_resolver().url_patterns:
        for pattern in include.url_patterns:
            assert isinstance(pattern, URLPattern)
            if "project" in str(pattern.pattern):
                found[str(pattern.name)] = str(pattern.pattern)
    return found


class Access(TestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        import zlib

        import msgspec
        from django.utils import timezone

        from dynamikos.core.frozen import canonical
        from dynamikos.core.reports import KeptExchange
        from dynamikos.core.telling.casebook import Casebook
        from dynamikos.engine.testing import frozen_of_one
        from dynamikos.web.casebook.actions import create as create_casebook
        from dynamikos.web.journeys.queries import content
        from dynamikos.web.notices.models import Notice, Sending
        from dynamikos.web.plans.personas import create as create_persona
        from dynamikos.web.plans.queries import content as plan_content

        cls.sample = Sample()
        sample = cls.sample
        cls.persona = create_persona(sample.member, "Phone")
        frozen = canonical(frozen_of_one(plan_content(sample.plan), content(sample.journey)))
        cls.a_run = Run.objects.create(
            project=sample.project, number=1, name="r", frozen=frozen, sha256="", state="ended"
        )
        cls.session = Session.objects.create(
            recording=sample.recording,
            kind="doorway",
            targets=["http://127.0.0.1:9"],
            name="r-x.localhost",
            state="ended",
        )
        cls.rehearsal = Rehearsal.objects.create(
            journey=sample.journey,
            number=1,
            revision=sample.journey.head,
            frozen=frozen,
            rows=b"\x80",
            state="lost",
        )
        body = zlib.compress(
            msgspec.msgpack.encode(
                KeptExchange(
                    second=0,
                    series=1,
                    step="s",
                    request="r",
                    reason="sample",
                    user=1,
                    round=1,
                    method="GET",
                    url="u",
                )
            )
        )
        cls.upload = keep_upload(sample.member, [b"a,b\n1,2\n"], "x.csv", 8)
        cls.attempt = Attempt.objects.create(
            project=sample.project, function="a.b", given={}, modules={}
        )
        cls.kept = Kept.objects.create(
            run=cls.a_run, shard=0, second=0, series=1, reason="sample", user=1, round=1, body=body
        )
        RehearsedExchange.objects.create(rehearsal=cls.rehearsal, number=cls.kept.pk, body=body)
        cls.book = create_casebook(sample.member, Casebook(title="Release"))
        notice = Notice.objects.create(
            pk=cls.kept.pk, project=sample.project, kind="e-mail", to="a@b.example"
        )
        Sending.objects.create(
            pk=cls.kept.pk, notice=notice, event="test", told={}, due_at=timezone.now()
        )
        Shot.objects.create(
            pk=cls.kept.pk, run=cls.a_run, probe="eyes", page="/", second=0, figures={}, jpeg=b"j"
        )

    def address(self, name: str) -> str:
        sample = self.sample
        ids = {
            "rehears": self.rehearsal.pk,
            "run": self.a_run.pk,
            "stop": self.a_run.pk,
            "plan": sample.plan.pk,
            "persona": self.persona.pk,
            "preflight": sample.plan.pk,
            "try-probe": sample.plan.pk,
            "probe-objective": sample.plan.pk,
            "start": sample.plan.pk,
            "data": sample.data.pk,
            "journey": sample.journey.pk,
            "casebook": self.book.pk,
            "recording": self.session.pk,
            "strands": sample.journey.pk,
        }
        if name == "rehearse":
            pk: object = sample.journey.pk
        elif name in ("data-upload", "take-in-data"):
            pk = self.upload.pk
        elif name == "tried-function":
            pk = self.attempt.pk
        elif name.startswith("environment-") or name in (
            "agree-target",
            "withdraw-target",
            "cap-target",
        ):
            pk = sample.environment.pk
        else:
            pk = next((value for start, value in ids.items() if name.startswith(start)), None)
        arguments: dict[str, object] = {"project": sample.project.pk}
        pattern = patterns()[name]
        if ":pk>" in pattern:
            arguments["pk"] = pk
        if "recording>" in pattern:
            arguments["recording"] = sample.recording.pk
        if "target>" in pattern:
            there = sample.environment.targets.get().pk
            arguments["target"] = there if name == "stop-target" else 1_000_000
        if "form>" in pattern:
            arguments["form"] = "html" if name in ("run-report", "casebook-export") else "csv"
        if "number>" in pattern:
            arguments["number"] = self.kept.pk
        return reverse(name, kwargs=arguments)

    def test_table_is_complete(self) -> None:
        self.assertEqual(set(patterns()), set(TABLE))

    def signed_in(self, person: str) -> Client:
        client = Client()
        client.force_login(self.sample.accounts[person])
        return client

    def test_strangers_and_the_signed_out_see_nothing(self) -> None:
        stranger = self.signed_in("dene")
        for name, (method, _) in TABLE.items():
            if method == "stream":
                continue
            address = self.address(name)
            with self.subTest(name):
                answer = getattr(self.client, method)(address)
                self.assertEqual(answer.status_code, 302, name)
                self.assertIn("/sign-in/", answer.headers["Location"])
                self.assertEqual(stranger.get(address).status_code, 404)
                self.assertEqual(getattr(stranger, method)(address).status_code, 404)

    def test_roles(self) -> None:
        clients = {person: self.signed_in(person) for person in PEOPLE}
        for name, (method, role) in TABLE.items():
            if method == "stream":
                continue
            for person, rank in PEOPLE.items():
                with self.subTest(name, person=person):
                    status = getattr(clients[person], method)(self.address(name)).status_code
                    if RANK[rank] < RANK[role]:
                        self.assertEqual(status, 403)
                    else:
                        self.assertIn(status, (200, 302, 409, 422))

    async def test_streams(self) -> None:
        client = AsyncClient()
        for name in (name for name, (method, _) in TABLE.items() if method == "stream"):
            address = self.address(name)
            await client.alogout()
            self.assertEqual((await client.get(address)).status_code, 404)
            await client.aforce_login(self.sample.accounts["dene"])
            self.assertEqual((await client.get(address)).status_code, 404)
            await client.aforce_login(self.sample.accounts["cass"])
            answer = await client.get(address)
            self.assertEqual(
                (answer.status_code, answer.headers["Content-Type"]), (200, "text/event-stream")
            )

    def test_another_projects_things_are_not_found(self) -> None:
        self.client.force_login(self.sample.accounts["dene"])
        other = self.sample.foreign.project_id
        for name in ("journey", "run", "plan", "dataset", "rehearsal", "run-tables"):
            address = self.address(name).replace(str(self.sample.project.pk), str(other))
            self.assertEqual(self.client.get(address).status_code, 404, name)
        self.assertEqual(self.client.get(f"/p/{uuid.uuid4()}/runs").status_code, 404)

    def test_what_a_view_does_not_name_is_refused(self) -> None:
        self.client.force_login(self.sample.accounts["ada"])
        for name, (kind, _) in TABLE.items():
            for method in ("put", "patch", "delete", "options"):
                with self.subTest(name, method=method):
                    self.assertEqual(
                        getattr(self.client, method)(self.address(name)).status_code, 405
                    )
            if kind == "stream":
                self.assertEqual(self.client.post(self.address(name)).status_code, 405)

    def test_get_changes_nothing_and_asks_for_nothing(self) -> None:
        """Every address there is, by GET and as each role: no row of any table is another
        afterwards, jobs for generators included.
        """
        before = contents()
        names = [name for name, (method, _) in TABLE.items() if method != "stream"]
        for some in (names[at : at + 8] for at in range(0, len(names), 8)):
            for name in some:
                self.asked(name, self.address(name))
            after = contents()
            self.assertEqual([table for table in after if after[table] != before[table]], [], some)
        for name in ("projects", "sign-in", "sign-out", "change-password"):
            self.asked(name, reverse(name))
        self.assertEqual(contents(), before)

    def asked(self, name: str, address: str) -> None:
        """By GET as everybody, and as the one who may do most with an address that asks for
        something.
        """
        every = [(None, ""), *((person, "") for person in ("dene", *PEOPLE))]
        for person, query in (*every, ("ada", "?at=sign-in&what=delete&name=x&text=y&until=z")):
            if person is None:
                self.client.logout()
            else:
                self.client.force_login(self.sample.accounts[person])
            answer = self.client.get(address + query)
            self.assertIn(answer.status_code, (200, 302, 403, 404, 405, 422), (name, person))


def contents() -> dict[str, str]:
    """A fingerprint of each table's rows; sessions and the time of the last sign-in apart."""
    with connection.cursor() as cursor:
        tables = [
            each
            for each in connection.introspection.table_names(cursor)
            if each != "django_session"
        ]
        found = {}
        for table in tables:
            rows = "to_jsonb(t) - 'last_login'"
            cursor.execute(
                f"SELECT md5(coalesce(string_agg(({rows})::text, chr(10) ORDER BY ({rows})::text), "
                "'')) FROM"
                f' "{table}" t'
            )
            found[table] = cursor.fetchone()[0]
    return found
