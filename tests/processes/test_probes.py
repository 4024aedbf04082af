"""Probes that need a secret: it is sent where it is asked for, by the prober and from files, and
shown nowhere.
"""

import asyncio
import http.server
import tempfile
import threading
from pathlib import Path
from typing import Any

from click.testing import CliRunner
from django.utils import timezone

from dynamikos.cli.commands.run import command
from dynamikos.core.errors import DynamikosError
from dynamikos.core.probes import Probe
from dynamikos.fleet import probing
from dynamikos.web.environments import actions as environments
from dynamikos.web.plans import actions as plans
from dynamikos.web.projects.revisions import token
from dynamikos.web.runs import actions, preflight
from dynamikos.web.runs.models import Measure, Remark, Run
from tests.processes.support import ProcessCase, free_port, until
from tests.web.test_runs import generator

SECRET = "owl-wing-4711"


class Guarded(http.server.BaseHTTPRequestHandler):
    """Tells its measures to those who have the word; to others it says what they sent."""

    def do_GET(self) -> None:
        said = self.headers.get("Authorization", "")
        is_right = said == f"Bearer {SECRET}"
        self.send_response(200 if is_right else 401)
        body = b"# TYPE depth gauge\ndepth 7\n# EOF\n" if is_right else said.encode()
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: Any) -> None:
        pass


class Words(ProcessCase):
    def setUp(self) -> None:
        super().setUp()
        self.port = free_port()
        server = http.server.ThreadingHTTPServer(("127.0.0.1", self.port), Guarded)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.shutdown)

    def probe(self) -> Probe:
        said = (("Authorization", "Bearer {{ secrets.metrics }}"),)
        return Probe(
            probe="guarded", openmetrics=f"http://127.0.0.1:{self.port}/metrics", headers=said
        )

    def test_by_the_prober_in_a_run_and_when_it_is_tried(self) -> None:
        sample = self.sample
        environments.agree(sample.member, sample.environment, f"http://127.0.0.1:{self.port}")
        plan = plans.change(
            sample.member, sample.plan, token(sample.plan.head), probes=(self.probe(),)
        )
        generator()
        with self.assertRaisesMessage(
            DynamikosError, "names secrets.metrics, which the environment has not"
        ):
            actions.start(sample.member, plan)
        environments.set_secret(sample.member, sample.environment, "metrics", SECRET)
        run = actions.start(sample.member, plan)
        self.assertNotIn(SECRET.encode(), bytes(run.frozen))
        Run.objects.filter(pk=run.pk).update(state="running", begins_at=timezone.now())

        loop = asyncio.new_event_loop()
        threading.Thread(target=loop.run_forever, daemon=True).start()
        self.addCleanup(loop.call_soon_threadsafe, loop.stop)
        probed: dict[Any, probing.Probed] = {}

        def told() -> bool:
            probing.tick(probed, loop, frozenset())
            return Measure.objects.filter(run=run, name="depth").exists()

        until(told, every=0.2)
        self.assertEqual(run.readings.first().values, {"0": 7.0})

        asked: list[preflight.Tried] = []
        trying = threading.Thread(
            target=lambda: asked.append(preflight.tried(sample.member, plan, "guarded"))
        )
        trying.start()
        until(lambda: told() and not trying.is_alive(), every=0.1)
        self.assertEqual(asked[0].problem, "")
        self.assertIn("depth", str(asked[0].values))

        environments.set_secret(sample.member, sample.environment, "metrics", "another-word-12")
        Run.objects.filter(pk=run.pk).update(state="ended")
        late = actions.start(sample.member, plan)
        Run.objects.filter(pk=late.pk).update(state="running", begins_at=timezone.now())
        until(lambda: told() and Remark.objects.filter(run=late).exists(), every=0.2)
        said = Remark.objects.filter(run=late).first().text
        self.assertIn("status 401", said)
        self.assertNotIn("another-word-12", said)
        Run.objects.filter(pk=late.pk).update(state="ended")
        until(lambda: told() and not probed, every=0.2)

    def test_from_files(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "e.yaml").write_text(
                "form: 1\nenvironment: e\nname: E\n"
                f'addresses: {{base: "http://127.0.0.1:{self.target_port}"}}\nsecret_from_process: '
                "[metrics]\n"
                f'agreed: ["http://127.0.0.1:{self.target_port}", "http://127.0.0.1:{self.port}"]\n'
            )
            (folder / "j.yaml").write_text(
                "form: 1\njourney: j\nname: J\nrounds:\n  - step: s\n    name: S\n    think_s: "
                "0.5\n"
                '    requests: [{request: r, address: "{{ env.base }}/sky"}]\n'
            )
            (folder / "p.yaml").write_text(
                "form: 2\nplan: p\nname: P\nenvironment: e.yaml\njourney: j.yaml\n"
                "profile: [{stretch: climb, to: 1, seconds: 0}, {stretch: hold, seconds: 3}]\n"
                f'probes: [{{probe: guarded, openmetrics: "http://127.0.0.1:{self.port}/metrics",'
                ' headers: [[Authorization, "Bearer {{ secrets.metrics }}"]]}]\n'
            )
            kept = folder / "kept"
            done = CliRunner(env={"metrics": SECRET}).invoke(
                command, [str(folder / "p.yaml"), "--keep", str(kept)]
            )
            self.assertTrue((kept / "probes.parquet").exists(), done.output)
            import pyarrow.parquet as pq

            values = pq.read_table(kept / "probes.parquet").to_pydict()
            self.assertEqual(
                set(zip(values["measure"], values["value"], strict=True)), {("guarded: depth", 7.0)}
            )
            self.assertNotIn(SECRET, done.output)
            self.assertNotIn(
                SECRET.encode(),
                b"".join(each.read_bytes() for each in kept.iterdir() if each.is_file()),
            )
