from unittest import TestCase

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.probes import Host, Measured, Probe, Reader, probe_problems, wants
from dynamikos.core.probes.afterwards import measures_from_csv
from dynamikos.core.probes.model import unknown_names
from dynamikos.core.probes.shots import Shot, worth_keeping

OPEN = b"""# TYPE jobs counter
# UNIT jobs seconds
jobs_seconds_total{b="2",a="1"} %d
# TYPE depth gauge
depth %s
# TYPE took_seconds histogram
took_seconds_bucket{le="1.0"} 1
took_seconds_bucket{le="+Inf"} 1
took_seconds_count 1
took_seconds_sum 0.5
# EOF
"""
PLAIN = b"# TYPE hits counter\nhits 7\nfree_bytes 12.5\nodd NaN\n"


def openmetrics(count: int, depth: str = "3") -> bytes:
    return OPEN.replace(b"# UNIT jobs seconds\n", b"").replace(
        b"jobs_seconds_total", b"jobs_total"
    ) % (count, depth.encode())


class Reading(TestCase):
    def test_counters_become_rates_and_gauges_stay(self) -> None:
        reader = Reader()
        first = {
            each.name: value for each, value in reader.read(openmetrics(100), "", 10.0).items()
        }
        self.assertEqual(first, {"depth": 3.0})
        second = {
            each.name: value for each, value in reader.read(openmetrics(160, "4"), "", 12.0).items()
        }
        self.assertEqual(
            second,
            {
                'jobs_total{a="1",b="2"}': 30.0,
                "depth": 4.0,
                "took_seconds_count": 0.0,
                "took_seconds_sum": 0.0,
            },
        )

    def test_a_reset_and_a_gap_make_nothing_up(self) -> None:
        reader = Reader(["jobs_total"])
        reader.read(openmetrics(100), "", 0.0)
        self.assertEqual(reader.read(openmetrics(5), "", 1.0), {})
        self.assertEqual(list(reader.read(openmetrics(9), "", 2.0).values()), [4.0])
        reader.forget()
        self.assertEqual(reader.read(openmetrics(50), "", 9.0), {})
        self.assertEqual(list(reader.read(openmetrics(51), "", 10.0).values()), [1.0])

    def test_a_reset_that_has_passed_the_old_value_is_seen_by_when_it_began(self) -> None:
        def counter(count: int, created: int) -> bytes:
            said = (
                f'# TYPE jobs counter\njobs_total{{a="1"}} {count}\njobs_created{{a="1"}} '
                f"{created}\n"
            )
            return (said + "# EOF\n").encode()

        def process(count: int, created: int) -> bytes:
            return (
                f"# TYPE jobs counter\njobs {count}\nprocess_start_time_seconds {created}\n"
            ).encode()

        def gauge(
            count: int, created: int
        ) -> bytes:  # as client libraries write it into the other format
            said = (
                "# TYPE jobs_created gauge\njobs_created{} %d\n# TYPE jobs_total "
                "counter\njobs_total %d\n"
            )
            return (said % (created, count)).encode()

        for page in (counter, process, gauge):
            with self.subTest(page.__name__):
                reader, found = Reader(["jobs*"]), []
                for at, (count, created) in enumerate(((12, 100), (14, 100), (16, 105), (20, 105))):
                    found.append([*reader.read(page(count, created), "", float(at)).values()])
                self.assertEqual(found, [[], [2.0], [], [4.0]])

    def test_a_measure_that_is_named_like_an_instant_by_chance_is_kept(self) -> None:
        chance = b"# TYPE orders_created gauge\norders_created 5\n"
        plain = (
            b"# TYPE jobs_total counter\njobs_total 3\n# TYPE jobs_created gauge\njobs_created 9\n"
        )
        for body in (
            chance + plain,
            chance + b"# TYPE jobs counter\njobs_total 3\njobs_created 9\n# EOF\n",
        ):
            found = Reader().read(body, "", 0.0)
            self.assertEqual(
                {each.name: value for each, value in found.items()}, {"orders_created": 5.0}
            )

    def test_the_other_text_format_and_units(self) -> None:
        reader = Reader()
        self.assertEqual(
            reader.read(PLAIN, "text/plain", 0.0), {Measured(name="free_bytes", unit="B"): 12.5}
        )
        self.assertEqual(
            reader.read(PLAIN, "text/plain", 1.0)[Measured(name="hits_total", unit="/s")], 0.0
        )

    def test_what_can_not_be_read_is_said(self) -> None:
        for body, words in (
            (b"<html>no</html>", "not Prometheus"),
            (b"x{ 3\n# EOF\n", "not OpenMetrics"),
            (b"", "no mea"),
            (b"a" * 6_000_000, "at most"),
        ):
            with self.subTest(words), self.assertRaisesRegex(DynamikosError, words):
                Reader().read(body, "", 0.0)

    def test_no_more_than_can_be_kept(self) -> None:
        reader = Reader()
        body = "".join(f'm{{n="{n}"}} 1\n' for n in range(2200)).encode()
        self.assertEqual((len(reader.read(body, "", 0.0)), reader.left_out), (2000, 200))

    @given(st.lists(st.integers(0, 1000), min_size=2, max_size=30))
    def test_rates_never_fall_below_zero(self, counts: list[int]) -> None:
        reader = Reader(["jobs*"])
        for at, count in enumerate(counts):
            for value in reader.read(openmetrics(count), "", float(at)).values():
                self.assertGreaterEqual(value, 0)


