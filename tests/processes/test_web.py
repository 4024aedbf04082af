"""The web process takes its connections to the database from a pool of few: what lasts long holds
none of them.
"""

import http.client
from concurrent.futures import ThreadPoolExecutor

from django.test import Client
from django.urls import reverse

from dynamikos.cli.state import wait_for_port
from dynamikos.web.runs.models import Run
from dynamikos.web.streams.models import Message
from tests.processes.support import PATIENCE_S, ProcessCase, free_port

POOL, MANY = 3, 8


class Pool(ProcessCase):
    def setUp(self) -> None:
        super().setUp()
        self.port = free_port()
        self.spawn(
            "web", "dynamikos.cli", "web", "--port", str(self.port), DYNAMIKOS_POOL=str(POOL)
        )
        self.assertTrue(wait_for_port(self.port, PATIENCE_S))
        client = Client()
        client.force_login(self.sample.accounts["ada"])
        word = "a" * 32
        cookies = [f"{name}={each.value}" for name, each in client.cookies.items()]
        self.heads = {
            "Cookie": "; ".join([*cookies, f"dynamikos-form={word}"]), "X-CSRFToken": word,
            "Host": f"127.0.0.1:{self.port}",
        }  # fmt: skip

    def asked(self, method: str, path: str) -> http.client.HTTPResponse:
        link = http.client.HTTPConnection("127.0.0.1", self.port, timeout=30)
        self.addCleanup(link.close)
        link.request(method, path, headers=self.heads)
        return link.getresponse()

    def test_open_streams_leave_connections_for_pages(self) -> None:
        run = Run.objects.create(
            project=self.sample.project,
            number=1,
            name="r",
            frozen=b"{}",
            sha256="",
            state="running",
        )
        Message.objects.create(subject=run.pk, sequence=0, event="state", body="running")
        path = self.sample.address(f"runs/{run.pk}/stream")
        for _ in range(MANY):
            answer = self.asked("GET", path)
            self.assertEqual(answer.status, 200)
            while b"data: running" not in answer.readline():
                pass
        for _ in range(MANY):
            self.assertEqual(self.asked("GET", self.sample.address("journeys")).status, 200)

    def test_long_work_leaves_connections_for_pages(self) -> None:
        path = reverse("strands-search", args=[self.sample.project.pk, self.sample.journey.pk])

        def work(_: int) -> bytes:
            return self.asked("POST", path).read()

        with ThreadPoolExecutor(POOL) as together:
            for told in together.map(work, range(MANY)):
                self.assertIn(b"done /", told)
        self.assertEqual(self.asked("GET", self.sample.address("journeys")).status, 200)
