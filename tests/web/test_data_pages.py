"""Data sets, environments, functions and items as their pages change them; what users write never
runs in the web.
"""

import json
import time

import msgspec

from dynamikos.core.dealing import ColumnRule, Deal, Form
from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys.columns import matches, occurrences, put_column
from dynamikos.core.journeys.kinds import Repeating
from dynamikos.core.plans.environment import WAY
from dynamikos.sealing import SealingError, box, new_key, public_of, unbox
from dynamikos.web.datasets import actions, queries, uploads
from dynamikos.web.datasets.models import DataBlock, DataSet, Upload
from dynamikos.web.environments import actions as environments
from dynamikos.web.environments.models import Environment, Secret
from dynamikos.web.environments.queries import opened
from dynamikos.web.functions.models import Module
from dynamikos.web.journeys.queries import content
from dynamikos.web.projects.models import Event, Membership
from dynamikos.web.projects.revisions import token
from tests.web.support import PageCase


class Data(PageCase):
    def at(self, tail: str = "", found: DataSet | None = None) -> str:
        return self.sample.address(f"data/{(found or self.sample.data).pk}{tail}")

    def rows(self, found: DataSet | None = None) -> list[list[str]]:
        return list(queries.all_rows(DataSet.objects.get(pk=(found or self.sample.data).pk)))

    def change(self, what: str, **more: object) -> object:
        return self.client.post(self.at("/change"), {"what": what, **more})

    def made(self, name: str, text: bytes) -> DataSet:
        return uploads.import_csv(self.sample.member, text, name)

    def test_a_file_is_looked_at_before_it_is_taken_in_and_read_again_when_changed(self) -> None:
        answer = self.client.post(
            self.sample.address("data/import"),
            {"name": "terms", "text": 'term;n\n"a;b";1\nZoë;2\n'},
        )
        page = self.client.get(answer.headers["Location"])
        self.assertContains(page, '<option value=";" selected>semicolon</option>', html=True)
        self.assertContains(page, "a;b")
        again = self.client.post(
            answer.headers["Location"],
            {
                "kind": "separated",
                "encoding": "utf-8",
                "delimiter": ",",
                "quote": '"',
                "header": "no",
            },
            headers={"HX-Request": "true"},
        )
        self.assertContains(again, "column_1")
        wrong = self.client.post(
            answer.headers["Location"],
            {"kind": "json lines", "encoding": "utf-8"},
            headers={"HX-Request": "true"},
        )
        self.assertContains(wrong, "not JSON")
        self.client.post(
            answer.headers["Location"],
            {
                "kind": "separated",
                "encoding": "utf-8",
                "delimiter": ";",
                "quote": '"',
                "header": "yes",
            },
        )
        upload = Upload.objects.get()
        # in a worker, as the page's button does
        made = uploads.take_in(self.sample.member, upload, msgspec.convert(upload.form, Form))
        self.assertEqual(
            (made.key, made.columns, self.rows(made)),
            ("terms", ["term", "n"], [["a;b", "1"], ["Zoë", "2"]]),
        )
        self.assertFalse(Upload.objects.exists() or uploads.file_of(upload).exists())

    def test_cells_are_kept_as_typed_and_nothing_of_another_is_lost(self) -> None:
        before = DataBlock.objects.count()
        old = self.rows()[1500][3]
        answer = self.client.post(
            self.at("/cell"), {"row": 1501, "column": "constellation", "text": "vela", "old": old}
        )
        self.assertEqual(
            (answer.status_code, self.rows()[1500][3], DataBlock.objects.count()),
            (200, "vela", before + 1),
        )
        stale = self.client.post(
            self.at("/cell"), {"row": 1501, "column": "constellation", "text": "lyra", "old": old}
        )
        self.assertEqual(stale.status_code, 409)
        self.assertIn("was changed to “vela” meanwhile", stale.json()["problem"])
        for text, words in (("x" * 10_000_000, "at most 1,000,000 characters"), ("a\0b", "NUL")):
            refused = self.client.post(self.at("/cell"), {"row": 1, "column": "name", "text": text})
            self.assertEqual(
                (refused.status_code, words in refused.json()["problem"]), (422, True), words
            )
        self.assertEqual(
            self.client.post(
                self.at("/cell"), {"row": 9_999, "column": "name", "text": "x"}
            ).status_code,
            422,
        )
        self.assertEqual(len(self.rows()), 2000)
        self.change("undo")
        self.assertEqual(self.rows()[1500][3], old)

    def test_rows_and_columns(self) -> None:
        first, second = self.rows()[:2]
        self.change("row-down", row=1)
        self.assertEqual(self.rows()[:2], [second, first])
        self.change("add-row", row=2000)
        self.assertEqual(self.rows()[2000], [""] * 5)
        self.change("row-to", row=1, to=2001)
        self.assertEqual(self.rows()[2000], second)
        self.change("delete-row", row=1)
        self.assertEqual((len(self.rows()), self.rows()[0][0]), (2000, self.rows()[0][0]))
        self.change("add-column", column="reference", make="sequence", start=100, step=2, width=6)
        self.assertEqual([row[5] for row in self.rows()[:2]], ["000100", "000102"])
        self.change("column-left", column="reference")
        self.assertEqual(
            (DataSet.objects.get(pk=self.sample.data.pk).columns[4], self.rows()[1][4]),
            ("reference", "000102"),
        )
        self.change("rename-column", column="reference", to="ref")
        self.change("delete-column", column="night")
        self.assertEqual(
            DataSet.objects.get(pk=self.sample.data.pk).columns,
            ["email", "password", "name", "constellation", "ref"],
        )
        self.assertContains(
            self.change("add-column", column="no name", make="choice", among="a\nb"),
            "can&#x27;t be a column name",
            status_code=422,
        )  # type: ignore[arg-type]
        self.assertContains(
            self.change("add-column", column="d", make="date", form="%999999999d"),
            "no date format",
            status_code=422,
        )  # type: ignore[arg-type]
        for _ in range(7):
            self.change("undo")
        self.assertEqual(self.rows()[:2], [second, first])
        self.assertContains(self.client.get(self.at() + "?find=ASHDOWN1@"), "bran.ashdown1@")

    def test_rows_deleted_and_added_across_blocks_stay_in_order(self) -> None:
        made = self.made("n.csv", b"n\n" + b"".join(b"%d\n" % at for at in range(2_500)))
        for at in (2_499, 1_000, 999, 0):
            actions.delete_row(self.sample.member, made.pk, at)
        actions.add_row(self.sample.member, made.pk, 997, ["new"])
        expected = [str(at) for at in range(2_500) if at not in (2_499, 1_000, 999, 0)]
        expected.insert(997, "new")
        made.refresh_from_db()
        self.assertEqual([row[0] for row in self.rows(made)], expected)
        self.assertEqual([row[0] for row in queries.page(made, 995, 6)], expected[995:1001])
        self.assertEqual(sum(queries.sizes_of(made)), made.rows)

    def test_columns_of_a_large_table_are_changed_in_a_worker(self) -> None:
        made = self.made(
            "n.csv", b"n,m\n" + b"".join(b"%d,m\n" % at for at in range(queries.LARGE + 1))
        )
        told: list[float] = []
        actions.add_column(
            self.sample.member, made.pk, "row", ColumnRule(kind="sequence", start=5), told.append
        )
        self.assertEqual((told, max(told) > 0.9, len(set(told)) > 20), (sorted(told), True, True))
        made.refresh_from_db()
        self.assertEqual(
            (made.columns, self.rows(made)[-1]), (["n", "m", "row"], ["20000", "m", "20005"])
        )
        self.assertEqual({row[0] == str(int(row[2]) - 5) for row in self.rows(made)}, {True})

        def leaves(share: float) -> None:
            if share > 0.3:
                raise DynamikosError("nobody waits for it")

        with self.assertRaisesRegex(DynamikosError, "nobody waits"):
            actions.delete_column(self.sample.member, made.pk, "m", leaves)
        version = made.version
        made.refresh_from_db()
        self.assertEqual((made.version, made.columns), (version, ["n", "m", "row"]))

        def typed(share: float) -> None:
            if DataSet.objects.get(pk=made.pk).version == version:
                actions.set_cell(self.sample.member, made.pk, 12_345, "n", "typed meanwhile", None)

        actions.move_column(self.sample.member, made.pk, "row", -1, typed)
        made.refresh_from_db()
        self.assertEqual(
            (made.columns, self.rows(made)[12_345]),
            (["n", "row", "m"], ["typed meanwhile", "12350", "m"]),
        )
        self.assertEqual([at for at, _ in queries.find(made, "TYPED mean")[0]], [12_345])
        self.assertFalse(list(uploads.file_of(Upload(pk=made.pk)).parent.glob("*.blocks")))
        page = self.client.get(self.at("", made))
        self.assertContains(page, 'data-upload="#work"')
        self.assertContains(page, "Count how many values differ")
        self.client.post(self.at("/change", made), {"what": "count"})
        self.assertContains(self.client.get(self.at("", made)), "always “m”")
        self.assertEqual(
            [fact.different for fact in queries.facts(made) or []],
            [queries.LARGE + 1, queries.LARGE + 1, 1],
        )
        actions.set_cell(
            self.sample.member, made.pk, 0, "m", "other", None
        )  # counted anew when asked again
        self.assertContains(self.client.get(self.at("", made)), "Count how many values differ")
        answer = self.client.post(
            self.at("/change", made),
            {"what": "delete-column", "column": "row"},
            headers={"HX-Request": "true"},
        )
        # with progress; without the page's script it is done at once, as for small ones
        self.assertTrue(answer.streaming)
        wrong = self.client.post(
            self.at("/change", made),
            {"what": "add-column", "column": "x", "make": "sequence", "start": "x"},
        )
        self.assertContains(wrong, "start: &#x27;x&#x27; is not a number", status_code=422)

    def test_cells_are_pasted_as_a_spreadsheet_copies_them(self) -> None:
        made = self.made("p.csv", b"a,b,c\n" + b"".join(b"%d,x,y\n" % at for at in range(1_001)))

        def pasted(row: int, column: str, block: str) -> dict[str, str]:
            return self.client.post(
                self.at("/cell", made), {"row": row, "column": column, "block": block}
            ).json()

        self.assertEqual(
            pasted(999, "b", 'p\tq\r\n"two\nlines"\n\ts\n=1+1\tt\n')["address"],
            f"{self.at('', made)}?from=999",
        )
        self.assertEqual(
            self.rows(made)[997:],
            [
                ["997", "x", "y"],
                ["998", "p", "q"],
                ["999", "two\nlines", "y"],
                ["1000", "", "s"],
                ["", "=1+1", "t"],
            ],
        )
        self.assertIn("2 columns wide; from c on there are 1", pasted(1, "c", "1\t2\n")["problem"])
        self.assertIn("NUL", pasted(1, "c", "1\x00\n2")["problem"])
        self.assertIn("can't be read as cells", pasted(1, "c", '"never closed\n2')["problem"])
        self.assertIn("At most 20,000 rows", pasted(1, "c", "x\n" * 20_001)["problem"])
        self.assertEqual(len(self.rows(made)), 1_002)
        self.client.post(self.at("/change", made), {"what": "undo"})  # one paste, one step back
        self.assertEqual(
            self.rows(made)[998:], [["998", "x", "y"], ["999", "x", "y"], ["1000", "x", "y"]]
        )
        empty = self.made("e.csv", b"a,b\n1,2\n")
        actions.delete_row(self.sample.member, empty.pk, 0)
        actions.paste(self.sample.member, empty.pk, 0, "a", "1\t2\n3\t4")
        self.assertEqual(self.rows(empty), [["1", "2"], ["3", "4"]])

    def test_what_columns_hold_is_counted(self) -> None:
        made = self.made("k.csv", b"mail,term,none,pin\na@x,ring,,1\nb@x,ring,,1\nc@x,,,2\n")
        page = self.client.get(self.at("", made))
        for words in (
            "all differ",
            "2 different; “ring” 2 times; 1 empty",
            "always “”",
            "2 different</p>",
        ):  # the pin is masked, so none is shown
            self.assertContains(page, words)
        self.client.post(self.at("/change", made), {"what": "row-to", "row": 3, "to": 1})
        self.assertEqual([row[0] for row in self.rows(made)], ["c@x", "a@x", "b@x"])

    def test_a_renamed_column_is_followed_by_the_journeys_that_use_it(self) -> None:
        page = self.client.get(self.at(""))
        self.assertContains(page, "used by Evening booking")
        self.client.post(
            self.at("/deal"),
            {
                "whose": "pile",
                "order": "in order",
                "when": "user",
                "then": "leave",
                "apart": ["email", "name"],
            },
        )
        numbers = [self.stored().head.number]  # type: ignore[union-attr]
        self.change("rename-column", column="email", to="mail")
        self.assertIn("{{ observers.mail }}", str(content(self.stored())))
        self.assertNotIn("observers.email", str(content(self.stored())))
        self.assertEqual(
            queries.deal_of(DataSet.objects.get(pk=self.sample.data.pk)).apart, ("mail", "name")
        )
        numbers.append(self.stored().head.number)  # type: ignore[union-attr]
        self.change("undo")
        self.assertIn("{{ observers.email }}", str(content(self.stored())))
        self.assertEqual(
            queries.deal_of(DataSet.objects.get(pk=self.sample.data.pk)).apart, ("email", "name")
        )
        self.assertEqual(numbers, [1, 2])
        # another file is not a renaming
        self.made("observers.csv", b"mail,password,name,constellation,night\na,b,c,d,e\n")
        number = self.stored().head.number  # type: ignore[union-attr]
        self.change("undo")
        self.assertEqual(self.stored().head.number, number)  # type: ignore[union-attr]
        self.change("delete-column", column="name")
        self.assertEqual(
            queries.deal_of(DataSet.objects.get(pk=self.sample.data.pk)).apart, ("email",)
        )

    def test_a_reader_cannot_ask_what_masked_cells_hold(self) -> None:
        secret = self.rows()[0][1]
        address = self.at("") + f"?find={secret}"
        self.assertContains(self.client.get(address), "1 row with")
        self.client.force_login(self.sample.accounts["cass"])
        self.assertContains(self.client.get(address), "0 rows with")
        self.assertContains(self.client.get(self.at("") + "?find=ada.ashdown0"), "1 row with")

    def test_finding_looks_into_cells_only(self) -> None:
        made = self.made("f.csv", "a,b\nStraße,Æther\nab,cd\n{},x\n".format("ö" * 300).encode())
        for wanted, rows in (
            ("STRASSE", []),
            ("straße", [0]),
            ("æTH", [0]),
            ("bc", []),
            ("ab", [1]),
            ("öö", [2]),
            ("\x92", []),
        ):
            with self.subTest(wanted):
                self.assertEqual([at for at, _ in queries.find(made, wanted)[0]], rows)
        self.assertEqual(queries.find(made, "a", after=1), ([(1, ["ab", "cd"])], 3))

    def test_the_deal_is_a_sentence_and_its_drawing_follows(self) -> None:
        words = {"whose": "slice", "order": "in order", "when": "round", "then": "leave"}
        answer = self.client.post(self.at("/deal"), words)
        self.assertContains(
            answer, "user 2, round 1: row 101"
        )  # 2,000 rows over the plan's 20 users
        self.assertEqual(
            queries.deal_of(DataSet.objects.get(pk=self.sample.data.pk)),
            Deal(whose="slice", then="leave"),
        )
        few = self.made("few.csv", b"n\n1\n2\n3\n")
        self.client.post(self.at("/deal", few), {**words, "whose": "pile", "follow": "observers"})
        self.assertEqual(queries.deal_of(DataSet.objects.get(pk=few.pk)).follow, "observers")
        self.assertContains(
            self.client.post(self.at("/deal"), {**words, "follow": "few"}),
            "one of the two has to lead",
            status_code=422,
        )
        self.assertContains(
            self.client.post(self.at("/deal"), {**words, "whose": "mine"}),
            "can&#x27;t stand in this sentence",
            status_code=422,
        )

    def test_exports_mark_what_a_spreadsheet_would_take_for_a_formula(self) -> None:
        made = self.made("f.csv", b"a,b\n=1+1,x\n@cmd,-2\n")
        plain = b"".join(self.client.get(self.at("/csv", made)).streaming_content).decode()  # type: ignore[arg-type]
        careful = b"".join(
            self.client.get(self.at("/csv", made) + "?for=spreadsheet").streaming_content
        ).decode()  # type: ignore[arg-type]
        self.assertEqual(plain.splitlines(), ["a,b", "=1+1,x", "@cmd,-2"])
        self.assertEqual(careful.splitlines(), ["a,b", "'=1+1,x", "'@cmd,'-2"])

    def test_deleting_asks_for_the_name(self) -> None:
        self.assertContains(
            self.change("delete"), "write its name beside the button", status_code=422
        )  # type: ignore[arg-type]
        self.change("delete", sure="observers")
        self.assertFalse(DataSet.objects.filter(key="observers").exists())
        self.assertTrue(DataBlock.objects.exists())  # runs that froze them still have them

    def test_rows_written_back(self) -> None:
        actions.append_rows(
            self.sample.project, "bookings_made", [{"ref": "1"}, {"ref": "2", "night": "x"}]
        )
        actions.append_rows(self.sample.project, "bookings_made", [{"pin": "9", "ref": "3"}])
        made = DataSet.objects.get(key="bookings_made")
        self.assertEqual(
            (made.columns, self.rows(made), made.secret),
            (["ref", "night", "pin"], [["1", "", ""], ["2", "x", ""], ["3", "", "9"]], ["pin"]),
        )

    def test_recorded_values_become_columns_where_ticked(self) -> None:
        core = content(self.sample.journey)
        page = self.sample.address(f"journeys/{self.sample.journey.pk}/columns")
        ring = self.made("terms.csv", b"term\nmoon\nring\n")
        self.assertEqual(
            matches(core, {"terms.term": {"moon": 0, "ring": 1}}), [("ring", "terms.term", 1)]
        )
        found = occurrences(core, "ring")
        self.assertEqual(
            [each.key for each in found],
            [
                "browse-sky/search-objects/query q",
                "browse-sky/search-objects/check",
            ],  # sent, and expected
        )
        self.assertContains(
            self.client.get(page), 'is in <span class="mono">terms.term</span>, row 2', html=False
        )
        self.client.post(
            page,
            {
                "value": "ring",
                "name": "terms.term",
                "place": [found[0].key],
                "parent": token(self.sample.journey.head),
            },
        )
        self.assertIn("{{ terms.term }}", str(content(self.stored()).find_step("browse-sky")))
        self.assertEqual(put_column(core, "ring", "terms.term", []), core)
        self.assertEqual(ring.key, "terms")
        near = page + "/near"
        self.assertEqual(
            self.client.get(near, {"value": "moon"}).json()["held"], [["terms.term", 1]]
        )
        self.assertEqual(self.client.get(near, {"value": "moo"}).json()["held"], [])
        chosen = self.client.get(page, {"value": "318", "at": "sign-in/post-sign-in"})
        self.assertContains(chosen, "1 place in which it is sent")
        self.assertContains(chosen, "No column has this value")
        self.assertContains(self.client.get(page, {"value": "moon"}), "No request sends “moon”")
        sent = {
            "value": "318",
            "name": "terms.term",
            "place": ["sign-in/post-sign-in/field click_y"],
            "ladder": "1",
            "at": "sign-in/post-sign-in",
            "parent": token(self.stored().head),
        }
        answer = self.client.post(page + "?value=318", {**sent, "name": "terms.nope"})
        self.assertContains(answer, "There is no column terms.nope", status_code=422)
        self.assertTrue(
            self.client.post(page, sent).headers["Location"].endswith("?at=sign-in/post-sign-in")
        )
        self.assertIn(
            ("click_y", "{{ terms.term }}"),
            content(self.stored()).find_step("sign-in").requests[1].body.form,
        )  # type: ignore[union-attr]


