"""The number of a record in the names of fields: "image-7-title" belongs to the picture 7."""

from collections.abc import Callable
from unittest import TestCase

from msgspec.structs import replace

from dynamikos.core.correlation import Strand, accept, find_strands
from dynamikos.core.correlation.placing import changed_request, is_name
from dynamikos.core.exchanges import Exchange, Recording, Sent
from dynamikos.core.exchanges.form_names import form_names
from dynamikos.core.journeys import Body, FormPart, Journey, Request
from dynamikos.core.journeys.from_recording import journey_from
from tests.core.correlation.recordings import Tape

BASE = "http://desk.example"


def picture(seed: int, *, names: Callable[[str], str]) -> list[Exchange]:
    """A picture is sent, then its title under a name that `names` makes of its number."""
    t = Tape(BASE, seed)
    number = t.must(str(4170 + seed * 913))
    t.call("POST", "/pictures", body={"file": "x"}, gives={"id": number})
    title = {
        f"{names(number)}": f"View {'of the sea' if seed == 1 else 'over land'}",
        "form-0": "a",
    }
    t.call("POST", f"/pictures/{number}/title", form=title, page="kept")
    return t.exchanges


def found(names: Callable[[str], str]) -> tuple[list[Strand], Journey, list[Exchange]]:
    tapes = [picture(seed, names=names) for seed in (1, 2)]
    journey = journey_from(Recording(exchanges=tuple(tapes[0]), pages={}), "J", [BASE])
    return find_strands(tapes), journey, tapes[0]


class Names(TestCase):
    def test_the_number_is_put_into_the_name_and_the_title_still_finds_its_field(self) -> None:
        strands, journey, exchanges = found(lambda number: f"image-{number}-title")
        number = next(each for each in strands if each.kind == "issued")
        self.assertIn("name image-5083-title", [use.place for use in number.uses])
        typed = next(each for each in strands if each.value == "View of the sea")
        columns = {typed.name: "views.title"}
        for chosen in ((number, typed), (typed, number)):
            made = journey
            for each in chosen:  # one after the other, as by hand
                changed = accept(made, [each], exchanges, columns=columns)
                self.assertEqual(changed.left, ())
                made = changed.journey
            form = [r.body.form for _, r in made.requests() if r.body is not None and r.body.form]
            name = f"image-{{{{ {number.name} }}}}-title"
            self.assertEqual(form, [((name, "{{ views.title }}"), ("form-0", "a"))])

    def test_a_name_that_stays_is_none(self) -> None:
        """Also where it holds the first recording's number by chance."""
        for names in (lambda number: "title", lambda number: "image-5083-title"):
            strands, _, _ = found(names)
            places = [use.place for each in strands for use in each.uses]
            self.assertFalse([place for place in places if place.startswith("name ")])

    def test_names_of_empty_fields_and_of_files_count_too(self) -> None:
        lines = (
            'form-data; name="image-7-title"',
            'form-data; name="image-7-file"; filename="name.png"',
            'form-data; filename="b.png"; name="image-7-late"',
        )
        body = "".join(f"--x\r\nContent-Disposition: {line}\r\n\r\n\r\n" for line in lines)
        kind = (("content-type", "multipart/form-data; boundary=x"),)
        sent = Sent(method="POST", url=BASE, headers=kind, body=f"{body}--x--".encode())
        names = ["image-7-title", "image-7-file", "image-7-late"]
        self.assertEqual(form_names(Exchange(sent=sent)), names)
        plain = replace(sent, headers=(("Content-Type", "application/x-www-form-urlencoded"),))
        plain = replace(plain, body=b"row-1=&row-2=a&row-1=b")
        self.assertEqual(form_names(Exchange(sent=plain)), ["row-1", "row-2"])
        self.assertEqual(form_names(Exchange(sent=replace(plain, headers=()))), [])

    def test_one_recording_proves_nothing(self) -> None:
        tape = picture(1, names=lambda number: f"image-{number}-title")
        uses = [use.place for each in find_strands([tape]) for use in each.uses]
        self.assertFalse([place for place in uses if place.startswith("name ")])

    def test_names_with_holes(self) -> None:
        self.assertTrue(is_name("image-{{ n }}-title", "image-7-title"))
        self.assertFalse(is_name("image-{{ n }}-title", "image-7-text"))
        self.assertFalse(is_name("title", "title2"))
        part = FormPart(name="image-7-title", value="View")
        request = Request(request="r", address="/", body=Body(parts=(part,)))
        made = changed_request(request, "name image-7-title", "7", "n")
        assert made.body is not None and made.body.parts is not None
        self.assertEqual(made.body.parts[0].name, "image-{{ n }}-title")
        made = changed_request(made, "field image-7-title", "View", "view")
        assert made.body is not None and made.body.parts is not None
        self.assertEqual(made.body.parts[0].value, "{{ view }}")
