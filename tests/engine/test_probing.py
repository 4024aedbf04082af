"""Probes on the run's clock, in virtual time: what they tell when, gaps, targets that were not
agreed to.
"""

import asyncio
import base64
import re
import subprocess
import sys
from collections.abc import Callable
from unittest import TestCase

import msgspec
import uvloop

from dynamikos.core.plans import parse_target
from dynamikos.core.probes import Host, Probe
from dynamikos.engine.clock import RealClock
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.probing import ProbeSecond, Probing, source_of, try_once
from dynamikos.engine.testing import Scripted, ScriptedNetwork, VirtualClock, answer, run_virtual
from tests.engine.support import BASE


def page(count: int, status: int = 200) -> bytes:
    return answer(
        b"# TYPE jobs counter\njobs_total %d\n# TYPE depth gauge\ndepth %d\n# EOF\n"
        % (count, count),
        status,
    )


class Clocked(TestCase):
    def told(
        self, *answers: Scripted, every_s: float = 1.0, seconds: float = 5.5
    ) -> list[ProbeSecond]:
        given = iter(answers)
        made: list[ProbeSecond] = []

        async def program() -> None:
            clock = VirtualClock()
            network = ScriptedNetwork(lambda data: next(given))
            probe = Probe(probe="p", openmetrics="{{ env.base }}/metrics", every_s=every_s)
            values = {"env.base": BASE}
            task = asyncio.create_task(
                Probing([probe], values, network, clock, clock.now(), made.append).run()
            )
            await clock.at(clock.now() + seconds)
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

        run_virtual(program())
        return made

    def test_at_the_end_of_each_second_with_rates_from_the_second_on(self) -> None:
        told = self.told(*(Scripted(page(10 * n), 0.01) for n in range(1, 6)))
        self.assertEqual([each.second for each in told], [0, 1, 2, 3, 4])
        self.assertEqual(told[0].values, {"depth": 10.0})
        self.assertEqual({round(each.values["jobs_total"], 6) for each in told[1:]}, {10.0})
        self.assertEqual(told[1].units["jobs_total"], "/s")

    def test_one_that_fails_is_a_gap_and_makes_no_rate_over_it(self) -> None:
        told = self.told(
            *(Scripted(page(10 * n, 500 if n == 2 else 200), 0.01) for n in range(1, 6))
        )
        self.assertIn("status 500", told[1].problem)
        self.assertEqual(told[1].values, {})
        self.assertEqual(told[2].values, {"depth": 30.0})
        self.assertAlmostEqual(told[3].values["jobs_total"], 10.0)

    def test_one_that_is_slow_is_a_gap_of_its_seconds_only(self) -> None:
        told = self.told(
            Scripted(page(1), 0.01),
            Scripted(page(2), 30.0),
            *(Scripted(page(n), 0.01) for n in (3, 4, 5)),
        )
        self.assertEqual([bool(each.problem) for each in told], [False, True, False, False, False])

    def test_less_often(self) -> None:
        told = self.told(*(Scripted(page(n), 0.01) for n in range(9)), every_s=2, seconds=6.5)
        self.assertEqual([each.second for each in told], [1, 3, 5])


SECRET = "Zk4-Wy7pQ2vT"