class Environments(PageCase):
    def test_secrets_are_sealed_masked_and_open_only_where_they_belong(self) -> None:
        address = self.sample.address(f"environments/{self.sample.environment.pk}/secrets")
        self.client.post(address, {"name": "staff", "text": "fell-secret-1"})
        row = Secret.objects.get()
        self.assertNotIn(b"fell-secret-1", bytes(row.sealed))
        self.assertNotContains(self.client.get(self.sample.address("settings")), "fell-secret-1")
        self.assertContains(self.client.get(self.sample.address("settings")), row.fingerprint)
        self.assertNotIn(
            "fell-secret-1", json.dumps(list(Event.objects.values("what", "subject", "detail")))
        )
        self.assertEqual(
            opened(self.sample.project.pk, self.sample.environment.key, ["staff"]),
            {"staff": "fell-secret-1"},
        )
        fingerprint = row.fingerprint
        environments.set_secret(self.sample.member, self.sample.environment, "staff", "other")
        self.assertNotEqual(Secret.objects.get().fingerprint, fingerprint)
        environments.set_secret(
            self.sample.member, self.sample.environment, "staff", "fell-secret-1"
        )
        self.assertEqual(Secret.objects.get().fingerprint, fingerprint)
        other = environments.create(self.sample.member, "Other")
        Secret.objects.filter(pk=row.pk).update(
            environment=other
        )  # moved in the database: it was not sealed for that
        with self.assertRaises(SealingError):
            opened(self.sample.project.pk, other.key, ["staff"])
        self.assertEqual(
            self.client.post(address, {"name": "not a name", "text": "x"}).status_code, 422
        )

    def test_a_box_opens_for_its_generator_alone(self) -> None:
        mine, other = new_key(), new_key()
        boxed = box({"staff": "s"}, public_of(mine))
        self.assertEqual(unbox(boxed, mine), {"staff": "s"})
        self.assertNotEqual(boxed, box({"staff": "s"}, public_of(mine)))
        for wrong in (boxed[:-1] + b"x", boxed):
            with self.assertRaises(SealingError):
                unbox(wrong, other)

    def test_the_way_is_verified_and_what_was_typed_stays(self) -> None:
        address = self.sample.address(f"environments/{self.sample.environment.pk}/way")
        good = {
            "header-name": ["X-Load-Test", ""],
            "header-value": ["{{ env.observatory }}", ""],
            "trust": "anything",
            "proxy": "http://proxy.example:3128",
        }
        self.assertContains(self.client.post(address, good), "Kept.")
        self.sample.environment.refresh_from_db()
        way = WAY.of(self.sample.environment.way)
        self.assertEqual(
            (way.headers, way.trust), ((("X-Load-Test", "{{ env.observatory }}"),), "anything")
        )
        for change, words in (
            ({"header-name": ["a b"], "header-value": ["x"]}, "can&#x27;t be the name of a header"),
            ({"trust": "these", "authorities": "nonsense"}, "can&#x27;t be read"),
            ({"proxy": "ftp://x"}, "is not a proxy"),
            (
                {"header-name": ["Content-Length"], "header-value": ["3"]},
                "is computed from the body",
            ),
            ({"header-name": ["X"], "header-value": ["{{ ("]}, "is never closed"),
        ):
            with self.subTest(words):
                self.assertContains(
                    self.client.post(address, {**good, **change}), words, status_code=422
                )
        self.sample.environment.refresh_from_db()
        self.assertEqual(WAY.of(self.sample.environment.way), way)

    def test_values_are_kept_as_typed_and_an_environment_is_renamed_and_deleted_by_name(
        self,
    ) -> None:
        address = self.sample.address(f"environments/{self.sample.environment.pk}")
        self.assertContains(
            self.client.post(
                address + "/values", {"name": ["base", ""], "value": ["http://127.0.0.1:9", ""]}
            ),
            "Kept.",
        )
        for names, words in (
            (["1x"], "can&#x27;t be the name of a value"),
            (["base", "base"], "stands there twice"),
        ):
            answer = self.client.post(address + "/values", {"name": names, "value": ["x", "y"]})
            self.assertContains(answer, words, status_code=422)
            self.assertContains(answer, "Not kept yet.", status_code=422)
        self.sample.environment.refresh_from_db()
        self.assertEqual(self.sample.environment.values, {"base": "http://127.0.0.1:9"})
        # the same again is no change
        self.client.post(address + "/values", {"name": ["base"], "value": ["http://127.0.0.1:9"]})
        before = dict(self.sample.environment.values)
        self.client.post(address + "/values", {"name": [], "value": []})
        self.client.post(address, {"what": "undo"})
        self.sample.environment.refresh_from_db()
        self.assertEqual(self.sample.environment.values, before)
        while self.sample.environment.history:  # back to how it was made
            self.client.post(address, {"what": "undo"})
            self.sample.environment.refresh_from_db()
        self.assertEqual(self.sample.environment.values, {})
        self.assertContains(
            self.client.post(address, {"what": "undo"}), "no change of", status_code=422
        )
        self.client.post(address + "/values", {"name": ["base"], "value": ["http://127.0.0.1:9"]})
        key = self.sample.environment.key
        self.client.post(address, {"name": "Staging two"})
        self.sample.environment.refresh_from_db()
        self.assertEqual(
            (self.sample.environment.name, self.sample.environment.key), ("Staging two", key)
        )
        self.assertContains(
            self.client.post(address, {"name": " "}), "needs a name", status_code=422
        )
        self.assertEqual(
            self.client.post(address, {"what": "delete", "sure": "Staging two"}).status_code, 403
        )
        self.client.force_login(self.sample.accounts["ada"])
        self.assertContains(
            self.client.post(address, {"what": "delete", "sure": "no"}),
            "write its name beside",
            status_code=422,
        )
        self.client.post(address, {"what": "delete", "sure": "Staging two"})
        self.assertFalse(Environment.objects.filter(pk=self.sample.environment.pk).exists())
        self.assertContains(
            self.client.get(self.sample.address(f"load/{self.sample.plan.pk}")),
            f"{key} (not there any more)",
        )


