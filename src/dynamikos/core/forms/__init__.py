"""Stored documents can grow: each kind has a form number that is read, and functions from one form
to the next.

Every document that outlives a process is read and written by its `VersionedCodec`, which stands
beside its type. A change of a type that older documents don't fit adds a function and a stored
example to `tests/stored/`. Start reading at `stored`.
"""

from dynamikos.core.forms.stored import NewerForm, Unfit, ValidationError, VersionedCodec

__all__ = ["NewerForm", "Unfit", "ValidationError", "VersionedCodec"]