class Echoing(TestCase):
    """A target that shows what it was asked with, in each place that something is taken from."""

    def told(
        self, body: bytes, kind: str = "application/openmetrics-text", status: str = "200 OK"
    ) -> ProbeSecond:
        made: list[ProbeSecond] = []
        head = f"Content-Type: {kind}\r\n"

        async def program() -> None:
            clock = VirtualClock()
            self.network = network = ScriptedNetwork(
                lambda data: Scripted(answer(body, status, head), 0.01)
            )
            said = (("Authorization", "Bearer {{ secrets.key }}"),)
            probe = Probe(
                probe="p", openmetrics="{{ env.base }}/metrics?key={{ secrets.key }}", headers=said
            )
            secrets = {"secrets.key": SECRET}
            probing = Probing(
                [probe],
                {"env.base": BASE},
                network,
                clock,
                clock.now(),
                made.append,
                secrets=secrets,
            )
            task = asyncio.create_task(probing.run())
            await clock.at(clock.now() + 1.5)
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

        run_virtual(program())
        return made[0]

    def spelt(self) -> list[str]:
        plain = [SECRET, SECRET.upper(), SECRET.lower(), SECRET.swapcase()]
        return [*plain, *(each[::-1] for each in plain), base64.b64encode(SECRET.encode()).decode()]

    def test_no_measure_that_repeats_it_is_kept_and_the_others_are(self) -> None:
        for each in self.spelt():
            name = re.sub(r"\W", "_", each)
            for said in (
                f'seen{{key="{each}"}} 1',
                f'seen{{k="a {each} b",l="2"}} 1',
                f'seen{{x{name}="{each}"}} 1',
            ):
                with self.subTest(said):
                    told = self.told(
                        f"# TYPE seen gauge\n# HELP seen {each}\n{said}\ndepth 3\n# EOF\n".encode()
                    )
                    self.assertEqual(told.values, {"depth": 3.0})
                    self.assertIn("1 of its measures are not kept", told.unkept)
                    self.assert_without(told, each)

    def test_a_unit_and_an_error_are_not_quoted_with_it(self) -> None:
        for each in self.spelt():
            unit = re.sub(r"\W", "_", each)
            self.assert_without(
                self.told(
                    f"# TYPE t_{unit} gauge\n# UNIT t_{unit} {unit}\nt_{unit} 1\n# EOF".encode()
                ),
                each,
            )
            for broken in (
                f"{each} {each} 1\n",
                f"seen{{key={each} 1\n",
                "x" * 190 + f"{each} not a number\n",
            ):
                for kind in ("application/openmetrics-text", "text/plain"):
                    with self.subTest(broken, kind=kind):
                        told = self.told(broken.encode(), kind)
                        self.assertEqual(told.values, {})
                        self.assertTrue(told.problem)
                        self.assert_without(told, each)
            self.assert_without(self.told(b"", status=f"200 {each}"), each)
            self.assert_without(
                self.told(b"", status=f"302 Found\r\nLocation: http://other/{each}"), each
            )

    def assert_without(self, told: ProbeSecond, said: str) -> None:
        kept = msgspec.json.encode(told).decode()
        for start in range(len(said) - 7):  # nor a part of it
            self.assertNotIn(said[start : start + 8], kept)

    def test_what_belongs_to_no_user_has_no_trace(self) -> None:
        self.told(b"# TYPE depth gauge\ndepth 3\n# EOF\n")
        sent = self.network.requests[0].decode()
        self.assertTrue(sent.endswith("\r\n\r\n"))
        self.assertNotIn("traceparent", sent)
        self.assertEqual(sent.count("\r\n\r\n"), 1)

    def test_names_that_only_resemble_it_are_kept(self) -> None:
        told = self.told(f'# TYPE seen gauge\nseen{{key="{SECRET[:-1]}"}} 1\n# EOF\n'.encode())
        self.assertEqual((len(told.values), told.unkept), (1, ""))


class Real(TestCase):
    def test_agreed_targets_only_and_this_machine(self) -> None:
        async def program(end: Callable[[], None]) -> tuple[list[str], dict[str, float]]:
            clock = RealClock()
            network = RealNetwork((parse_target("http://127.0.0.1:9"),))
            problems = []
            for address in (
                "http://127.0.0.1:10/metrics",
                "http://169.254.169.254/metrics",
                "http://127.0.0.1:9/x",
            ):
                try:
                    source = source_of(Probe(probe="p", openmetrics=address), {}, network, clock)
                    await try_once(source, clock, 1)
                except Exception as problem:
                    problems.append(str(problem))
            machine = source_of(
                Probe(probe="m", host=Host(processes=("python",))), {}, network, clock
            )
            asyncio.get_running_loop().call_later(
                0.5, end
            )  # what one had taken is not taken away from the others
            found = await try_once(machine, clock, 1)
            await network.aclose()
            clock.close()
            return problems, {each.name: value for each, value in found.items()}

        child = subprocess.Popen([sys.executable, "-c", "while True: pass"])
        self.addCleanup(child.wait)
        problems, values = uvloop.run(program(child.kill))
        self.assertEqual(len(problems), 3)
        self.assertIn("not an agreed target", problems[0])
        self.assertIn("not an agreed target", problems[1])
        self.assertTrue(0 <= values["processor"] <= 100)
        self.assertTrue(0 < values["memory used"] < 100)
        self.assertGreaterEqual(values["processor of python"], 0)