class Functions(PageCase):
    def test_only_who_may_writes_them_and_what_cannot_be_read_is_kept(self) -> None:
        address = self.sample.address("functions")
        source = "def total(a, b='1'):\n    return 1\n\ndef _hidden():\n    pass\n"
        self.assertContains(
            self.client.post(address, {"name": "sums", "source": source}),
            "owner gave that right",
            status_code=422,
        )
        self.assertContains(
            self.client.post(address, {"name": "sums", "source": source}),
            "def total",
            status_code=422,
        )  # what was typed is not lost
        Membership.objects.filter(project=self.sample.project, account__username="bran").update(
            may_script=True
        )
        self.client.post(address, {"name": "sums", "source": source})
        self.assertEqual(Module.objects.get().names, ["total"])
        self.client.post(address, {"name": "sums", "source": "def total(:\n"})
        self.assertEqual(
            (Module.objects.get().names, Module.objects.get().problem),
            ([], "line 1: invalid syntax"),
        )
        self.assertContains(self.client.get(address), "def total(:")

        def typed(source: str):  # type: ignore[no-untyped-def]
            sent = {"name": "sums", "source": source}
            return self.client.post(address, sent, headers={"Accept": "application/json"}).json()

        found = typed("def total(a, /, b, *, c='1'):\n    return 1\n\ndef _hidden(x):\n    pass\n")
        self.assertEqual(
            (found["kind"], found["problems"], found["signatures"]),
            ("saved", [], {"sums.total": ["a", "b", "c"]}),
        )
        found = typed("x = 1\ndef total(:\n")
        self.assertEqual(
            (found["kind"], found["problems"], found["signatures"]),
            ("error", [{"line": 2, "column": 1, "message": "invalid syntax"}], {}),
        )
        self.assertIn("Not kept: A module has at most", typed("x" * 200_001)["says"])
        self.client.post(
            address, {"name": "sums", "source": "(" * 100_000}
        )  # read, never run, whatever it is
        self.assertIn("line 1", Module.objects.get().problem)
        began = time.monotonic()
        self.client.post(address, {"name": "sums", "source": "while True: pass"})
        self.assertLess(time.monotonic() - began, 5)
        # one spell of typing
        self.assertEqual(Event.objects.filter(what="functions changed", subject="sums").count(), 1)
        self.assertContains(
            self.client.post(address, {"name": "sums", "what": "delete", "sure": "no"}),
            "write its name beside",
            status_code=422,
        )
        self.assertTrue(Module.objects.exists())
        self.client.post(address, {"name": "sums", "what": "delete", "sure": "sums"})
        self.assertFalse(Module.objects.exists())
        self.client.post(address, {"name": "sums", "what": "agree", "agreed": "1"})
        self.sample.project.refresh_from_db()
        self.assertFalse(self.sample.project.functions_agreed)  # that is the owner's word


