"""./dynamikos run on files: exit codes, exports, and what is refused."""

import csv
import json
import socket
import ssl
import subprocess
import sys
import tempfile
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread
from unittest import TestCase
from xml.etree import ElementTree

import jsonschema
import pyarrow.parquet as pq
import trustme
from click.testing import CliRunner
from msgspec.structs import replace

from dynamikos.cli import folder
from dynamikos.cli.commands.compare import command as compare_command
from dynamikos.cli.commands.report import command as report_command
from dynamikos.cli.commands.run import command
from dynamikos.cli.practice import Practice, practice_for
from dynamikos.cli.state import State, is_free, wait_for_port
from dynamikos.core.plans import Environment
from dynamikos.core.verdicts.document import run_schema
from tests.ports import free_port

PLAN = (
    "form: 1\n"
    "plan: p\n"
    "name: P\n"
    "journey: j.yaml\n"
    "environment: e.yaml\n"
    "profile: [{stretch: climb, to: 3, seconds: 1}, {stretch: hold, seconds: 2}]\n"
    "objectives:\n"
    "  - {objective: t, measure: mean, limit: 1000}\n"
)
JOURNEY = (
    "form: 1\njourney: j\nname: J\nrounds:\n  - step: ping\n    name: Ping\n    think_s: 0.05\n    "
    "requests:\n      -"
    ' {request: get-ping, address: "{{ env.base }}/ping"}\n'
)


class Files(TestCase):
    """A plan of one journey against a practice target, in a folder."""

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        port = free_port()
        self.write("p.yaml", PLAN)
        self.write("j.yaml", JOURNEY)
        self.write(
            "e.yaml",
            "form: 1\n"
            "environment: e\n"
            f'addresses: {{base: "http://127.0.0.1:{port}"}}\n'
            f'agreed: ["http://127.0.0.1:{port}"]\n'
            "practice: clear\n",
        )

    def write(self, name: str, text: str) -> None:
        (self.folder / name).write_text(text)

    def call(self, *words: str):  # type: ignore[no-untyped-def]
        return CliRunner().invoke(command, [str(self.folder / "p.yaml"), *words])


