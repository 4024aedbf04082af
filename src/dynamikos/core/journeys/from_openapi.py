"""Requests from an OpenAPI 3 description: chosen operations, with examples from the description or
made from its schemas.
"""

import json
import re
from collections.abc import Collection, Iterator
from typing import Any
from urllib.parse import quote, urljoin, urlsplit

import msgspec
import yaml

from dynamikos.core.checks import Check
from dynamikos.core.errors import ImportRefused
from dynamikos.core.figures import digits
from dynamikos.core.journeys.kinds import Sending, Step
from dynamikos.core.journeys.model import Journey, key_from
from dynamikos.core.journeys.request import Authorization, Body, Client, FormPart, Login, Request

METHODS = ("get", "post", "put", "patch", "delete", "head", "options")
MAX_BYTES, MAX_DEPTH, MAX_VALUES = 8_000_000, 12, 2000
FORMATS: dict[str, str] = {
    "date": "2027-02-01",
    "date-time": "2027-02-01T20:15:00Z",
    "time": "20:15:00Z",
    "email": "observer@observers.example",
    "hostname": "observers.example",
    "ipv4": "192.0.2.1",
    "ipv6": "2001:db8::1",
    "uri": "https://observers.example/",
    "url": "https://observers.example/",
    "byte": "c2t5",
    "password": "secret",
    "uuid": "6f1c1d5e-8d0a-4b7e-9a53-2f6c0d1e4b7a",
    "binary": "sky",
}
Node = dict[str, Any]


class Operation(msgspec.Struct, frozen=True, kw_only=True):
    """One operation: "GET /skies/{id}", the words for it, the group it is in, whether it only
    reads.
    """

    key: str
    summary: str
    group: str
    reads: bool


def _listed(schema: Node, name: str) -> list[Any]:
    """What a schema lists under a name; empty where it lists nothing."""
    found = schema.get(name)
    return found if isinstance(found, list) else []


def _number_in(schema: Node) -> Any:
    """The least that a schema allows, or 1."""
    low = schema.get("minimum", schema.get("exclusiveMinimum"))
    value = low if isinstance(low, (int, float)) and not isinstance(low, bool) else 1
    exclusive = schema.get("exclusiveMinimum")
    if exclusive is not None and exclusive is not False:  # a number, or true (of older documents)
        value += 1
    high = schema.get("maximum")
    return high if isinstance(high, (int, float)) and value > high else value


class _Given:
    """The parameters of a request, as they are put into it."""

    def __init__(self, path: str) -> None:
        self.path = path
        self.query: list[tuple[str, str]] = []
        self.headers: list[tuple[str, str]] = []
        self.cookies: list[str] = []

    def take(self, where: str, name: str, value: Any) -> None:
        """One of them. Headers that are made of other things than parameters are left out."""
        several = value if isinstance(value, list) else [value]
        if where == "path":
            text = ",".join(map(_text, several))
            self.path = self.path.replace("{" + name + "}", quote(text, safe=""))
        elif where == "query":
            self.query.extend((name, _text(each)) for each in several)
        elif where == "cookie":
            self.cookies.append(f"{name}={_text(value)}")
        elif where == "header" and name.lower() not in OTHERS:
            self.headers.append((name, _text(value)))


OTHERS = ("accept", "content-type", "authorization")  # headers that no parameter says (OpenAPI)