class WhatUsersWrite(PageCase):
    """Expressions and patterns are computed in a worker: nothing of them can stop the web."""

    def evaluated(self, text: str, kind: str = "text") -> dict[str, object]:
        return self.client.post(
            self.address("journey-evaluate"), {"text": text, "kind": kind}
        ).json()

    def test_as_you_type(self) -> None:
        self.assertEqual(
            self.evaluated("{{ env.observatory }}/{{ 1 + 1 }}")["value"], "http://127.0.0.1:9/2"
        )
        self.assertEqual(self.evaluated("{{ user.number == 1 }}", "condition")["value"], "holds")
        self.assertEqual(self.evaluated("{{ ['a', 'b'] }}", "list")["value"], "2: a, b")
        found = self.evaluated("night {{ 1 }} and {{ day + }}")
        self.assertEqual((found["start"], found["end"]), (26, 26))  # something is missing there
        self.assertIn("can't be read", str(found["problem"]))

    def test_hostile_ones_end_with_words_while_other_pages_are_fast(self) -> None:
        hostile = [
            "{{ 'a' * 10000000000 }}",
            "{{ 9 ** 999 ** 999 }}",
            "{{ " + "(" * 1500 + " }}",
            "{{ " + "-" * 1900 + "1 }}",
            "{{ " + "[" * 900 + "]" * 900 + " }}",
            (
                "{{ 'x' | pad(10000) | replace('x', 'x' | pad(10000)) | replace('0', '0' | "
                "pad(10000)) | replace('0',"
                " '00000000') }}"
            ),
            "{{ now('%999999999d') }}",
            "{{ ''.__class__.__mro__ }}",
            "{{ a" + " if a else b" * 150 + " }}",
        ]
        for text in hostile:
            with self.subTest(text[:40]):
                began = time.monotonic()
                found = self.evaluated(text)
                self.assertTrue(found["problem"], text[:40])
                self.assertLess(time.monotonic() - began, 9)
                began = time.monotonic()
                self.assertEqual(self.client.get(self.sample.address("journeys")).status_code, 200)
                self.assertLess(time.monotonic() - began, 3)

    def test_they_are_kept_with_their_problem_and_nothing_is_lost(self) -> None:
        address = self.address("journey-edit")
        added = self.client.post(
            address,
            {
                "at": "night",
                "what": "add-item",
                "item": "repeat",
                "parent": token(self.stored().head),
            },
        )
        self.assertContains(added, "so many times")
        for text, words in (
            ("{{ 'a' * }}", "can&#x27;t be read"),
            ("{{ nowhere > 1 }}", "not captured before"),
        ):
            answer = self.client.post(
                address,
                {
                    "at": "repeat",
                    "what": "step",
                    "name": "Again",
                    "think_s": "0",
                    "think": "fixed",
                    "how": "until",
                    "text": text,
                    "parent": token(self.stored().head),
                },
            )
            self.assertContains(answer, words)
            step = content(self.stored()).find_step("repeat")
            assert isinstance(step, Repeating)
            self.assertEqual(step.repeat.until, text)