class RunFiles(Files):
    def test_several_rows_and_arrivals_stand_in_the_figures(self) -> None:
        self.write(
            "p.yaml",
            PLAN.replace("form: 1", "form: 2")
            .replace("journey: j.yaml\n", "")
            .partition("profile:")[0]
            + "measured: [0, 4]\n"  # the last two seconds are there for answers that come late
            "crowds:\n"
            "  - crowd: c\n"
            "    load: {workload: users, shares: users}\n"
            "    profile: [{stretch: burst, to: 4, seconds: 2}, {stretch: burst, to: 0, seconds: "
            "2}]\n"
            "    rows: [{row: a, journey: j.yaml, share: 75}, {row: b, journey: j.yaml, share: "
            "25}]\n"
            "  - {crowd: d, load: {workload: arrivals, ceiling: 30}, profile: [{stretch: burst, "
            "to: 5, seconds: 2}],\n"
            "     rows: [{row: e, journey: j.yaml}]}\n",
        )
        done = self.call("--json", str(self.folder / "o.json"))
        self.assertIn(done.exit_code, (0, 3), done.output)
        found = json.loads((self.folder / "o.json").read_text())
        self.assertEqual(
            found["arrivals"], {"planned": 10, "started": 10, "turned_away": 0, "not_started": 0}
        )
        crowd = {each["row"]: each for each in found["crowd"]}
        self.assertEqual(
            [(row, crowd[row]["share_planned"]) for row in "abe"],
            [("a", 75), ("b", 25), ("e", 100)],
        )
        self.assertEqual(crowd["e"]["rounds"], 10)
        answered = sum(row["count"] for row in found["rows"] if row["level"] == "request")
        self.assertEqual(answered, found["exchanges"]["answered"])
        self.assertEqual({row["row"] for row in found["rows"]}, set("abe"))
        self.assertIn("arrivals: 10 planned = 10 started", done.output)

    def test_what_a_probe_tells_is_judged_and_ends_the_run(self) -> None:
        self.write(
            "p.yaml",
            PLAN.replace("seconds: 2}", "seconds: 60}")
            + "  - {objective: r, measure: mean, limit: 1, probe: t, reading: "
            "observatory_heap_bytes, every_s: 2,\n"
            "     then: stop now}\n"
            'probes: [{probe: t, openmetrics: "{{ env.base }}/metrics"}]\n',
        )
        done = self.call("--json", str(self.folder / "o.json"))
        self.assertEqual(done.exit_code, 1, done.output)
        found = json.loads((self.folder / "o.json").read_text())
        judged = next(each for each in found["objectives"] if each["objective"] == "r")
        self.assertEqual((judged["word"], judged["unit"]), ("missed", "B"))
        self.assertGreater(judged["value"], 1)
        self.assertIn("It stopped the run", done.output)

    def test_met_with_exports(self) -> None:
        done = self.call(
            "--json", str(self.folder / "o.json"), "--junit", str(self.folder / "o.xml")
        )
        self.assertIn(done.exit_code, (0, 3), done.output)  # 3 only when this machine was too busy
        found = json.loads((self.folder / "o.json").read_text())
        rows = {row["level"]: row for row in found["rows"]}
        self.assertGreater(rows["request"]["count"], 20)
        self.assertEqual(
            found["exchanges"]["sent"],
            found["exchanges"]["answered"]
            + found["exchanges"]["failed"]
            + found["exchanges"]["in_flight"],
        )
        self.assertEqual(found["objectives"][0]["word"], "met", found["objectives"])
        jsonschema.validate(found, run_schema())
        suite = ElementTree.parse(self.folder / "o.xml").getroot()
        self.assertEqual((suite.get("tests"), suite.get("failures")), ("2", "0"))

    def test_arrivals_are_replayed_from_a_file_beside_the_plan(self) -> None:
        self.write(
            "p.yaml",
            "form: 2\nplan: p\nname: P\nenvironment: e.yaml\ncrowds:\n  - crowd: c\n"
            "    load: {workload: replayed, file: times.csv, rate: 2, ceiling: 50}\n"
            "    rows: [{row: a, journey: j.yaml}]\n",
        )
        self.write(
            "times.csv", "at\n" + "".join(f"2026-11-30T20:00:0{at}Z\n" for at in (0, 1, 1, 3))
        )
        done = self.call("--json", str(self.folder / "o.json"))
        self.assertIn(done.exit_code, (0, 3), done.output)
        self.assertIn("up to 3 arrivals a second", done.output)
        found = json.loads((self.folder / "o.json").read_text())
        arrivals = found["arrivals"]
        self.assertEqual(
            (arrivals["planned"], arrivals["started"] + arrivals["not_started"]), (8, 8)
        )
        self.write("times.csv", "0\nlater\n")
        refused = self.call()
        self.assertEqual(refused.exit_code, 2)
        self.assertIn("Line 2 of the instants", refused.output)

    def test_missed(self) -> None:
        most = PLAN.replace(
            "measure: mean, limit: 1000", "measure: throughput, at_least: true, limit: 100000"
        )
        self.write("p.yaml", most)
        self.assertEqual(self.call("--users", "1", "--duration", "2").exit_code, 1)

    def test_a_target_that_is_gone_misses_what_it_was_to_keep(self) -> None:
        self.write("e.yaml", (self.folder / "e.yaml").read_text().replace("practice: clear", ""))
        done = self.call("--duration", "2")
        self.assertEqual(done.exit_code, 1, done.output)
        self.assertIn("connect-refused", done.output)
        self.assertIn("100 % failed", done.output)

    def test_could_not_run(self) -> None:
        cases = (
            ("p.yaml", PLAN.replace("j.yaml", "../j.yaml"), "leads out of"),
            ("p.yaml", PLAN.replace("j.yaml", "nope.yaml"), "can't be read"),
            ("p.yaml", PLAN + "x: 1\n", "there is no key `x`"),
            ("j.yaml", JOURNEY.replace("env.base", "env.bsae"), "env.bsae"),
            ("j.yaml", JOURNEY.replace("env.base", "observers.email"), "no data set 'observers'"),
            (
                "e.yaml",
                (
                    "form: 1\nenvironment: e\naddresses: {base: "
                    '"http://127.0.0.1:1"}\nsecret_from_process:'
                    " [NOT_SET_ANYWHERE]\n"
                ),
                "NOT_SET_ANYWHERE",
            ),
        )
        for name, text, words in cases:
            before = (self.folder / name).read_text()
            self.write(name, text)
            with self.subTest(words):
                exports = {each: self.folder / f"o.{each}" for each in ("json", "junit")}
                for file in exports.values():
                    file.write_text("an earlier run's")
                done = self.call("--json", str(exports["json"]), "--junit", str(exports["junit"]))
                self.assertEqual(done.exit_code, 2, done.output)
                self.assertIn(words, done.output)
                problem = json.loads(exports["json"].read_text())["problem"]
                self.assertIn(words, problem)
                suite = ElementTree.parse(exports["junit"]).getroot()
                self.assertEqual((suite.get("tests"), suite.get("errors")), ("1", "1"))
                self.assertIn(problem, next(suite.iter("error")).get("message", ""))
            self.write(name, before)

    def test_hints_name_the_file(self) -> None:
        for file, old, new, said in (
            (
                "j.yaml",
                "env.base",
                "env.bas",
                "j.yaml: step ping, request get-ping: address: {{ env.bas }} is not"
                " set in this environment; add 'bas' in e.yaml",
            ),
            (
                "p.yaml",
                "limit: 1000",
                "limit: 1000, step: pong",
                "p.yaml: Objective 't' is about the step 'pong'",
            ),
            (
                "p.yaml",
                "name: P\n",
                "name: P\ndeals: {visitors: {when: user}}\n",
                "p.yaml: deals: 'visitors' is none",
            ),
            ("e.yaml", "agreed: [", "note: x\nagreed: [] # [", "under “agreed” in e.yaml"),
        ):
            with self.subTest(said):
                before = (self.folder / file).read_text()
                self.write(file, before.replace(old, new))
                done = self.call("--environment", "e.yaml")
                self.write(file, before)
                self.assertEqual(done.exit_code, 2, done.output)
                self.assertIn(said, done.output)
                self.assertNotIn("Settings", done.output)

    def test_where_the_figures_can_not_be_written(self) -> None:
        done = self.call("--json", str(self.folder / "nowhere" / "o.json"))
        self.assertEqual(done.exit_code, 2)
        self.assertIn("o.json: No such file or directory", done.output)
        self.assertNotIn("P: 3 users", done.output)  # said before anything was sent
        full = Path("/dev/full")  # opens, and refuses what is written
        done = self.call("--duration", "2", "--json", str(full))
        self.assertEqual(done.exit_code, 2)
        self.assertIn("could not write", done.output)
        self.assertIn("Ping", done.output)  # the figures are printed all the same

    def test_a_target_that_is_not_agreed_gets_nothing(self) -> None:
        self.write("e.yaml", (self.folder / "e.yaml").read_text().split("agreed")[0])
        done = self.call("--duration", "2")
        self.assertEqual(done.exit_code, 2, done.output)
        self.assertIn(
            "No target is agreed in this environment. Add its scheme, host and port under",
            done.output,
        )
        self.assertNotIn("sent", done.output)