class Description:
    """A parsed description. Raises ImportRefused that says what is wrong and what to do."""

    def __init__(self, data: bytes, name: str = "the description") -> None:
        if len(data) > MAX_BYTES:
            raise ImportRefused(
                f"{name} has {len(data):,} bytes; a description of at most {MAX_BYTES:,} can be "
                "read."
            )
        try:
            text = data.decode("utf-8-sig")
        except UnicodeDecodeError as problem:
            raise ImportRefused(
                f"{name} is not UTF-8 text (byte {problem.start:,}); save it as UTF-8."
            ) from problem
        try:
            found = (
                json.loads(text)
                if text.lstrip()[:1] == "{"
                else yaml.load(text, Loader=yaml.CSafeLoader)
            )
        except json.JSONDecodeError as problem:
            raise ImportRefused(
                f"{name} is not JSON: line {problem.lineno}, column {problem.colno}: {problem.msg}."
            ) from problem
        except yaml.YAMLError as problem:
            mark = getattr(problem, "problem_mark", None)
            where = f": line {mark.line + 1}, column {mark.column + 1}" if mark is not None else ""
            raise ImportRefused(
                f"{name} is not YAML{where}: {getattr(problem, 'problem', None) or problem}."
            ) from problem
        except (RecursionError, ValueError) as problem:
            raise ImportRefused(f"{name} can't be read: {problem}") from problem
        if not isinstance(found, dict):
            raise ImportRefused(
                f"{name} is not an OpenAPI description: it holds {type(found).__name__}, not an "
                "object with `openapi`"
                " and `paths`."
            )
        version = str(found.get("openapi", ""))
        if not version.startswith("3."):
            old = (
                f"says version {found['swagger']} (`swagger`)"
                if "swagger" in found
                else f"says version '{version}'"
                if version
                else "has no `openapi` version"
            )
            raise ImportRefused(
                f"{name} {old}; versions 3.0 and 3.1 can be read. Convert it to version 3 first."
            )
        if not isinstance(found.get("paths"), dict) or not found["paths"]:
            raise ImportRefused(f"{name} has no `paths`, so there is no operation to choose.")
        self.document: Node = found
        self.title = (
            str((found.get("info") or {}).get("title") or name)
            if isinstance(found.get("info"), dict)
            else name
        )

    # reading --------------------------------------------------------------------------------------

    def resolve(self, node: Any, seen: tuple[str, ...] = ()) -> Node:
        """`node` with a local $ref followed.

        Raises ImportRefused for one that leads nowhere, outside or in a circle.
        """
        if not isinstance(node, dict):
            return {}
        ref = node.get("$ref")
        if not isinstance(ref, str):
            return node
        if not ref.startswith("#/"):
            raise ImportRefused(
                f"The reference '{ref}' leads to another file; only references inside the "
                "description can be followed."
                " Bundle it into one file."
            )
        if ref in seen:
            raise ImportRefused(f"The reference '{ref}' leads back to itself.")
        found: Any = self.document
        for part in ref[2:].split("/"):
            part = part.replace("~1", "/").replace("~0", "~")
            if not isinstance(found, dict) or part not in found:
                raise ImportRefused(f"The reference '{ref}' leads nowhere: there is no '{part}'.")
            found = found[part]
        return self.resolve(found, (*seen, ref))

    def _each(self) -> Iterator[tuple[str, str, Node, Node]]:
        """(path, method, operation, path item)."""
        for path, item in self.document["paths"].items():
            item = self.resolve(item)
            for method in METHODS:
                if isinstance(item.get(method), dict):
                    yield str(path), method, item[method], item

    def operations(self) -> list[Operation]:
        made = []
        for path, method, operation, _ in self._each():
            tags = operation.get("tags")
            group = (
                str(tags[0])
                if isinstance(tags, list) and tags
                else path.strip("/").partition("/")[0]
            )
            summary = str(operation.get("summary") or operation.get("operationId") or "")
            made.append(
                Operation(
                    key=f"{method.upper()} {path}",
                    summary=summary,
                    group=group,
                    reads=method in ("get", "head", "options"),
                )
            )
        if not made:
            raise ImportRefused("The description has paths but no operation such as get or post.")
        return made

    def base(self) -> str:
        """The first server's address with its variables' defaults; "" when it gives none or a
        relative one.
        """
        servers = self.document.get("servers")
        server = (
            servers[0]
            if isinstance(servers, list) and servers and isinstance(servers[0], dict)
            else {}
        )
        url = str(server.get("url", ""))
        variables = server.get("variables")
        for name, variable in (variables if isinstance(variables, dict) else {}).items():
            url = url.replace("{" + str(name) + "}", str((variable or {}).get("default", "")))
        return url.rstrip("/") if urlsplit(url).scheme in ("http", "https") else ""

    # examples -------------------------------------------------------------------------------------

    def example(
        self,
        schema: Any,
        depth: int = 0,
        budget: list[int] | None = None,
        above: tuple[str, ...] = (),
    ) -> Any:
        """A value that fits `schema` (JSON Schema as OpenAPI uses it); None where it would go round
        in a circle.
        """
        budget = budget if budget is not None else [MAX_VALUES]
        budget[0] -= 1
        ref = schema.get("$ref") if isinstance(schema, dict) else None
        if isinstance(ref, str):
            if ref in above:
                return None
            above = (*above, ref)
        schema = self.resolve(schema)
        for name in ("example", "default", "const"):
            if name in schema:
                return schema[name]
        for name in ("examples", "enum"):
            if _listed(schema, name):
                return schema[name][0]
        if depth > MAX_DEPTH or budget[0] < 0:
            return None
        if isinstance(schema.get("allOf"), list):
            return self._all_of(schema, depth, budget, above)
        for name in ("oneOf", "anyOf"):
            if choices := _listed(schema, name):
                real = (each for each in choices if self.resolve(each).get("type") != "null")
                return self.example(next(real, choices[0]), depth + 1, budget, above)
        return self._by_type(schema, depth, budget, above)

    def _all_of(self, schema: Node, depth: int, budget: list[int], above: tuple[str, ...]) -> Any:
        """Objects are put together; of anything else the last one counts."""
        merged: Any = {}
        rest = {name: each for name, each in schema.items() if name in ("type", "properties")}
        for each in [*schema["allOf"], *([rest] if rest else [])]:
            part = self.example(each, depth + 1, budget, above)
            if isinstance(merged, dict) and isinstance(part, dict):
                merged = {**merged, **part}
            elif part is not None:
                merged = part
        return merged

    def _by_type(self, schema: Node, depth: int, budget: list[int], above: tuple[str, ...]) -> Any:
        kind = schema.get("type")
        if isinstance(kind, list):
            kind = next((each for each in kind if each != "null"), "null")
        properties = schema.get("properties")
        if kind == "object" or (kind is None and isinstance(properties, dict)):
            return self._object(schema, depth, budget, above)
        if kind == "array":
            one = self.example(schema.get("items") or {}, depth + 1, budget, above)
            return [one] * max(1, min(5, int(schema.get("minItems") or 1)))
        if kind in ("integer", "number"):
            number = _number_in(schema)
            return int(number) if kind == "integer" else number
        if kind in ("boolean", "null"):
            return True if kind == "boolean" else None
        text = FORMATS.get(str(schema.get("format", "")), "text")
        least, most = int(schema.get("minLength") or 0), schema.get("maxLength")
        text = text.ljust(least, "x")
        return text[: int(most)] if isinstance(most, int) else text

    def _object(self, schema: Node, depth: int, budget: list[int], above: tuple[str, ...]) -> Any:
        """What a client may send of one; required properties also where nothing fits."""
        properties, made = schema.get("properties"), {}
        for name, each in (properties if isinstance(properties, dict) else {}).items():
            if self.resolve(each).get("readOnly"):
                continue
            value = self.example(each, depth + 1, budget, above) if budget[0] > 0 else None
            if value is not None or name in (schema.get("required") or ()):
                made[str(name)] = value
        return made

    def _given(self, holder: Node) -> Any:
        """The example of a parameter or of a media type: its own, the first of its named ones, else
        one that fits its schema.
        """
        if "example" in holder:
            return holder["example"]
        named = holder.get("examples")
        if isinstance(named, dict) and named:
            first = self.resolve(next(iter(named.values())))
            if "value" in first:
                return first["value"]
        return self.example(holder.get("schema") or {})

    # requests -------------------------------------------------------------------------------------

    def journey(self, name: str, chosen: Collection[str], base: str) -> Journey:
        """A journey with a step for each chosen operation ("GET /skies/{id}"); `base` stands before
        each path ("{{ env.target }}").

        Raises ImportRefused when nothing is chosen.
        """
        steps: list[Step] = []
        for path, method, operation, item in self._each():
            key = f"{method.upper()} {path}"
            if key not in chosen:
                continue
            words = str(operation.get("summary") or operation.get("operationId") or key)[:120]
            step_key = key_from(words, {step.step for step in steps})
            steps.append(
                Sending(
                    step=step_key,
                    name=words,
                    think_s=1.0,
                    requests=(self._request(path, method, operation, item, base),),
                )
            )
        if not steps:
            raise ImportRefused(
                "No operation is chosen, so nothing would be left. Tick those that the journey "
                "shall perform."
            )
        return Journey(
            form=1,
            journey=key_from(name),
            name=name,
            rounds=tuple(steps),
            authorization=self._authorization(self.document.get("security"), base),
        )

    def _request(self, path: str, method: str, operation: Node, item: Node, base: str) -> Request:
        given = _Given(path)
        for (where, name), parameter in self._parameters(item, operation).items():
            content = parameter.get("content")
            value = self._given(next(iter(content.values())) if content is not None else parameter)
            is_wanted = parameter.get("required") or parameter.keys() & {"example", "examples"}
            if where == "path" or is_wanted:
                given.take(where, name, value)
        headers, query = given.headers, given.query
        if given.cookies:
            headers.append(("Cookie", "; ".join(given.cookies)))
        proof = None
        if "security" in operation:
            proof = self._authorization(operation["security"], base)
            if proof is None and not operation["security"]:
                proof = Authorization(none=True)
        for where, pair in self._keys(operation.get("security", self.document.get("security"))):
            (headers if where == "header" else query).append(pair)
        return Request(
            request=key_from(f"{method}-{re.sub(r'[{}]', '', given.path)}"),
            method=method.upper(),
            address=base + given.path.replace("{{", "%7B%7B"),
            query=tuple(query),
            headers=tuple(headers),
            body=self._body(operation),
            authorization=proof,
            checks=self._checks(operation),
            note=str(operation.get("description") or "")[:400].strip(),
        )

    def _parameters(self, *holders: Node) -> dict[tuple[str, str], Node]:
        """By (where, name); an operation's own go before those of its path."""
        found: dict[tuple[str, str], Node] = {}
        for holder in holders:
            for each in holder.get("parameters") or ():
                known = self.resolve(each)
                found[(str(known.get("in", "")), str(known.get("name", "")))] = known
        return found

    def _body(self, operation: Node) -> Body | None:
        content = self.resolve(operation.get("requestBody")).get("content")
        if not isinstance(content, dict) or not content:
            return None
        preferred = ("application/json", "application/x-www-form-urlencoded", "multipart/form-data")
        kind = next(
            (each for each in preferred if each in content),
            next((each for each in content if "json" in each), next(iter(content))),
        )
        media = self.resolve(content[kind])
        value = self._given(media)
        if "json" in kind:
            text = json.dumps(value, ensure_ascii=False, indent=1).replace("{{", "{ {")
            return Body(json=text, type="" if kind == "application/json" else kind)
        fields = (
            [(str(name), _text(each)) for name, each in value.items()]
            if isinstance(value, dict)
            else []
        )
        if kind == "application/x-www-form-urlencoded":
            return Body(form=tuple(fields))
        if kind == "multipart/form-data":
            properties = self.resolve(media.get("schema")).get("properties") or {}
            files = {
                name
                for name, each in properties.items()
                if self.resolve(each).get("format") == "binary"
                or "contentMediaType" in self.resolve(each)
            }
            return Body(
                parts=tuple(
                    FormPart(name=name, value=each, file=f"{name}.txt" if name in files else "")
                    for name, each in fields
                )
            )
        return Body(raw=_text(value), type=kind)

    @staticmethod
    def _checks(operation: Node) -> tuple[Check, ...]:
        codes = [str(code) for code in operation.get("responses") or {}]
        good = next(
            (code for code in map(digits, codes) if code is not None and 200 <= code < 300), 0
        )
        return (Check(status=good),) if good else ()

    def _schemes(self, security: Any) -> Iterator[tuple[Node, list[str]]]:
        """(scheme, scopes) of the first alternative of a security requirement."""
        if not isinstance(security, list) or not security or not isinstance(security[0], dict):
            return
        known = (self.document.get("components") or {}).get("securitySchemes") or {}
        for name, scopes in security[0].items():
            yield self.resolve(known.get(name)), [str(each) for each in scopes or ()]

    def _authorization(self, security: Any, base: str) -> Authorization | None:
        for scheme, scopes in self._schemes(security):
            kind, how = scheme.get("type"), str(scheme.get("scheme", "")).lower()
            if kind == "http" and how in ("basic", "digest"):
                login = Login(user="{{ env.user }}", password="{{ env.password }}")
                return Authorization(basic=login) if how == "basic" else Authorization(digest=login)
            flow = (
                (scheme.get("flows") or {}).get("clientCredentials") if kind == "oauth2" else None
            )
            if isinstance(flow, dict):
                url = str(flow.get("tokenUrl", ""))
                address = url if urlsplit(url).scheme else base + urljoin("/", url)
                return Authorization(
                    client=Client(
                        address=address,
                        id="{{ env.client }}",
                        secret="{{ env.client_secret }}",
                        scope=" ".join(scopes),
                    )
                )
            if (kind == "http" and how == "bearer") or kind in ("oauth2", "openIdConnect"):
                return Authorization(bearer="{{ env.token }}")
        return None

    def _keys(self, security: Any) -> Iterator[tuple[str, tuple[str, str]]]:
        """API keys: ("header" or "query", (name, hole))."""
        for scheme, _ in self._schemes(security):
            if scheme.get("type") == "apiKey" and scheme.get("in") in ("header", "query"):
                yield str(scheme["in"]), (str(scheme.get("name", "key")), "{{ env.key }}")


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if value is None:
        return ""
    if isinstance(value, (dict, list)):
        return json.dumps(value, ensure_ascii=False).replace("{{", "{ {")
    return str(value).replace("{{", "{ {")
