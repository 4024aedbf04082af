"""A recording is begun: how the targets are reached comes from an environment."""

from django.urls import reverse

from dynamikos.web.environments.models import AgreedTarget
from dynamikos.web.recordings.models import Session
from tests.web.support import PageCase


class Begun(PageCase):
    def setUp(self) -> None:
        super().setUp()
        self.environment = self.sample.environment

    def begun(self, environment: str, status: int = 302) -> str:
        data = {
            "kind": "doorway",
            "targets": "https://staging.example",
            "name": "By hand",
            "environment": environment,
        }
        answer = self.client.post(reverse("record", args=[self.sample.project.pk]), data)
        self.assertEqual(answer.status_code, status)
        return answer.content.decode()

    def test_trust_and_hosts_go_with_it(self) -> None:
        self.environment.way = {"trust": "anything", "hosts": {"bank.example": "127.0.0.1"}}
        self.environment.save()
        AgreedTarget.objects.create(
            environment=self.environment,
            scheme="https",
            host="staging.example",
            port=443,
            address="10.0.0.7",
        )
        self.begun(self.environment.key)
        way = Session.objects.latest("started_at").way
        # where a host is, is what owners agreed to, never what somebody wrote beside
        self.assertEqual(
            (way["trust"], way["hosts"]), ("anything", {"staging.example": "10.0.0.7"})
        )

    def test_without_one_nothing_is_taken(self) -> None:
        self.begun("")
        self.assertEqual(Session.objects.latest("started_at").way, {})

    def test_what_can_not_be_is_refused_and_what_was_typed_stays(self) -> None:
        for proxy, wanted in (
            ("http://proxy.example:3128", "is not one of its agreed targets"),
            ("http://a:{{ secrets.word }}@proxy.example:3128", "needs a secret"),
        ):
            self.environment.way = {"proxy": proxy}
            self.environment.save()
            page = self.begun(self.environment.key, 422)
            self.assertIn(wanted, page)
            self.assertIn("https://staging.example", page)
        self.assertIn("choose another", self.begun("nobody", 422))
        self.assertFalse(Session.objects.exists())