class Choosing(TestCase):
    def test_by_name_by_part_and_by_label(self) -> None:
        name = 'queue_length{resource="pool"}'
        self.assertTrue(wants([], name))
        self.assertTrue(wants(["queue*"], name))
        self.assertTrue(wants(['queue_length{resource="pool"}'], name))
        self.assertTrue(wants(['*{resource="po*"}'], name))
        self.assertFalse(wants(['queue_length{resource="disk"}', "heap*"], name))
        self.assertTrue(wants(["heap*", "*a*b", "*eng*"], name))

    def test_what_looking_for_names_takes_is_bounded(self) -> None:
        many = Probe(
            probe="p", openmetrics="http://h/", measures=tuple(f"m{at}" for at in range(101))
        )
        self.assertIn("names 101 measures; at most 100", probe_problems([many])[0])
        for name in ("x" * 201, "*a" * 9):
            told = probe_problems([Probe(probe="p", openmetrics="http://h/", measures=(name,))])
            self.assertIn("at most 200 and 8 are taken", told[0])
        self.assertEqual(
            probe_problems([Probe(probe="p", openmetrics="http://h/", measures=("*a" * 8,))]), []
        )
        # what is bounded comes to an end
        self.assertFalse(
            any(wants(["*a" * 8 + "b"] * 100, "a" * length) for length in range(900, 1000))
        )

    def test_what_is_wrong_with_a_probe(self) -> None:
        probes = [
            Probe(probe="a"),
            Probe(probe="b", openmetrics="ftp://x"),
            Probe(probe="b", host=Host()),
        ]
        self.assertEqual(len(probe_problems(probes)), 3)
        self.assertEqual(probe_problems([Probe(probe="a", openmetrics="http://x/metrics")]), [])

    def test_headers_that_can_not_be_sent_and_names_that_nobody_has(self) -> None:
        good = Probe(
            probe="a",
            openmetrics="{{ env.site }}/metrics",
            headers=(("Authorization", "Bearer {{ secrets.word }}"),),
        )
        self.assertEqual(probe_problems([good]), [])
        self.assertEqual((good.names, good.secrets), ({"env.site", "secrets.word"}, {"word"}))
        self.assertEqual(unknown_names([good], {"env.site", "secrets.word"}), [])
        self.assertIn(
            "names secrets.word, which the environment has not",
            unknown_names([good], {"env.site"})[0],
        )
        for name, value, said in (
            ("Bad name", "x", "can't be the name of a header"),
            ("Host", "x", "said by the connection itself"),
            ("X", "a\r\nY: b", "has a line break"),
            ("X", "{{ env. }}", "'a': "),
            ("", "x", "can't be the name"),
            ("Content-Length", "3", "is computed"),
        ):
            with self.subTest(name=name, value=value):
                found = probe_problems([replace(good, headers=((name, value),))])
                self.assertIn(said, found[0])
        self.assertIn(
            "take them out",
            probe_problems([Probe(probe="m", host=Host(), headers=good.headers)])[0],
        )


