"""GraphQL: a document is the page's own code; what stands in its variables, or in itself, is
not.
"""

from unittest import TestCase

from dynamikos.core.correlation import find_strands
from tests.core.correlation.recordings import Tape

QUERY = "query Order($id: ID!) { order(id: $id) { state } }"


class GraphQL(TestCase):
    def test_documents_and_names_are_constant_and_ids_are_found(self) -> None:
        tapes = [Tape("http://desk.example", seed) for seed in (1, 2)]
        for t in tapes:
            number, line = t.hex(12), t.hex(12)
            add = "mutation AddOrder($words: String!) { addOrder(words: $words) { id line } }"
            words = ("good evening", "clear skies")[t.seed - 1]
            t.call(
                "POST",
                "/graphql?op=AddOrder",
                body={"operationName": "AddOrder", "query": add, "variables": {"words": words}},
                gives={"data": {"addOrder": {"id": number, "line": line}}},
            )
            t.call(
                "POST",
                "/graphql?op=Order",
                body={"operationName": "Order", "query": QUERY, "variables": {"id": number}},
                gives={"data": {"order": {"state": "given"}}},
            )
            # written into the document itself
            inline = f'mutation {{ cancel(line: "{line}") {{ state }} }}'
            t.call(
                "POST",
                "/graphql",
                body={"query": inline},
                gives={"data": {"cancel": {"state": "gone"}}},
            )
        found = find_strands([t.exchanges for t in tapes])
        issued = {each.value for each in found if each.kind == "issued" and each.proven}
        self.assertEqual(len(issued), 2, issued)
        self.assertEqual([each.value for each in found if each.kind == "typed"], ["good evening"])
        code = next(each for each in found if each.value == QUERY)
        self.assertEqual(
            (code.kind, code.reasons[-1]), ("constant", "is the page's own code (GraphQL)")
        )
