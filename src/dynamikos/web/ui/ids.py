"""Ids in addresses are UUIDv7: sortable by time, never guessable by counting."""

import uuid

from uuid_utils.compat import uuid7


def new_id() -> uuid.UUID:
    return uuid7()
