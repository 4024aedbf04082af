"""A project with members, an environment and the example journey."""

from pathlib import Path

from django.test import TestCase
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
            name: Account.objects.create_user(name, password="pw-" + name) for name in ("ada", "bran", "cass", "dene")
        }
        self.member = create_project(self.accounts["ada"], "Brindle Fell")
        set_member(self.member, "bran", "engineer")
        set_member(self.member, "cass", "reader")
        self.foreign = create_project(self.accounts["dene"], "Elsewhere")
        self.project = self.member.project
        self.environment = environments.create(self.member, "Practice target")
        environments.set_values(self.member, self.environment, ["observatory"], [target])
        environments.agree(self.member, self.environment, target)
        self.data = import_csv(self.member, (EXAMPLES / "data/observers.csv").read_bytes(), "observers.csv")
        set_deal(self.member, self.data, Deal(when="user", then="leave"))
        self.recording = import_har(self.member, SESSION, "evening-session.har")
        self.journey = journeys.create(
            self.member, parse_journey((EXAMPLES / "journeys/evening-booking.yaml").read_text()), self.recording
        )
        core = parse_plan((EXAMPLES / "evening.plan.yaml").read_text())
        self.plan = plans.add(
            self.member, replace(core, journey=self.journey.key, environment=self.environment.key, data=())
        )

    def address(self, tail: str = "") -> str:
        return f"/p/{self.project.pk}/{tail}"
