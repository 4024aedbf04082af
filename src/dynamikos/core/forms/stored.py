"""A kind of stored document: its type, the number of today's form, and how earlier forms become
it.
"""

from collections.abc import Callable, Sequence
from typing import Any, Generic, TypeVar

import msgspec
import orjson

from dynamikos.core.errors import DynamikosError

T = TypeVar("T")
Plain = dict[str, Any]
Upgrade = Callable[[Plain], Plain]
FORM, VALUE = "form", "value"


class Unfit(DynamikosError):
    """A stored document that its type does not take."""


class ValidationError(Unfit):
    """A document with something in it, at `path`, that its type does not take."""

    def __init__(self, message: str, path: tuple[str | int, ...]) -> None:
        self.path = path
        super().__init__(message)


class NewerForm(Unfit):
    """A document that a newer version wrote."""

    def __init__(self, name: str, form: int, known: int) -> None:
        self.form = form
        super().__init__(
            f"it is a {name} of form {form}, which a newer version of Dynamikos wrote; this one "
            "reads forms up to"
            f" {known}"
        )


class VersionedCodec(Generic[T]):
    """`upgrades[0]` brings plain data of form 1 to form 2, and so on; a document without a number
    is of form 1.

    What is no mapping (a list of strands) is stored as `{"form": n, "value": …}`. `as_read` makes
    of plain data of today's form what the type takes, where that is not the same, and `as_written`
    the opposite.
    """

    def __init__(
        self,
        name: str,
        type: type[T],
        upgrades: Sequence[Upgrade] = (),
        *,
        as_read: Callable[[Any], Any] = lambda plain: plain,
        as_written: Upgrade = lambda plain: plain,
    ) -> None:
        self.name, self.type, self.upgrades = name, type, tuple(upgrades)
        self.as_read, self.as_written = as_read, as_written
        self.form = len(self.upgrades) + 1
        self._own = FORM in getattr(type, "__struct_fields__", ())  # the type has the number itself
        self._mapping = hasattr(type, "__struct_fields__")

    def upgraded(self, plain: Any) -> Any:
        """Plain data of any form up to today's, as today's. Raises NewerForm, Unfit."""
        if not self._mapping and not (isinstance(plain, dict) and plain.keys() == {FORM, VALUE}):
            plain = {FORM: 1, VALUE: plain}
        if not isinstance(plain, dict):
            return plain
        form = plain.get(FORM, 1)
        if not isinstance(form, int) or isinstance(form, bool) or form < 1:
            return plain  # the type says what is wrong with it
        if form > self.form:
            raise NewerForm(self.name, form, self.form)
        try:
            for upgrade in self.upgrades[form - 1 :]:
                plain = upgrade(dict(plain))
        except (
            msgspec.ValidationError,
            KeyError,
            TypeError,
            ValueError,
            AttributeError,
        ) as problem:
            raise Unfit(f"it is no {self.name} of form {form}: {problem}") from problem
        return {**plain, FORM: self.form} if self.upgrades[form - 1 :] else plain

    def of(self, plain: Any) -> T:
        """The value in plain data, as a JSON column or a worker gives it. Raises Unfit."""
        made = self.upgraded(plain)
        if not self._mapping:
            made = made[VALUE]
        elif isinstance(made, dict) and not self._own:
            made = {name: value for name, value in made.items() if name != FORM}
        try:
            return msgspec.convert(self.as_read(made), self.type)
        except ValidationError as problem:
            where = ".".join(map(str, problem.path))
            raise Unfit(
                f"it is no {self.name} of form {self.form}: {problem} - at `{where}`"
            ) from problem
        except (msgspec.ValidationError, RecursionError) as problem:
            raise Unfit(f"it is no {self.name} of form {self.form}: {problem}") from problem

    def read(self, document: bytes) -> T:
        """The value in a JSON document. Raises Unfit."""
        return self._read(document, orjson.loads)

    def read_packed(self, document: bytes) -> T:
        """The value in a msgpack document. Raises Unfit."""
        return self._read(document, msgspec.msgpack.decode)

    def _read(self, document: bytes, decode: Callable[[bytes], Any]) -> T:
        try:
            plain = decode(document)
        except (ValueError, msgspec.MsgspecError, RecursionError) as problem:
            raise Unfit(f"it can't be read as a {self.name}: {problem}") from problem
        return self.of(plain)

    def plain(self, value: T) -> Plain:
        """A value as plain data with the number of its form."""
        made = self.as_written(msgspec.to_builtins(value))
        return {**made, FORM: self.form} if self._mapping else {FORM: self.form, VALUE: made}

    def packed(self, value: T) -> bytes:
        """A value as a msgpack document with the number of its form."""
        return msgspec.msgpack.encode(self.plain(value))
