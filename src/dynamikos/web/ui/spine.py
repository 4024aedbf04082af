"""The spine: the places of a project in the order of the work, each with one live figure. Apps
register theirs.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

REGISTRY: list[tuple[int, str, str, Callable[[Any], str]]] = []


@dataclass(frozen=True, slots=True)
class Place:
    name: str
    address: str
    figure: str
    here: bool


def register(order: int, name: str, segment: str, figure: Callable[[Any], str]) -> None:
    """`figure` is given the membership and returns one short sentence."""
    REGISTRY.append((order, name, segment, figure))
    REGISTRY.sort(key=lambda row: row[0])


def places(member: Any, path: str) -> list[Place]:
    root = f"/p/{member.project_id}/"
    return [
        Place(name, root + segment, figure(member), path.startswith(root + segment))
        for _, name, segment, figure in REGISTRY
    ]