class StandIns(TestCase):
    def environment(self, port: int) -> Environment:
        return Environment(
            form=1,
            environment="e",
            addresses={"base": f"http://127.0.0.1:{port}/sky", "other": f"http://10.0.0.1:{port}"},
            values={"hint": f"see http://localhost:{port}1"},
            agreed=(f"http://127.0.0.1:{port}",),
            practice="clear",
        )

    def test_two_runs_at_once_have_two_and_one_that_somebody_started_is_used(self) -> None:
        port = free_port()
        one = practice_for(self.environment(port))
        self.addCleanup(one.end)
        self.assertEqual((one.environment, one.said), (self.environment(port), ""))
        two = practice_for(self.environment(port))
        self.addCleanup(two.end)
        assert one.process is not None and two.process is not None
        own = int(two.environment.addresses["base"].split(":")[2].partition("/")[0])
        self.assertNotEqual(own, port)
        self.assertEqual(two.environment.agreed, (f"http://127.0.0.1:{own}",))
        self.assertEqual(two.environment.addresses["other"], f"http://10.0.0.1:{port}")
        self.assertEqual(two.environment.values, self.environment(port).values)
        self.assertIn(f"this run has its own on port {own}", two.said)
        one.end()
        self.assertTrue(wait_for_port(own, 1), "the end of one run takes nothing from the other")
        other = free_port()
        with socket.socket() as taken:  # somebody's own server
            taken.bind(("127.0.0.1", other))
            taken.listen()
            self.assertEqual(
                practice_for(self.environment(other)), Practice(self.environment(other))
            )
        self.assertEqual(practice_for(replace(self.environment(port), practice="")).process, None)