class Afterwards(TestCase):
    BEGAN = 1_790_000_000.0  # 2026-09-21T14:13:20Z

    def test_each_kind_of_time_and_a_shift(self) -> None:
        for first, second in (
            ("2026-09-21T14:13:21Z", "2026-09-21 16:13:22.5+02:00"),
            ("2026-09-21 14:13:21",) * 2,
            ("1790000001", "1790000002.5"),
            ("1790000001000", "1790000002500"),
            ("1", "2.5"),
        ):
            with self.subTest(first):
                found = measures_from_csv(f"time;a;b\n{first};5;1,5\n{second};7;\n", self.BEGAN, 4)
                there = [None if np.isnan(value) else float(value) for value in found["a"]]
                self.assertEqual(
                    there, [None, 6.0, None, None] if first == second else [None, 5.0, 7.0, None]
                )
        moved = measures_from_csv("t,a\n1,5\n", self.BEGAN, 4, 2.0)["a"]
        self.assertEqual(np.flatnonzero(~np.isnan(moved)).tolist(), [3])

    def test_what_can_not_be_read_is_said_with_its_line(self) -> None:
        for text, words in (
            ("t,a\n", "needs a line of names"),
            ("t\n1\n", "0 measures"),
            ("t,a,a\n1,2,3\n", "“a” is none"),
            ("t,a\nsoon,2\n", "Line 2: “soon” is not a time"),
            ("t,a\n1,2\nsoon,2\n", "Line 3: “soon” is not a time like that of line 2"),
            ("t,a\n1,2\n2\n", "Line 3: 1 columns found, 2 expected"),
            ("t,a\n1,many\n", "Line 2: “many” in the column a"),
            ("t,a\n1,2\n1e999,2\n", "Line 3: “1e999” is not a time like"),
            ("t,a\n1,2\ninf,2\n", "Line 3: “inf” is not a time like"),
            ('t,a\n1,"2\n', "can't be read as CSV: unexpected end"),
            (
                "t,a\n900,1\n",
                "None of its times lies in the run, which began at 2026-09-21 14:13:20 UTC",
            ),
        ):
            with self.subTest(words), self.assertRaisesRegex(DynamikosError, words):
                measures_from_csv(text, self.BEGAN, 4)


class Pictures(TestCase):
    def test_which_of_a_page_are_worth_keeping(self) -> None:
        def shot(paint: float = 100.0, problem: str = "", jpeg: bytes = b"j") -> Shot:
            return Shot(
                page="/",
                jpeg=jpeg,
                figures={"largest paint": paint} if paint else {},
                problem=problem,
            )

        for before, each, since_s, kept in (
            ([], shot(), 0, True),
            ([shot()], shot(110), 15, False),
            ([shot()], shot(130), 15, True),  # the slowest so far
            ([shot()], shot(100), 60, True),  # one a minute
            ([shot()], shot(0, "gone"), 15, True),
            ([shot(0, "gone")], shot(0, "gone"), 15, False),
            ([shot(0, "gone")], shot(), 15, True),
            ([shot(jpeg=b"")], shot(), 15, True),  # the first came to no picture
            ([shot(jpeg=b"")], shot(jpeg=b""), 15, False),
            ([shot(), shot(130, jpeg=b"")], shot(), 15, False),
        ):
            with self.subTest(before=before, each=each):
                self.assertIs(worth_keeping(before, each, since_s), kept)
