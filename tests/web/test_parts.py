"""Parts that recur on the pages."""

from types import SimpleNamespace

from django.template import Context, Template
from django.test import SimpleTestCase


class Options(SimpleTestCase):
    """What a select offers, and which of it is chosen."""

    def drawn(self, text: str, **given: object) -> str:
        return Template(text).render(Context(given))

    def test_the_chosen_one_is_selected_whatever_its_type(self) -> None:
        pairs = [(1, "one"), (2, "two & a half")]
        for chosen in (2, "2"):
            self.assertEqual(
                self.drawn("{% options pairs chosen=chosen %}", pairs=pairs, chosen=chosen),
                '<option value="1">one</option>'
                '<option value="2" selected>two &amp; a half</option>',
            )
        none = self.drawn("{% options pairs chosen=nobody.there %}", pairs=pairs)
        self.assertNotIn("selected", none)

    def test_one_that_is_offered_no_more_is_kept_where_that_is_wanted(self) -> None:
        text = '{% options sets chosen="old" value="key" words="name" keep=True %}'
        sets = [SimpleNamespace(key="new", name="New")]
        self.assertEqual(
            self.drawn(text, sets=sets),
            '<option value="old" selected>old (not there any more)</option>'
            '<option value="new">New</option>',
        )
        self.assertNotIn("old", self.drawn(text.replace(" keep=True", ""), sets=sets))
        self.assertNotIn("not there", self.drawn(text.replace('"old"', "nothing"), sets=sets))
