"""Writes plain values as the YAML that `reader` reads back to the same values."""

import re
from typing import Any

import yaml

from dynamikos.core.text.reader import LITERALS, NUMBER

PLAIN = re.compile(r"[A-Za-z0-9_/.$+-][A-Za-z0-9_ /.$+@()=?;'-]*\Z")
BLOCK = re.compile(
    r"[\x20-\x7e\u00a1-\u2027\u2030-\ud7ff\ue000-\ufdcf\ufdf0-\ufefe\uff00-\uffef\n]*\Z"
)


class _Dumper(yaml.SafeDumper):
    def increase_indent(self, flow: bool = False, indentless: bool = False) -> None:
        super().increase_indent(flow, False)

    def ignore_aliases(self, data: Any) -> bool:
        return True


def _text(dumper: yaml.SafeDumper, value: str) -> yaml.ScalarNode:
    tag = "tag:yaml.org,2002:str"
    if (
        "\n" in value
        and BLOCK.match(value)
        and not value[0].isspace()
        and not value.endswith("\n\n")
        and " \n" not in value
    ):
        return dumper.represent_scalar(tag, value, style="|")
    safe = (
        PLAIN.match(value)
        and value not in LITERALS
        and not NUMBER.match(value)
        and value == value.strip()
    )
    if safe and not value.startswith(("- ", "? ", "---", "...")) and value not in ("-", "?", "~"):
        return dumper.represent_scalar(tag, value, style=None)
    return dumper.represent_scalar(tag, value, style='"')


class _Resolver(_Dumper):
    """Knows no implicit types, so that nothing is quoted or tagged behind our back."""

    yaml_implicit_resolvers: dict[Any, Any] = {}

    def resolve(self, kind: Any, value: Any, implicit: Any) -> Any:
        if kind is yaml.ScalarNode:
            return self.DEFAULT_SCALAR_TAG
        return super().resolve(kind, value, implicit)  # type: ignore[no-untyped-call]


def _bare(dumper: yaml.SafeDumper, value: Any) -> yaml.ScalarNode:
    words = {None: "null", True: "true", False: "false"}
    text = words[value] if value is None or isinstance(value, bool) else _number(value)
    return dumper.represent_scalar("tag:yaml.org,2002:str", text, style=None)


def _number(value: float) -> str:
    if isinstance(value, int):
        return str(value)
    text = repr(value)
    return text if "." in text or "e" not in text else text.replace("e", ".0e", 1)


_Resolver.add_representer(str, _text)
for _kind in (type(None), bool, int, float):
    _Resolver.add_representer(_kind, _bare)


def write(value: Any) -> str:
    """`value` (dicts, lists, texts, numbers, booleans, None) as text; keys keep their order."""
    return yaml.dump(
        value,
        Dumper=_Resolver,
        sort_keys=False,
        allow_unicode=True,
        width=1 << 20,
        default_flow_style=False,
    )