class Ports(TestCase):
    def test_a_taken_port_is_said_and_the_next_is_used(self) -> None:
        import socket

        state = State.open(Path(self.enterContext(tempfile.TemporaryDirectory())))
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            port = taken.getsockname()[1]
            found, note = state.port("web", port)
            self.assertGreater(found, port)
            self.assertIn(f"port {port} is taken", str(note))

    def test_a_port_that_another_takes_in_between_is_not_taken_for_ours(self) -> None:
        import socket
        from unittest import mock

        state = State.open(Path(self.enterContext(tempfile.TemporaryDirectory())))
        with socket.socket() as other:
            other.bind(("127.0.0.1", 0))
            other.listen()
            port = other.getsockname()[1]
            looks = iter([True])  # it was free when looked at
            free = mock.patch(
                "dynamikos.cli.state.is_free", lambda at: next(looks, None) or is_free(at)
            )
            with free:
                made, found, note = state.listening("web", port)
            with made:
                self.assertGreater(found, port)
                self.assertIn(f"port {port} is taken", str(note))
                self.assertFalse(is_free(found))  # and nobody can take it now

    def test_secrets_are_made_once_and_private(self) -> None:
        state = State.open(Path(self.enterContext(tempfile.TemporaryDirectory())))
        self.assertEqual(state.secret("x"), state.secret("x"))
        self.assertEqual((state.folder / "x.key").stat().st_mode & 0o777, 0o600)


class Address(TestCase):
    def call(self, *words: str):  # type: ignore[no-untyped-def]
        return CliRunner().invoke(command, words)

    def test_one_address_is_loaded_without_a_plan(self) -> None:
        port = free_port()
        target = subprocess.Popen([sys.executable, "-m", "observatory", "--port", str(port)])
        self.addCleanup(target.wait)
        self.addCleanup(target.terminate)
        self.assertTrue(wait_for_port(port, 20))
        file = Path(self.enterContext(tempfile.TemporaryDirectory())) / "o.json"
        address = f"http://127.0.0.1:{port}/sky?constellation=lyra"
        done = self.call(
            "--address", address, "--arrivals-per-s", "5", "--seconds", "2", "--json", str(file)
        )
        self.assertIn(done.exit_code, (0, 3), done.output)
        found = json.loads(file.read_text())
        came = found["arrivals"]
        self.assertEqual(came["planned"], 10)
        # all of them, but for those for which a starved machine had no time within a second: that
        # is counted
        self.assertEqual(came["started"] + came["not_started"], 10)
        self.assertGreater(came["started"], 5)
        self.assertEqual(
            (found["exchanges"]["answered"], found["exchanges"]["failed"]), (came["started"], 0)
        )

    def test_whom_to_trust(self) -> None:
        """A certificate of one's own is named as the cause, and accepted where that is said."""
        authority, context = trustme.CA(), ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        authority.issue_cert("localhost").configure_cert(context)
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        pem, file = folder / "own.pem", folder / "o.json"
        authority.cert_pem.write_to_path(str(pem))
        server = ThreadingHTTPServer(("127.0.0.1", 0), SimpleHTTPRequestHandler)
        server.socket = context.wrap_socket(server.socket, server_side=True)
        Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        given = ("--address", f"https://localhost:{server.server_port}/", "--users", "1")
        # 3 only when this machine was too busy for the load: who was answered is told all the same
        for trust, codes in (
            ((), (1,)),
            (("--trust", "anything"), (0, 3)),
            (("--trust", pem), (0, 3)),
        ):
            with self.subTest(trust=trust[1:]):
                done = self.call(
                    *given, "--seconds", "3", "--json", str(file), *(str(word) for word in trust)
                )
                self.assertIn(done.exit_code, codes, done.output)
                self.assertEqual("tls" in done.output, not trust, done.output)
                counts = json.loads(file.read_text())["exchanges"]
                self.assertEqual(counts["answered"] > 0, bool(trust), counts)
                self.assertEqual(counts["failed"] > 0, not trust, counts)

    def test_what_would_be_ignored_is_refused(self) -> None:
        address = ("--address", "http://127.0.0.1:9/", "--users", "1", "--seconds", "2")
        for more, wanted in (
            (("p.yaml",), "PLAN can't go"),
            (("--set", "a=b"), "--set can't go"),
            (("--duration", "5", "--environment", "e"), "--environment and --duration can't go"),
        ):
            done = self.call(*address, *more)
            self.assertEqual(done.exit_code, 2)
            self.assertIn(wanted, done.output)
        self.assertIn("nothing to run", self.call().output)
        self.assertIn("--trust goes with --address", self.call("p", "--trust", "anything").output)
        for file, wanted in ((__file__, "there is no certificate in it"), ("/none.pem", "No such")):
            self.assertIn(wanted, self.call(*address, "--trust", file).output)
        self.assertIn("go with --address", self.call("p.yaml", "--seconds", "5").output)


