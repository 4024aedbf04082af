"""Operations of an OpenAPI 3 description as requests; what comes out fits the description's own
schemas.
"""

import json
from unittest import TestCase

import jsonschema

from dynamikos.core.errors import ImportRefused
from dynamikos.core.journeys import parse_journey, write_journey
from dynamikos.core.journeys.from_openapi import Description

HOLD = {
    "type": "object",
    "required": ["slot", "minutes"],
    "properties": {
        "slot": {"type": "string", "format": "uuid"},
        "minutes": {"type": "integer", "minimum": 15, "maximum": 60},
        "id": {"type": "string", "readOnly": True},
        "tags": {"type": "array", "minItems": 2, "items": {"enum": ["dim", "bright"]}},
        "who": {"$ref": "#/components/schemas/Person"},
        "sky": {"oneOf": [{"type": "null"}, {"type": "string", "minLength": 6}]},
        "rate": {"type": "number", "exclusiveMinimum": 0, "maximum": 0.5},
    },
}
PERSON = {
    "allOf": [
        {"type": "object", "properties": {"name": {"type": "string", "example": "Una Fell"}}},
        {"properties": {"friend": {"$ref": "#/components/schemas/Friend"}}},
    ]
}
DOCUMENT = {
    "openapi": "3.1.0",
    "info": {"title": "Sky desk"},
    "servers": [{"url": "https://{site}.example/v1/", "variables": {"site": {"default": "sky"}}}],
    "security": [{"desk": ["plan", "book"]}],
    "paths": {
        "/skies/{id}": {
            "parameters": [
                {
                    "name": "id",
                    "in": "path",
                    "required": True,
                    "schema": {"type": "string", "default": "ly ra"},
                }
            ],
            "get": {
                "summary": "One sky",
                "tags": ["sky"],
                "parameters": [
                    {
                        "name": "page",
                        "in": "query",
                        "required": True,
                        "schema": {"type": "integer"},
                    },
                    {"name": "more", "in": "query", "schema": {"type": "string"}},
                    {"name": "tag", "in": "query", "examples": {"two": {"value": ["a", "b"]}}},
                    {"name": "X-Desk", "in": "header", "required": True, "example": "north"},
                ],
                "responses": {"404": {}, "200": {}},
            },
        },
        "/holds": {
            "post": {
                "operationId": "hold",
                "requestBody": {
                    "content": {
                        "text/plain": {},
                        "application/json": {"schema": {"$ref": "#/components/schemas/Hold"}},
                    }
                },
                "responses": {"201": {}},
            }
        },
        "/pictures": {
            "post": {
                "security": [{"key": []}],
                "requestBody": {
                    "content": {
                        "multipart/form-data": {
                            "schema": {
                                "properties": {
                                    "title": {"type": "string"},
                                    "file": {"type": "string", "format": "binary"},
                                }
                            }
                        }
                    }
                },
            }
        },
        "/open": {"get": {"security": [], "description": "No proof needed"}},
    },
    "components": {
        "schemas": {
            "Hold": HOLD,
            "Person": PERSON,
            "Friend": {
                "type": "object",
                "properties": {"of": {"$ref": "#/components/schemas/Person"}},
            },
        },
        "securitySchemes": {
            "desk": {
                "type": "oauth2",
                "flows": {"clientCredentials": {"tokenUrl": "/token", "scopes": {}}},
            },
            "key": {"type": "apiKey", "in": "header", "name": "X-Key"},
        },
    },
}


class Operations(TestCase):
    def setUp(self) -> None:
        self.found = Description(json.dumps(DOCUMENT).encode())

    def test_listed_with_what_they_do(self) -> None:
        rows = [
            (each.key, each.summary, each.group, each.reads) for each in self.found.operations()
        ]
        self.assertEqual(rows[0], ("GET /skies/{id}", "One sky", "sky", True))
        self.assertEqual(rows[1], ("POST /holds", "hold", "holds", False))
        self.assertEqual(self.found.base(), "https://sky.example/v1")

    def test_requests_and_their_values(self) -> None:
        journey = self.found.journey(
            "Desk", {each.key for each in self.found.operations()}, "{{ env.target }}/v1"
        )
        self.assertEqual(parse_journey(write_journey(journey)), journey)
        sky, hold, picture, free = (step.requests[0] for step in journey.rounds)
        self.assertEqual((sky.method, sky.address), ("GET", "{{ env.target }}/v1/skies/ly%20ra"))
        self.assertEqual(sky.query, (("page", "1"), ("tag", "a"), ("tag", "b")))
        self.assertEqual(sky.headers, (("X-Desk", "north"),))
        self.assertEqual(sky.checks[0].status, 200)
        assert hold.body is not None and hold.body.json is not None and picture.body is not None
        sent = json.loads(hold.body.json)
        self.assertNotIn("id", sent)
        self.assertEqual(sent["who"]["name"], "Una Fell")
        whole = {**HOLD, "components": DOCUMENT["components"]}
        whole["properties"] = {
            name: each for name, each in HOLD["properties"].items() if name != "who"
        }  # its circle is cut off at some depth
        jsonschema.validate(sent, whole)
        self.assertEqual(
            [(part.name, part.file) for part in picture.body.parts or ()],
            [("title", ""), ("file", "file.txt")],
        )
        self.assertEqual(picture.headers, (("X-Key", "{{ env.key }}"),))
        assert (
            journey.authorization is not None
            and journey.authorization.client is not None
            and free.authorization is not None
        )
        self.assertEqual(
            (journey.authorization.client.address, journey.authorization.client.scope),
            ("{{ env.target }}/v1/token", "plan book"),
        )
        self.assertTrue(free.authorization.none)
        self.assertIsNone(sky.authorization)

    def test_yaml_is_read_too(self) -> None:
        found = Description(b"openapi: 3.0.3\npaths:\n  /a:\n    get: {responses: {'204': {}}}\n")
        journey = found.journey("A", {"GET /a"}, "http://127.0.0.1:1")
        self.assertEqual(journey.rounds[0].requests[0].checks[0].status, 204)

    def test_what_is_wrong_is_said(self) -> None:
        for data, words in (
            (b"", "holds NoneType"),
            (b"{", "not JSON: line 1, column 2"),
            (b"a: [", "not YAML: line"),
            (b"\xff", "not UTF-8"),
            (b'{"swagger": "2.0"}', "version 2.0"),
            (b'{"openapi": "3.0.0"}', "no `paths`"),
            (b'{"openapi": "3.0.0", "paths": {"/a": {}}}', "no operation"),
            (b"- a", "holds list"),
        ):
            with self.assertRaises(ImportRefused) as caught:
                Description(data).operations()
            self.assertIn(words, str(caught.exception))
        for ref, words in (
            ("#/nowhere", "leads nowhere"),
            ("other.yaml#/a", "another file"),
            ("#/paths/~1a", "leads back to itself"),
        ):
            with self.assertRaises(ImportRefused) as caught:
                Description(
                    json.dumps({"openapi": "3.0.0", "paths": {"/a": {"$ref": ref}}}).encode()
                ).operations()
            self.assertIn(words, str(caught.exception))
        with self.assertRaises(ImportRefused):
            self.found.journey("A", set(), "http://a")
