"""A project with members, an environment and the example journey."""

import re
from pathlib import Path

from django.test import TestCase as DjangoTestCase
from django.test import override_settings
from django.urls import reverse

from dynamikos.core.dealing import Deal
from dynamikos.core.journeys import parse_journey
from dynamikos.core.plans import parse_plan
from dynamikos.web.accounts.models import Account
from dynamikos.web.datasets.actions import set_deal
from dynamikos.web.datasets.uploads import import_csv
from dynamikos.web.environments import actions as environments
from dynamikos.web.journeys import actions as journeys
from dynamikos.web.journeys.models import Journey
from dynamikos.web.plans import actions as plans
from dynamikos.web.projects.actions import create_project, set_member
from dynamikos.web.recordings.actions import import_har

EXAMPLES = Path(__file__).parents[2] / "examples"
SESSION = (EXAMPLES / "evening-session.har").read_bytes()


def plain(text: str) -> str:
    """A page as it reads: how its source is laid out makes no difference."""
    return re.sub(r"(?<=>) | (?=<)", "", re.sub(r"\s+", " ", text))


@override_settings(
    KNOCK_WAIT_S=0.0, PROBE_WAIT_S=0.0
)  # neither generator nor prober is there that could answer
class TestCase(DjangoTestCase):
    """Looks for texts in pages as they read; says in a line what a page has instead."""

    def assertContains(  # type: ignore[no-untyped-def]  # noqa: N802
        self, response, text, count=None, status_code=200, msg_prefix="", html=False
    ):
        found, page = self._looked(response, text, status_code)
        if count is not None:
            self.assertEqual(found, count, f"{text} in {page}")
        self.assertTrue(found, f"{text!r} is not in {page}")

    def assertNotContains(  # type: ignore[no-untyped-def]  # noqa: N802
        self, response, text, status_code=200, msg_prefix="", html=False
    ):
        found, page = self._looked(response, text, status_code)
        self.assertFalse(found, f"{text!r} is in {page}")

    def _looked(self, response, text: object, status_code: int) -> tuple[int, str]:  # type: ignore[no-untyped-def]
        streamed = b"".join(response.streaming_content) if response.streaming else response.content
        page = plain(streamed.decode(response.charset or "utf-8", "replace"))
        heading = re.search(r"<h1[^>]*>(.*?)</h1>", page)
        told = f"the page “{heading.group(1)[:200] if heading else page[:300]}”"
        self.assertEqual(response.status_code, status_code, told)
        wanted = text.decode() if isinstance(text, bytes) else str(text)
        return page.count(plain(wanted).strip() if wanted.strip() else wanted), told


class PageCase(TestCase):
    """Pages of the sample's journey, seen by the engineer bran."""

    sample: "Sample"

    @classmethod
    def setUpTestData(cls) -> None:
        cls.sample = Sample()

    def setUp(self) -> None:
        self.client.force_login(self.sample.accounts["bran"])

    def address(self, name: str) -> str:
        return reverse(name, args=[self.sample.project.pk, self.sample.journey.pk])

    def stored(self) -> Journey:
        return Journey.objects.get(pk=self.sample.journey.pk)


class Sample:
    """Owner ada, engineer bran, reader cass; stranger dene belongs to another project."""

    def __init__(self, target: str = "http://127.0.0.1:9") -> None:
        from msgspec.structs import replace

        self.accounts = {
            name: Account.objects.create_user(name, password="pw-" + name)
            for name in ("ada", "bran", "cass", "dene")
        }
        self.member = create_project(self.accounts["ada"], "Brindle Fell")
        set_member(self.member, "bran", "engineer")
        set_member(self.member, "cass", "reader")
        self.foreign = create_project(self.accounts["dene"], "Elsewhere")
        self.project = self.member.project
        self.environment = environments.create(self.member, "Practice target")
        environments.set_values(self.member, self.environment, ["observatory"], [target])
        environments.agree(self.member, self.environment, target)
        self.data = import_csv(
            self.member, (EXAMPLES / "data/observers.csv").read_bytes(), "observers.csv"
        )
        set_deal(self.member, self.data, Deal(when="user", then="leave"))
        self.recording = import_har(self.member, SESSION, "evening-session.har")
        self.journey = journeys.create(
            self.member,
            parse_journey((EXAMPLES / "journeys/evening-booking.yaml").read_text()),
            self.recording,
        )
        core = parse_plan((EXAMPLES / "evening.plan.yaml").read_text())
        self.plan = plans.add(
            self.member,
            replace(core, journey=self.journey.key, environment=self.environment.key, data=()),
        )

    def address(self, tail: str = "") -> str:
        return f"/p/{self.project.pk}/{tail}"