class Items(PageCase):
    def edit(self, at: str, what: str, **more: object) -> None:
        answer = self.client.post(
            self.address("journey-edit"),
            {"at": at, "what": what, "parent": token(self.stored().head), **more},
        )
        self.assertEqual(answer.status_code, 200, answer.content[:500])

    def shape(self) -> str:
        def one(step):  # type: ignore[no-untyped-def]
            inner = (
                ["(" + " ".join(map(one, slot)) + ")" for slot in step.slots()]
                if step.nests
                else []
            )
            return f"{step.kind}:{step.step}" + "".join(inner)

        return " ".join(one(step) for step in content(self.stored()).rounds)

    def test_put_inside_moved_in_and_out_and_taken_away(self) -> None:
        self.assertIn("choose:detour()(each:each-page(step:wander))", self.shape())
        self.edit("hold", "wrap", item="if")
        self.assertIn("if:if(step:hold)()", self.shape())
        self.edit("if", "branch")
        self.edit("confirm", "into", into="if/1")
        self.assertIn("if:if(step:hold)(step:confirm)()", self.shape())
        self.edit(
            "if",
            "step",
            name="Perhaps",
            think_s="0",
            think="fixed",
            **{"branch-when": ["{{ minutes_before > 14 }}", "{{ round.number > 9 }}", ""]},
        )
        self.edit("confirm", "up")
        self.assertIn("step:confirm if:if(step:hold)()()", self.shape())
        self.edit("if", "branch", branch="1")
        self.edit("if", "unwrap")
        self.assertIn("step:confirm step:hold", self.shape())
        self.edit("wander", "down")
        self.assertIn("each:each-page() step:wander", self.shape())
        self.edit(
            "detour",
            "step",
            name="Detour",
            think_s="0",
            think="fixed",
            choose="evenly",
            **{"branch-weight": ["1", "2.5"], "branch-name": ["a", "b"]},
        )
        step = content(self.stored()).find_step("detour")
        assert step is not None
        self.assertEqual(
            (step.choose, [(each.name, each.weight) for each in step.branches]),
            ("evenly", [("a", 1.0), ("b", 2.5)]),
        )
        self.edit("detour", "duplicate")
        self.assertIn(
            "choose:detour-copy()" if "choose:detour-copy" in self.shape() else "choose:detour-2()",
            self.shape(),
        )
        self.edit("detour", "remove")
        self.assertNotIn("choose:detour(", self.shape())
