"""Users of a shard at one moment, for whoever watches a run: those that fail first, and those that
are followed.
"""

import msgspec


class UserNow(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """One virtual user. `row` is the number of its row; `failures` its requests that failed,
    `failure` the kind of the last one, `ago_s` seconds since then; `waits_s` how long its step at
    hand has been under way, 0 where none is. Values, masked, and rows dealt are only those of users
    that are followed.
    """

    number: int
    row: int
    state: str
    step: str = ""
    round: int = 0
    failures: int = 0
    failure: str = ""
    ago_s: float = 0.0
    waits_s: float = 0.0
    values: dict[str, str] = {}
    rows: dict[str, int] = {}


class Present(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """`second` of the run; how many `users` there are and how many of them are `failing`; some of
    them.
    """

    second: int
    users: int
    failing: int
    shown: list[UserNow] = []
