"""What performs a step that sends no requests."""


class Item:
    """Made by an `ItemOf`. `secret`: whether any of it comes from a secret."""

    secret: bool = False