class Folders(Files):
    """Runs that were kept are compared and told without a database."""

    def kept(self, name: str) -> str:
        self.write("p.yaml", PLAN.replace("seconds: 2}", "seconds: 3}"))
        folder = str(self.folder / name)
        done = self.call("--keep", folder)
        self.assertIn(done.exit_code, (0, 1, 3), done.output)
        return folder

    def test_lanes_of_a_report_hold_everything_that_was_sent(self) -> None:
        (self.folder / "one" / "shots").mkdir(parents=True)
        old = self.folder / "one" / "shots" / "000001-old.jpg"
        old.write_bytes(b"a picture of an earlier run")
        one = Path(self.kept("one"))
        self.assertFalse(old.exists())
        sent = json.loads((one / "run.json").read_text())["exchanges"]
        lanes = {each.title: each for each in folder.report(one).lanes}
        ended = float(lanes["Exchanges"].lines[0][1].sum())
        self.assertGreater(ended, 0)
        self.assertEqual(ended, sent["sent"] - sent["in_flight"])
        self.assertNotIn("Failures", lanes)  # there were none

    def test_compared_and_told_and_what_is_no_folder(self) -> None:
        one, other = self.kept("one"), self.kept("other")
        done = CliRunner().invoke(compare_command, [one, other, "--json"])
        found = json.loads(done.output)
        self.assertEqual(
            (done.exit_code, found["exit_code"]), (3, 3)
        )  # three seconds are too short to say anything
        self.assertEqual({each["measure"] for each in found["measures"]}, {"mean", "failure-rate"})
        self.assertEqual(found["inputs_differ"], [])
        told = json.loads((Path(one) / "run.json").read_text())
        ping = next(each for each in told["rows"] if each["level"] == "step")
        begin, end = told["measured_from_s"], told["measured_to_s"]
        seconds = [
            each for each in pq.read_table(Path(one) / "seconds.parquet").to_pylist()
            if each["level"] == "step" and begin <= each["second"] < end
        ]  # fmt: skip
        mean_ms = (
            sum(each["sum_us"] for each in seconds) / 1000 / sum(each["passed"] for each in seconds)
        )
        mean = next(each for each in found["measures"] if each["measure"] == "mean")
        self.assertAlmostEqual(mean["a"], mean_ms, delta=0.001 * mean_ms)
        page = self.folder / "r.html"
        done = CliRunner().invoke(
            report_command, [one, "--html", str(page), "--markdown", str(self.folder / "r.md")]
        )
        self.assertEqual(done.exit_code, 0, done.output)
        self.assertIn(
            "mean of Ping" if "mean of Ping" in page.read_text() else "mean of all steps",
            page.read_text(),
        )
        self.assertIn("## What this can't say", (self.folder / "r.md").read_text())
        done = CliRunner().invoke(report_command, [one, "--folder", str(self.folder / "figures")])
        self.assertEqual((done.exit_code, done.output), (0, ""))
        steps = pq.read_table(self.folder / "figures" / "steps.parquet").to_pylist()
        self.assertEqual([each["p50_ms"] for each in steps], [ping["p50_ms"]])
        with (self.folder / "figures" / "steps.csv").open() as file:
            self.assertEqual([int(each["count"]) for each in csv.DictReader(file)], [ping["count"]])
        for asked, words in (
            (compare_command, [one, "nowhere"]), (compare_command, [one, ","]),
            (compare_command, [str(self.folder), one]), (report_command, ["nowhere"]),
            (report_command, [str(self.folder)]),
        ):  # fmt: skip
            with self.subTest(words):
                done = CliRunner().invoke(asked, words)
                self.assertEqual(done.exit_code, 2)
                self.assertIn("could not", done.output)
