"""Accepting strands."""


class Accepted:
    pass


def accept() -> None:
    pass
