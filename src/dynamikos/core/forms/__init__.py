"""Stored documents can grow: each kind has a form number that is read, and functions from one form to the next.

Every document that outlives a process is read and written by its `Stored`, which stands beside its type. A change of a
type that older documents don't fit adds a function and a stored example to `tests/stored/`. Start reading at `stored`.
"""

from dynamikos.core.forms.stored import Misfit, NewerForm, Stored, Unfit

__all__ = ["Misfit", "NewerForm", "Stored", "Unfit"]
